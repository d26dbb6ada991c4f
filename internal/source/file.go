package source

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/ldap"
	"yorvet.example/yorvet/internal/directory/ldif"
	"yorvet.example/yorvet/internal/directory/records"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/yamlfile"
)

// file is the form of a source file.
type file struct {
	Version     int      `yaml:"yorvet-source"`
	Name        string   `yaml:"name"`
	From        string   `yaml:"from"`
	Format      string   `yaml:"format"`
	Domains     []string `yaml:"domains"`
	Map         mapForm  `yaml:"map"`
	AllowFiles  bool     `yaml:"allow-files"`
	TLS         string   `yaml:"tls"`
	Authority   string   `yaml:"authority"`
	Certificate string   `yaml:"certificate"`
	Key         string   `yaml:"key"`
	Login       *login   `yaml:"login"`
	Filter      string   `yaml:"filter"`
	Page        int      `yaml:"page"`

	// Of JSON over HTTP:
	Pages  *records.Paging  `yaml:"pages"`
	Follow []records.Follow `yaml:"follow"`
	AtOnce int              `yaml:"at-once"`
}

type login struct {
	User     string       `yaml:"user"`
	Password *secret.From `yaml:"password"`
	Token    *secret.From `yaml:"token"`
	External bool         `yaml:"external"`
}

// mapForm is a map in the file itself, or the path of one.
type mapForm struct {
	File   string
	Inline *directory.Map
}

// UnmarshalYAML reads either.
func (m *mapForm) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		m.File = n.Value
		return nil
	}
	if n.Kind == yaml.MappingNode &&
		!slices.ContainsFunc(n.Content, func(k *yaml.Node) bool { return k.Value == "yorvet-map" }) {
		n.Content = append(
			n.Content,
			&yaml.Node{Kind: yaml.ScalarNode, Value: "yorvet-map"},
			&yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: "1"},
		)
	}
	data, err := yaml.Dump(n)
	if err != nil {
		return err
	}
	if m.Inline, err = directory.ParseMap("map", data); err != nil {
		return &yamlfile.Problem{Text: fmt.Sprintf("line %d: %v", n.Line, err)}
	}
	return nil
}

// wrongPages returns what is wrong in how a service is asked, or "".
func (s *source) wrongPages() string {
	if s.Pages != nil && s.Pages.Problem() != "" {
		return s.Pages.Problem()
	}
	for _, f := range s.Follow {
		switch {
		case f.From == "" || f.Into == "":
			return "follow needs from, a URL, and into, what the list is called in the record"
		case f.Paging != nil && f.Paging.Problem() != "":
			return f.Paging.Problem()
		}
	}
	return ""
}

// isSourceFile reports whether a file begins as a source file does: with its
// version, perhaps behind comments.
func isSourceFile(head []byte) bool {
	return bytes.HasPrefix(head, []byte("yorvet-source:")) || bytes.Contains(head, []byte("\nyorvet-source:"))
}

// load reads a source file.
func (s *source) load(ctx context.Context, path string) error {
	data, err := yamlfile.Read(ctx, path, &s.file)
	if err != nil {
		return err
	}
	s.path, s.data = path, data
	fail := func(key, format string, args ...any) error {
		return fmt.Errorf("%s: "+format, append([]any{s.place(key)}, args...)...)
	}
	switch {
	case s.Version != 1:
		return fail("yorvet-source", `the format version is missing, expected "yorvet-source: 1"`)
	case s.From == "":
		return fail("from", "from is missing, expected a path or URL")
	case s.Format != "" && !slices.Contains(formats, s.Format):
		return fail("format", "format is %q, expected one of %s", s.Format, strings.Join(formats, ", "))
	case s.TLS != "" && !slices.Contains(endpoint.Words(), s.TLS):
		return fail(
			"tls",
			"tls is %q, expected one of %s%s",
			s.TLS,
			strings.Join(endpoint.Words(), ", "),
			nearest.Hint(s.TLS, endpoint.Words()),
		)
	}
	if wrong := s.wrongPages(); wrong != "" {
		return fail("pages", "%s", wrong)
	}
	for _, domain := range s.Domains {
		if _, err := address.ParseDomain(domain); err != nil {
			return fail("domains", "%v", err)
		}
	}
	if err := checkURL(s.From); err != nil {
		return fail("from", "%w", err)
	}
	s.where = s.From
	if !isURL(s.From) && s.From != "-" {
		s.where = s.beside(s.From)
	}
	return nil
}

// mostCertificates is the size in bytes of a file of certificates that is read.
const mostCertificates = 1 << 20

// place returns where a key of the source file stands, or the URL where there is no
// file.
func (s *source) place(key string) string {
	if s.path == "" {
		return s.where
	}
	line, column := yamlfile.Find(s.data, key, 0)
	return fmt.Sprintf("%s:%d:%d", s.path, line, column)
}

// checkURL refuses a URL that holds a login, which would show in messages and go
// where it leads. The URL is not in the error.
func checkURL(text string) error {
	if !isURL(text) || strings.HasPrefix(text, "ldapi:") {
		return nil
	}
	u, err := url.Parse(text)
	switch {
	case err != nil:
		return errors.New("this is no URL")
	case u.User != nil:
		return errors.New("a URL with a login would show it in messages and lists of processes; expected a source file " +
			"with a login")
	case strings.HasPrefix(u.Scheme, "http") && (u.RawQuery != "" || u.Fragment != ""):
		return errors.New("expected a URL without ? and #, the base of the resources")
	}
	return nil
}

// mode returns how a connection is secured. A login crosses the network with TLS
// only; without it, to this machine itself, if the source file says so.
func (s *source) mode(scheme, host string) (endpoint.TLS, error) {
	local, login := endpoint.IsLoopback(host), s.Login != nil
	said := endpoint.TLS(slices.Index(endpoint.Words(), s.TLS))
	const shows = "a login over a connection without TLS would show the password; only this machine itself may be " +
		"reached so"
	switch scheme {
	case "ldapi":
		if s.TLS != "" && said != endpoint.Plain {
			return 0, errors.New("ldapi:// is a socket of this machine, and has no TLS")
		}
		return endpoint.Plain, nil
	case "ldaps":
		if s.TLS != "" && said != endpoint.Implicit {
			return 0, fmt.Errorf("ldaps:// has TLS from the start, which tls: %s contradicts", s.TLS)
		}
		return endpoint.Implicit, nil
	case "http":
		if login && !local {
			return 0, errors.New(shows + "; use https://")
		}
		return endpoint.Plain, nil
	case "https":
		if s.TLS != "" && said != endpoint.Implicit && said != endpoint.Unverified {
			return 0, fmt.Errorf("https:// has TLS from the start, which tls: %s contradicts", s.TLS)
		}
		return endpoint.Implicit, nil
	}
	switch {
	case s.TLS == "" && local && !login:
		return endpoint.Plain, nil
	case s.TLS == "":
		return endpoint.StartTLS, nil
	case said == endpoint.Implicit:
		return 0, errors.New("ldap:// has no TLS from the start; use ldaps://, or tls: starttls")
	case said == endpoint.Plain && login && !local:
		return 0, errors.New(shows)
	}
	return said, nil
}

// security returns how a connection is secured, and who it trusts.
func (s *source) security(ctx context.Context) (endpoint.TLS, *x509.CertPool, *tls.Certificate, error) {
	scheme, host, _, err := ldap.ParseURL(s.where)
	if err != nil {
		return 0, nil, nil, err
	}
	mode, err := s.mode(scheme, host)
	if err != nil {
		return 0, nil, nil, fmt.Errorf("%s: %w", s.place("tls"), err)
	}
	var roots *x509.CertPool
	if s.Authority != "" {
		pem, err := localfile.Read(ctx, s.beside(s.Authority), mostCertificates)
		if err != nil {
			return 0, nil, nil, err
		}
		roots = x509.NewCertPool()
		if !roots.AppendCertsFromPEM(pem) {
			return 0, nil, nil, fmt.Errorf("%s holds no certificate in PEM", s.Authority)
		}
	}
	if s.Certificate == "" {
		return mode, roots, nil, nil
	}
	certificate, err := localfile.Read(ctx, s.beside(s.Certificate), mostCertificates)
	if err != nil {
		return 0, nil, nil, err
	}
	key, err := localfile.Read(ctx, s.beside(s.Key), mostCertificates)
	if err != nil {
		return 0, nil, nil, err
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		err = fmt.Errorf("%s and %s are no certificate and its key in PEM", s.Certificate, s.Key)
	}
	return mode, roots, &pair, err
}

// readLDAP reads a directory over LDAP. The base is the path of the URL.
func (s *source) readLDAP(ctx context.Context) (*directory.Directory, error) {
	_, _, base, err := ldap.ParseURL(s.where)
	if err != nil {
		return nil, err
	}
	server := ldap.Server{URL: s.where, Base: base, Filter: s.Filter, Page: s.Page, Attributes: s.m.Attributes()}
	if server.TLS, server.Roots, server.Certificate, err = s.security(ctx); err != nil {
		return nil, err
	}
	if s.Login != nil {
		server.User, server.External = s.Login.User, s.Login.External
		if s.Login.Password != nil {
			if server.Password, err = s.Login.Password.Fetch(ctx, s.path); err != nil {
				return nil, err
			}
		} else if s.Login.User != "" {
			return nil, fmt.Errorf("%s: the login has no password; without a login the directory is asked as nobody", s.path)
		}
	}
	c := s.collector(ldif.Normal)
	partial, err := server.Read(ctx, c.Add, func(text string) { c.Directory().Remark(0, true, text) })
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNetwork, err)
	}
	d, err := s.finish(c)
	if err != nil {
		return nil, err
	}
	d.Partial = partial
	return d, nil
}

// dialSCIM connects to a service. Where a login would go without TLS, it has to be
// this machine itself that answers, whatever its name is said to lead to.
func (s *source) dialSCIM(ctx context.Context, network, where string) (net.Conn, error) {
	conn, err := (&net.Dialer{Timeout: 20 * time.Second}).DialContext(ctx, network, where)
	if err != nil || s.Login == nil || !strings.HasPrefix(s.where, "http:") {
		return conn, err
	}
	if a, ok := conn.RemoteAddr().(*net.TCPAddr); !ok || !a.IP.IsLoopback() {
		conn.Close()
		return nil, errors.New("this is not this machine itself; a token is not sent over http://")
	}
	return conn, nil
}

// overHTTP calls use with what it takes to ask a service over HTTP.
func (s *source) overHTTP(ctx context.Context, use func(client *http.Client, token string) error) error {
	_, roots, certificate, err := s.security(ctx)
	if err != nil {
		return err
	}
	config := &tls.Config{
		MinVersion:         tls.VersionTLS12,
		RootCAs:            roots,
		InsecureSkipVerify: s.TLS == "starttls-unverified",
	}
	if certificate != nil {
		config.Certificates = []tls.Certificate{*certificate}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = config
	transport.DialContext = s.dialSCIM
	defer transport.CloseIdleConnections()
	client := &http.Client{Transport: transport,
		// A token goes to the service that is named, and nowhere else.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	token := ""
	if s.Login != nil && s.Login.Token != nil {
		secret, err := s.Login.Token.Fetch(ctx, s.path)
		if err != nil {
			return err
		}
		token = secret.Reveal()
	}
	return use(client, token)
}

// readService reads a service that speaks JSON by its own lights.
func (s *source) readService(ctx context.Context) (*directory.Directory, error) {
	c := s.collector(nil)
	c.Columns()
	err := s.overHTTP(ctx, func(client *http.Client, token string) error {
		service := records.Service{URL: s.where, Lists: s.m.Lists(), Paging: s.Pages, Follow: s.Follow, AtOnce: s.AtOnce,
			Client: records.Client{HTTP: client, Token: token, Accept: "application/json"}}
		if err := service.Read(ctx, c.Add); err != nil {
			return fmt.Errorf("%w: %w", ErrNetwork, err)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.finish(c)
}

// readSCIM reads a service over SCIM.
func (s *source) readSCIM(ctx context.Context) (*directory.Directory, error) {
	c := s.collector(nil)
	var partial bool
	var limits directory.Limits
	err := s.overHTTP(ctx, func(client *http.Client, token string) (err error) {
		service := scim.Service{URL: s.where, Page: s.Page, Client: client, Token: token}
		if partial, err = service.Read(ctx, c.Add); err != nil {
			return fmt.Errorf("%w: %w", ErrNetwork, err)
		}
		if s.identify {
			limits = service.Limits(ctx)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	d, err := s.finish(c)
	if err != nil {
		return nil, err
	}
	if partial {
		d.Remark(0, true, "the service says of a later page that there are fewer resources than before: they changed "+
			"while they "+
			"were read, or some were not given")
	}
	d.Partial = partial
	d.Limits = limits
	return d, nil
}
