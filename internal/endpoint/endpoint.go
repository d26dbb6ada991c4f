// Package endpoint reaches servers: where they are, how the connection is secured,
// what it may take of time and bytes, and who logs in.
package endpoint

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"slices"
	"time"
)

// TLS says how a connection is secured.
type TLS uint8

// The ways to secure a connection.
const (
	StartTLS   TLS = iota // in plain text first, then upgraded (RFC 3207, RFC 9051); without it, nothing is sent
	Implicit              // from the start (RFC 8314)
	Plain                 // not at all
	Unverified            // upgraded, and anyone who answers is believed
)

// Words returns the words of the ways to secure a connection.
func Words() []string { return slices.Clone(words) }

var words = []string{"starttls", "implicit", "none", "starttls-unverified"}

// An Endpoint is a server to connect to.
type Endpoint struct {
	Server string // host:port, or the path of a socket where Unix says so
	Unix   bool   // Server is a socket of this machine
	TLS    TLS
	Roots  *x509.CertPool // authorities to trust; nil: those of the system
	From   net.IP         // address of this machine to connect from; nil: any
	Wait   time.Duration  // for the connection, and for TLS; 0: 20 seconds
}

const (
	usualWait     = 20 * time.Second
	mostHandshake = 256 << 10 // bytes of a TLS handshake
)

// Dial connects. With Implicit, TLS is in place then. The first Step is to be begun
// before anything is read.
func (e Endpoint) Dial(ctx context.Context) (*Conn, error) {
	if e.Wait <= 0 {
		e.Wait = usualWait
	}
	dialer := &net.Dialer{Timeout: e.Wait}
	if e.From != nil {
		dialer.LocalAddr = &net.TCPAddr{IP: e.From}
	}
	network := "tcp"
	if e.Unix {
		network = "unix"
	}
	conn, err := dialer.DialContext(ctx, network, e.Server)
	if err != nil {
		return nil, err
	}
	c := &Conn{guard: &guard{Conn: conn}}
	c.Conn = c.guard
	if e.TLS == Implicit {
		if err := c.Secure(ctx, e.Config(), e.Wait); err != nil {
			conn.Close()
			return nil, err
		}
	}
	return c, nil
}

// Secure puts TLS in place. From then on the connection may be used as before.
func (c *Conn) Secure(ctx context.Context, config *tls.Config, wait time.Duration) error {
	c.Step(wait, mostHandshake)
	secured := tls.Client(c.guard, config)
	if err := secured.HandshakeContext(ctx); err != nil {
		return err
	}
	c.Conn, c.secured = secured, true
	return nil
}

// IsLoopback reports whether a host, perhaps with a port, is this machine itself.
func IsLoopback(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Config returns the TLS configuration for the server.
func (e Endpoint) Config() *tls.Config {
	host, _, err := net.SplitHostPort(e.Server)
	if err != nil {
		host = e.Server
	}
	return &tls.Config{
		ServerName:         host,
		RootCAs:            e.Roots,
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: e.TLS == Unverified,
	}
}
