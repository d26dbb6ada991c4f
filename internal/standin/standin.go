// Package standin is a small mail service that behaves as an estate says, for
// rehearsals: it takes mail over SMTP, judges it, holds it, hands out copies and
// digests, and shows every mailbox over IMAP. It serves the estate over SCIM, and
// takes changes of its groups. It can be told to misbehave.
//
// It listens on this machine only, unless its options say otherwise, and hands
// nothing on to anybody else: the world outside is part of it.
package standin

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-smtp"
	"golang.org/x/net/netutil"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/localfile"
)

// The bounds of the service.
const (
	maxConnections = 256 // at each port
	maxMessage     = 25 << 20
	maxRecipients  = 100
	maxBoxes       = 200_000        // mailboxes of the world outside, which come up as they are written to
	maxQueue       = 200_000        // messages that wait
	patience       = time.Minute    // with a silent client
	hopLimit       = 10             // forwardings of one message
	idleRefresh    = time.Second    // how often waiting mail is looked through
	dayLength      = 24 * time.Hour // between digests, by default
)

// Options say how the service is to be.
type Options struct {
	Estate *estate.Estate
	// Host is the address to listen at, 127.0.0.1 by default. The ports are any
	// that are free where they are 0.
	Host                             string
	Outside, Submission, Submissions int       // SMTP: the world, STARTTLS, implicit TLS
	IMAP, IMAPS                      int       // STARTTLS, implicit TLS
	SCIM                             int       // HTTP, with TLS where Host is not this machine itself
	Dir                              string    // keeps mail there; "" keeps it in memory
	Secret                           string    // the password of everybody; one login more is Master
	Log                              io.Writer // a JSON line for each step of a message; nil: none
	Faults                           *Faults   // how it misbehaves; nil: not at all
	DigestEvery                      time.Duration
	Now                              func() time.Time // the service's clock; nil: the real one
	// CertificateFile is where to write the certificate of its own authority; "" for nowhere.
	CertificateFile string
}

// Master is the login that may open every mailbox, by authorisation identity
// (RFC 4616).
const Master = "keeper"

// Ready says how to reach a service that listens.
type Ready struct {
	Outside     string `json:"outside"`     // SMTP for the world outside, host:port
	Submission  string `json:"submission"`  // SMTP with STARTTLS and a login
	Submissions string `json:"submissions"` // the same with implicit TLS
	IMAP        string `json:"imap"`        // with STARTTLS
	IMAPS       string `json:"imaps"`       // with implicit TLS
	SCIM        string `json:"scim"`        // the base URL of the resources
	JMAP        string `json:"jmap"`        // the URL of the session resource
	Certificate string `json:"certificate"` // file with the authority's certificate
	Keeper      string `json:"keeper"`      // the login that may open every mailbox
	Process     int    `json:"process"`
}

// A Service is a running stand-in.
type Service struct {
	options Options
	post    *post
	ready   Ready
	smtp    []*smtp.Server
	imap    []*imapserver.Server
	scim    *http.Server
	done    sync.WaitGroup
}

// Start starts a service. It takes mail when Start returns.
func Start(options Options) (*Service, error) {
	if options.Host == "" {
		options.Host = "127.0.0.1"
	}
	if options.Now == nil {
		options.Now = clock.Now
	}
	if options.DigestEvery == 0 {
		options.DigestEvery = dayLength
	}
	if options.Faults == nil {
		options.Faults = &Faults{}
	}
	if options.Secret == "" {
		return nil, errors.New("the stand-in needs a password for its logins")
	}
	certificates, err := newAuthority(options.Host)
	if err != nil {
		return nil, err
	}
	if options.CertificateFile != "" {
		if err := localfile.Write(options.CertificateFile, certificates.authority, 0o644); err != nil {
			return nil, err
		}
	}
	logger := slog.New(slog.DiscardHandler)
	if options.Log != nil {
		logger = slog.New(slog.NewJSONHandler(options.Log, &slog.HandlerOptions{ReplaceAttr: logNames}))
	}
	p, err := newPost(options, logger)
	if err != nil {
		return nil, err
	}
	s := &Service{
		options: options,
		post:    p,
		ready:   Ready{Certificate: options.CertificateFile, Keeper: Master, Process: os.Getpid()},
	}
	if err := s.listen(certificates); err != nil {
		s.Close()
		return nil, err
	}
	p.start()
	return s, nil
}

// logNames gives the standard fields of a log line the names of ours.
func logNames(_ []string, a slog.Attr) slog.Attr {
	switch a.Key {
	case slog.MessageKey:
		a.Key = "step"
	case slog.LevelKey:
		return slog.Attr{}
	}
	return a
}

// Ready says how to reach the service.
func (s *Service) Ready() Ready { return s.ready }

// FlushDigests sends out all digests that are being collected, now.
func (s *Service) FlushDigests() { s.post.flushDigests() }

// Settle waits until nothing waits to be handed out, for so long at most, and
// reports whether that came.
func (s *Service) Settle(d time.Duration) bool { return s.post.settle(d) }

// Reload takes another estate from now on. Anyone who is newly a member of a group
// that welcomes its members is notified.
func (s *Service) Reload(e *estate.Estate) {
	s.post.reload(e)
	s.post.log.Info("reloaded")
}

func (s *Service) listen(c *certificates) error {
	faulty := s.post.faults
	tlsConfig := &tls.Config{
		MinVersion: tls.VersionTLS12,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			if faulty.now("certificate", "") != nil {
				return &c.wrong, nil
			}
			return &c.right, nil
		},
	}
	for _, port := range []struct {
		number   int
		where    *string
		login    bool
		implicit bool
	}{
		{s.options.Outside, &s.ready.Outside, false, false},
		{s.options.Submission, &s.ready.Submission, true, false},
		{s.options.Submissions, &s.ready.Submissions, true, true},
	} {
		l, err := s.open(port.number, port.where)
		if err != nil {
			return err
		}
		server := smtp.NewServer(s.post.backend(port.login))
		server.Domain = s.options.Estate.Settings().Domains[0].Name
		server.TLSConfig = tlsConfig
		server.MaxMessageBytes, server.MaxRecipients = maxMessage, maxRecipients
		server.ReadTimeout, server.WriteTimeout = patience, patience
		server.EnableDSN, server.EnableSMTPUTF8 = true, false
		server.ErrorLog = silence{}
		if port.implicit {
			l = tls.NewListener(l, tlsConfig)
		}
		s.smtp = append(s.smtp, server)
		s.done.Go(func() { _ = server.Serve(faulty.listener(l)) })
	}
	for _, port := range []struct {
		number   int
		where    *string
		implicit bool
	}{{s.options.IMAP, &s.ready.IMAP, false}, {s.options.IMAPS, &s.ready.IMAPS, true}} {
		l, err := s.open(port.number, port.where)
		if err != nil {
			return err
		}
		server := imapserver.New(s.post.imapOptions(tlsConfig))
		if port.implicit {
			l = tls.NewListener(l, tlsConfig)
		}
		s.imap = append(s.imap, server)
		s.done.Go(func() { _ = server.Serve(l) })
	}
	return s.listenSCIM(tlsConfig)
}

// listenSCIM serves the estate over SCIM, and the mailboxes over JMAP.
func (s *Service) listenSCIM(config *tls.Config) error {
	l, err := s.open(s.options.SCIM, &s.ready.SCIM)
	if err != nil {
		return err
	}
	scheme := "http"
	if ip := net.ParseIP(s.options.Host); s.options.Host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		scheme, l = "https", tls.NewListener(l, config)
	}
	s.ready.JMAP = scheme + "://" + s.ready.SCIM + jmapSession
	s.ready.SCIM = scheme + "://" + s.ready.SCIM + scimBase
	p := &provision{post: s.post, mutex: make(chan struct{}, 1)}
	mux := http.NewServeMux()
	mux.Handle("/", p.handler())
	(&mailAccess{s.ready.IMAPS}).register(mux)
	s.scim = &http.Server{
		Handler:      mux,
		ReadTimeout:  patience,
		WriteTimeout: patience,
		ErrorLog:     log.New(io.Discard, "", 0),
	}
	s.done.Go(func() { _ = s.scim.Serve(l) })
	return nil
}

func (s *Service) open(port int, where *string) (net.Listener, error) {
	l, err := net.Listen("tcp", net.JoinHostPort(s.options.Host, fmt.Sprint(port)))
	if err != nil {
		return nil, err
	}
	*where = l.Addr().String()
	return netutil.LimitListener(l, maxConnections), nil
}

// Close stops the service. Mail that is kept on disk is handed out when it starts
// again.
func (s *Service) Close() {
	for _, server := range s.smtp {
		_ = server.Close()
	}
	for _, server := range s.imap {
		_ = server.Close()
	}
	if s.scim != nil {
		_ = s.scim.Close()
	}
	s.done.Wait()
	s.post.stop()
}

// silence takes what the servers say about broken connections.
type silence struct{}

func (silence) Printf(string, ...any) {}
func (silence) Println(...any)        {}

// folder makes a folder below the service's own and returns its path, or "" where
// mail is kept in memory.
func (o *Options) folder(name string) (string, error) {
	if o.Dir == "" {
		return "", nil
	}
	path := filepath.Join(o.Dir, name)
	return path, os.MkdirAll(path, 0o700)
}
