// Package ldap reads entries from a directory over LDAP (RFC 4511), page by page
// (RFC 2696). Referrals are reported, and never followed.
package ldap

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

// The bounds of a search, without which a broken server could go on for any time.
const (
	whole    = 30 * time.Minute // for all answers
	mostText = 1 << 30          // bytes of all values
)

// bounds are those of the answers to a search.
type bounds struct {
	answer         time.Duration // for any one of them
	pages, entries int
}

var usualBounds = bounds{answer: time.Minute, pages: 100_000, entries: 2_000_000}

// A Server is a directory, and how to log in to it.
type Server struct {
	URL         string // ldap://host:port/base, ldaps://... or ldapi://socket/base
	TLS         endpoint.TLS
	Roots       *x509.CertPool   // authorities to trust; nil: those of the system
	Certificate *tls.Certificate // of the client, for SASL EXTERNAL (RFC 4513, section 5.2.3)
	User        string           // a DN for a simple bind; "" for an anonymous one
	Password    secret.Text
	External    bool // SASL EXTERNAL: who one is comes from the connection
	Base        string
	Filter      string   // of the search; "" for all
	Attributes  []string // that are asked for; nil: all
	Page        int      // entries of a page; 0: 500

	bounds bounds // zero: the usual ones
}

// Read calls visit with every entry below the base. What is worth knowing goes to
// remark. partial says that the directory has not given all.
func (s *Server) Read(
	ctx context.Context,
	visit func(*directory.Entry),
	remark func(text string),
) (partial bool, err error) {
	if s.bounds == (bounds{}) {
		s.bounds = usualBounds
	}
	ctx, end := context.WithTimeoutCause(ctx, whole, fmt.Errorf("the directory does not end within %v", whole))
	defer end()
	defer func() {
		if err != nil && ctx.Err() != nil {
			err = context.Cause(ctx) // whatever it was that it kept from ending
		}
	}()
	c, err := s.dial(ctx)
	if err != nil {
		return false, err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.frames.Close() })
	defer stop()
	if err := s.bind(c); err != nil {
		return false, err
	}
	return s.search(ctx, c, visit, remark)
}

// ParseURL takes the URL of a directory apart (RFC 4516): host is a path for the
// scheme ldapi.
func ParseURL(text string) (scheme, host, base string, err error) {
	if rest, ok := strings.CutPrefix(text, "ldapi://"); ok {
		host, base, _ = strings.Cut(rest, "/")
		if host, err = url.PathUnescape(host); err == nil {
			base, err = url.PathUnescape(base)
		}
		return "ldapi", host, base, err
	}
	u, err := url.Parse(text)
	if err != nil {
		return "", "", "", err
	}
	return u.Scheme, u.Host, strings.TrimPrefix(u.Path, "/"), nil
}

// connection is a connection to a directory.
type connection struct {
	*ldap.Conn
	frames *frames
}

// dial connects, and secures the connection as it is to be.
func (s *Server) dial(ctx context.Context) (*connection, error) {
	scheme, host, _, err := ParseURL(s.URL)
	if err != nil {
		return nil, err
	}
	where := scheme + "://" + host
	e := endpoint.Endpoint{Server: host, Unix: scheme == "ldapi", TLS: s.TLS, Roots: s.Roots}
	if scheme != "ldapi" {
		if _, _, err := net.SplitHostPort(host); err != nil {
			e.Server = net.JoinHostPort(
				strings.Trim(host, "[]"),
				map[string]string{"ldap": "389", "ldaps": "636"}[scheme],
			)
		}
	}
	raw := e
	raw.TLS = endpoint.Plain
	conn, err := raw.Dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be reached: %s", where, endpoint.Reason(err))
	}
	config := e.Config()
	if s.Certificate != nil {
		config.Certificates = []tls.Certificate{*s.Certificate}
	}
	if err := s.secure(ctx, conn, scheme, config); err != nil {
		conn.Close()
		return nil, fmt.Errorf("%s: the connection cannot be secured: %s", where, endpoint.Reason(err))
	}
	c := &connection{frames: newFrames(conn)}
	c.frames.step(s.bounds.answer) // reading begins at once
	c.Conn = ldap.NewConn(c.frames, true)
	c.Start()
	return c, nil
}

// secure puts TLS in place where it is to be.
func (s *Server) secure(ctx context.Context, conn *endpoint.Conn, scheme string, config *tls.Config) error {
	switch {
	case scheme == "ldapi" || s.TLS == endpoint.Plain:
		return nil
	case s.TLS != endpoint.Implicit:
		stop := context.AfterFunc(ctx, func() { conn.Close() })
		defer stop()
		if err := startTLS(conn, s.bounds.answer); err != nil {
			return err
		}
	}
	return conn.Secure(ctx, config, s.bounds.answer)
}

// startTLS asks for TLS on a connection that has said nothing yet (RFC 4511, section
// 4.14).
func startTLS(conn *endpoint.Conn, wait time.Duration) error {
	const mostReply = 64 << 10
	conn.Step(wait, mostReply)
	request := ber.NewSequence("")
	request.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, 1, ""))
	extended := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationExtendedRequest, nil, "")
	extended.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, "1.3.6.1.4.1.1466.20037", ""))
	request.AppendChild(extended)
	if _, err := conn.Write(request.Bytes()); err != nil {
		return err
	}
	f := newFrames(conn)
	answer, err := ber.ReadPacket(f)
	if err != nil {
		return errors.Join(f.failure(), err)
	}
	if f.in.Buffered() > 0 {
		return errNoLDAP // what comes in the clear behind it would be taken for secured
	}
	if err := ldap.GetLDAPError(answer); err != nil {
		return errors.New("the directory does not offer TLS (StartTLS); a login without it is for this machine itself, " +
			"with tls: none")
	}
	return nil
}

func (s *Server) bind(c *connection) error {
	if !s.External && s.User == "" {
		return nil
	}
	var err error
	c.frames.step(s.bounds.answer)
	if s.External {
		err = c.ExternalBind()
	} else {
		if err := c.frames.MayShowLogin(); err != nil {
			return err
		}
		err = c.Bind(s.User, s.Password.Reveal())
	}
	if err != nil {
		return fmt.Errorf("the directory does not let %s in: %w", who(s), plain(c, err))
	}
	return nil
}

func who(s *Server) string {
	if s.External {
		return "the certificate or account"
	}
	return s.User
}

// plain says what went wrong: what the directory answers, or why there is no answer.
func plain(c *connection, err error) error {
	if cause := c.frames.failure(); cause != nil {
		return errors.New(endpoint.Reason(cause))
	}
	var answer *ldap.Error
	var network net.Error
	switch {
	case errors.As(err, &answer):
	case errors.Is(err, errCut):
		return err
	case errors.As(err, &network):
		return errors.New(endpoint.Reason(err))
	default:
		return errNoLDAP
	}
	const firstOwn = 200 // from there on codes are the library's own
	switch word, known := ldap.LDAPResultCodeMap[answer.ResultCode]; {
	case answer.ResultCode == ldap.ErrorFilterCompile:
		return errors.New("the filter is none (RFC 4515)")
	case answer.ResultCode >= firstOwn:
		return errNoLDAP
	case known:
		return fmt.Errorf("it answers %q (%d, RFC 4511, section 4.1.9)", word, answer.ResultCode)
	}
	return fmt.Errorf("it answers with the code %d", answer.ResultCode)
}

// search is a search under way.
type search struct {
	server  *Server
	conn    *connection
	visit   func(*directory.Entry)
	remark  func(string)
	entry   directory.Entry
	entries int
	text    int64 // bytes of all values
}

func (s *Server) search(
	ctx context.Context,
	c *connection,
	visit func(*directory.Entry),
	remark func(string),
) (bool, error) {
	size, filter := s.Page, s.Filter
	if size <= 0 {
		size = 500
	}
	if filter == "" {
		filter = "(objectClass=*)"
	}
	paging := ldap.NewControlPaging(uint32(size))
	request := ldap.NewSearchRequest(
		s.Base,
		ldap.ScopeWholeSubtree,
		ldap.NeverDerefAliases,
		0,
		0,
		false,
		filter,
		s.Attributes,
		[]ldap.Control{paging},
	)
	x := &search{server: s, conn: c, visit: visit, remark: remark}
	for range s.bounds.pages {
		controls, err := x.page(ctx, request)
		if err != nil {
			return x.ended(err)
		}
		answer, ok := ldap.FindControl(controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(answer.Cookie) == 0 {
			return false, nil
		}
		paging.SetCookie(answer.Cookie)
	}
	return false, fmt.Errorf("the directory gives more than %d pages", s.bounds.pages)
}

// page takes in the entries of a page as they come, and returns what comes behind
// them.
func (x *search) page(ctx context.Context, request *ldap.SearchRequest) ([]ldap.Control, error) {
	const ahead = 4
	ctx, end := context.WithCancel(ctx)
	defer end()
	x.conn.frames.step(x.server.bounds.answer)
	before := x.conn.frames.ended()
	var controls []ldap.Control
	result := x.conn.SearchAsync(ctx, request, ahead)
	for result.Next() {
		x.conn.frames.step(x.server.bounds.answer)
		if entry := result.Entry(); entry != nil {
			if err := x.take(entry); err != nil {
				return nil, err
			}
		}
		if referral := result.Referral(); referral != "" {
			x.remark("the directory refers to " + referral + ", which is not followed; name it as a source of its own")
		}
		controls = append(controls, result.Controls()...)
	}
	if err := result.Err(); err != nil {
		return nil, err
	}
	if x.conn.frames.ended() == before {
		return nil, errCut
	}
	return controls, nil
}

// errCut is the error of a search that neither the server nor anybody else has ended
// with a word: what has come is not all.
var errCut = errors.New("the directory ended the connection in the middle of its answer")

// take takes in an entry.
func (x *search) take(entry *ldap.Entry) error {
	x.entries++
	x.entry.Reset()
	x.entry.ID, x.entry.Line = entry.DN, x.entries
	for _, a := range entry.Attributes {
		for _, value := range a.Values {
			x.text += int64(len(value))
			x.entry.Add(a.Name, value)
		}
	}
	switch {
	case x.entries > x.server.bounds.entries:
		return &boundError{
			fmt.Sprintf(
				"the directory gives more than %d entries; narrow the search with filter",
				x.server.bounds.entries,
			),
		}
	case x.text > mostText:
		return &boundError{
			fmt.Sprintf("the directory gives more than %d MiB; narrow the search with filter", mostText>>20),
		}
	}
	x.visit(&x.entry)
	return nil
}

// limitCodes are the codes that say that there is more than the login may see.
var limitCodes = []uint16{
	ldap.LDAPResultSizeLimitExceeded,
	ldap.LDAPResultTimeLimitExceeded,
	ldap.LDAPResultAdminLimitExceeded,
}

// boundError says that a directory gives more than is read.
type boundError struct{ text string }

func (e *boundError) Error() string { return e.text }

// referredTo returns " to URL" where an answer refers elsewhere, or "".
func referredTo(answer *ldap.Error) string {
	to := ""
	if answer.Packet != nil && len(answer.Packet.Children) > 1 {
		for _, child := range answer.Packet.Children[1].Children {
			for _, url := range child.Children {
				if text, ok := url.Value.(string); ok && strings.HasPrefix(text, "ldap") {
					to = " to " + text
				}
			}
		}
	}
	return to
}

// ended says why a search ended before its time.
func (x *search) ended(err error) (bool, error) {
	var answer *ldap.Error
	var bound *boundError
	switch s := x.server; {
	case errors.As(err, &bound):
		return false, err
	case !errors.As(err, &answer):
		return false, plain(x.conn, err)
	case slices.Contains(limitCodes, answer.ResultCode):
		x.remark(
			fmt.Sprintf(
				"the directory gives no more than %d entries to this login (%s): what is missing may be there",
				x.entries,
				ldap.LDAPResultCodeMap[answer.ResultCode],
			),
		)
		return true, nil
	case answer.ResultCode == ldap.LDAPResultReferral:
		return false, fmt.Errorf(
			"the directory refers%s for %s; referrals are not followed, name the other one as a source",
			referredTo(answer),
			s.Base,
		)
	case answer.ResultCode == ldap.LDAPResultNoSuchObject:
		return false, fmt.Errorf("the directory has no entry %q to search below", s.Base)
	}
	return false, plain(x.conn, err)
}
