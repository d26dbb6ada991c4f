package endpoint

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/secret"
)

// ErrTooMuch is what the errors are of a server that says more than it was asked
// for, again and again.
var ErrTooMuch = errors.New("the server says more than is read of one answer")

// A Conn is a connection to a server with bounds: however slow or talkative the
// server is, a step of the exchange ends. Nothing is read before the first Step.
type Conn struct {
	net.Conn // with TLS, if that is in place
	guard    *guard
	secured  bool
}

// Step begins the next step of an exchange: what is waited for from now on has to
// come within a time, and in so many bytes at most, those of TLS included. A
// deadline that is set as well counts if it comes first.
func (c *Conn) Step(wait time.Duration, most int64) { c.guard.step(wait, most) }

// MayShowLogin returns an error where a login would cross the network in the clear:
// without TLS it is for this machine itself only.
func (c *Conn) MayShowLogin() error {
	if c.secured {
		return nil
	}
	switch a := c.guard.RemoteAddr().(type) {
	case *net.UnixAddr:
		return nil
	case *net.TCPAddr:
		if a.IP.IsLoopback() {
			return nil
		}
	}
	return errors.New("a login over a connection without TLS would show the password; only this machine itself may be " +
		"reached so")
}

// Failure returns why the last step ended that failed, or nil. Libraries put it into
// words of their own.
func (c *Conn) Failure() error {
	c.guard.mutex.Lock()
	defer c.guard.mutex.Unlock()
	return c.guard.failure
}

// guard is the bounds of a connection, below TLS.
type guard struct {
	net.Conn

	mutex         sync.Mutex
	wait          time.Duration // of the step
	end           time.Time     // of the step
	left          int64         // bytes that may be read in it
	reads, writes time.Time     // deadlines that are set as well
	failure       error
}

func (g *guard) step(wait time.Duration, most int64) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.wait, g.end, g.left = wait, clock.Machine().Add(wait), most
	g.apply()
}

// apply sets the deadlines of the connection. A connection that is closed takes
// none, which shows soon enough.
func (g *guard) apply() {
	_ = g.Conn.SetReadDeadline(earlier(g.reads, g.end))
	_ = g.Conn.SetWriteDeadline(earlier(g.writes, g.end))
}

// earlier returns the earlier of two times, of which the first may be none.
func earlier(a, b time.Time) time.Time {
	if a.IsZero() || b.Before(a) {
		return b
	}
	return a
}

func (g *guard) Read(p []byte) (int, error) {
	g.mutex.Lock()
	left, wait := g.left, g.wait
	g.mutex.Unlock()
	if left <= 0 && len(p) > 0 {
		return 0, g.failed(ErrTooMuch)
	}
	n, err := g.Conn.Read(p[:min(int64(len(p)), left)])
	g.mutex.Lock()
	g.left -= int64(n)
	g.mutex.Unlock()
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = &silentError{wait}
	}
	return n, g.failed(err)
}

// failed notes an error, if it is one.
func (g *guard) failed(err error) error {
	if err != nil {
		g.mutex.Lock()
		defer g.mutex.Unlock()
		g.failure = err
	}
	return err
}

// SetDeadline is described at Step.
func (g *guard) SetDeadline(t time.Time) error {
	return errors.Join(g.SetReadDeadline(t), g.SetWriteDeadline(t))
}

// SetReadDeadline is described at Step.
func (g *guard) SetReadDeadline(t time.Time) error {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.reads = t
	return g.Conn.SetReadDeadline(earlier(g.reads, g.end))
}

// SetWriteDeadline is described at Step.
func (g *guard) SetWriteDeadline(t time.Time) error {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.writes = t
	return g.Conn.SetWriteDeadline(earlier(g.writes, g.end))
}

// silentError says that a server did not answer in time. It is a net.Error.
type silentError struct{ wait time.Duration }

func (e *silentError) Error() string   { return fmt.Sprintf("no answer within %v", e.wait) }
func (e *silentError) Timeout() bool   { return true }
func (e *silentError) Temporary() bool { return true }
func (e *silentError) Unwrap() error   { return os.ErrDeadlineExceeded }

// IsDistrust reports whether a connection failed as the server's certificate is not to be
// trusted, or there is no TLS where there has to be: another try gives the same result.
func IsDistrust(err error) bool {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	return errors.As(err, &unknown) || errors.As(err, &name) || errors.As(err, &invalid) || errors.As(err, &record)
}

// Reason says in plain words why a connection failed.
func Reason(err error) string {
	var refused syscall.Errno
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	var lookup *net.DNSError
	switch {
	case errors.Is(err, ErrTooMuch):
		return ErrTooMuch.Error()
	case errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, syscall.ECONNRESET),
		errors.Is(err, syscall.EPIPE):
		return "the server ended the connection"
	case errors.Is(err, net.ErrClosed), errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return "the connection was ended, as there was no more time"
	case errors.As(err, &lookup):
		return "the host " + lookup.Name + " is not found"
	case errors.As(err, &unknown):
		return "the server's certificate is from an authority that is not trusted"
	case errors.As(err, &name):
		return "the server's certificate is not for " + name.Host
	case errors.As(err, &invalid):
		return "the server's certificate is not valid: " + invalid.Error()
	case errors.As(err, &record):
		return "the server does not speak TLS there"
	case errors.As(err, &refused) && refused == syscall.ECONNREFUSED:
		return "nobody listens there"
	}
	if silent := (*silentError)(nil); errors.As(err, &silent) {
		return silent.Error()
	}
	return secret.Hide(err.Error())
}
