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
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/mail/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

const (
	wait = time.Minute // for any one answer
	// mostPages bounds the pages of a search, which a broken server could go on
	// with for ever.
	mostPages = 100_000
)

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
}

// Read calls visit with every entry below the base. What is worth knowing goes to
// remark. partial says that the directory has not given all.
func (s *Server) Read(ctx context.Context, visit func(*directory.Entry), remark func(text string)) (partial bool, err error) {
	conn, err := s.dial()
	if err != nil {
		return false, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if err := s.bind(conn); err != nil {
		return false, err
	}
	return s.search(ctx, conn, visit, remark)
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

func (s *Server) dial() (*ldap.Conn, error) {
	scheme, host, _, err := ParseURL(s.URL)
	if err != nil {
		return nil, err
	}
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: s.Roots, ServerName: name, InsecureSkipVerify: s.TLS == endpoint.Unverified}
	if s.Certificate != nil {
		config.Certificates = []tls.Certificate{*s.Certificate}
	}
	where := scheme + "://" + host
	conn, err := ldap.DialURL(where, ldap.DialWithTLSConfig(config), ldap.DialWithDialer(&net.Dialer{Timeout: 20 * time.Second}))
	if err != nil {
		return nil, fmt.Errorf("%s cannot be reached: %w", where, err)
	}
	conn.SetTimeout(wait)
	if scheme == "ldap" && (s.TLS == endpoint.StartTLS || s.TLS == endpoint.Unverified) {
		if err := conn.StartTLS(config); err != nil {
			conn.Close()
			return nil, fmt.Errorf("%s: the connection cannot be secured: %w", where, err)
		}
	}
	return conn, nil
}

func (s *Server) bind(conn *ldap.Conn) error {
	var err error
	switch {
	case s.External:
		err = conn.ExternalBind()
	case s.User != "":
		err = conn.Bind(s.User, s.Password.Reveal())
	}
	if err != nil {
		return fmt.Errorf("the directory does not let %s in: %w", who(s), err)
	}
	return nil
}

func who(s *Server) string {
	if s.External {
		return "the certificate or account"
	}
	return s.User
}

func (s *Server) search(ctx context.Context, conn *ldap.Conn, visit func(*directory.Entry), remark func(string)) (bool, error) {
	size, filter := s.Page, s.Filter
	if size <= 0 {
		size = 500
	}
	if filter == "" {
		filter = "(objectClass=*)"
	}
	paging := ldap.NewControlPaging(uint32(size))
	request := ldap.NewSearchRequest(s.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, filter, s.Attributes, []ldap.Control{paging})
	var e directory.Entry
	number := 0
	for range mostPages {
		result, err := conn.Search(request)
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		if result != nil {
			for _, entry := range result.Entries {
				number++
				e.Reset()
				e.ID, e.Line = entry.DN, number
				for _, a := range entry.Attributes {
					for _, value := range a.Values {
						e.Add(a.Name, value)
					}
				}
				visit(&e)
			}
			for _, referral := range result.Referrals {
				remark("the directory refers to " + referral + ", which is not followed; name it as a source of its own")
			}
		}
		if err != nil {
			return s.ended(err, number, remark)
		}
		answer, ok := ldap.FindControl(result.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(answer.Cookie) == 0 {
			return false, nil
		}
		paging.SetCookie(answer.Cookie)
	}
	return false, fmt.Errorf("the directory gives more than %d pages", mostPages)
}

// ended says why a search ended before its time.
func (s *Server) ended(err error, number int, remark func(string)) (bool, error) {
	var answer *ldap.Error
	if !errors.As(err, &answer) {
		return false, err
	}
	switch answer.ResultCode {
	case ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultTimeLimitExceeded, ldap.LDAPResultAdminLimitExceeded:
		remark(fmt.Sprintf("the directory gives no more than %d entries to this login (%s): what is missing may be there", number, ldap.LDAPResultCodeMap[answer.ResultCode]))
		return true, nil
	case ldap.LDAPResultReferral:
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
		return false, fmt.Errorf("the directory refers%s for %s; referrals are not followed, name the other one as a source", to, s.Base)
	case ldap.LDAPResultNoSuchObject:
		return false, fmt.Errorf("the directory has no entry %q to search below", s.Base)
	}
	return false, err
}
