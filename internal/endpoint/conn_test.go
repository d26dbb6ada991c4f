package endpoint

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/rude"
)

func dial(t *testing.T, where string) *Conn {
	t.Helper()
	conn, err := Endpoint{Server: where, TLS: Plain, Wait: time.Second}.Dial(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	return conn
}

// No step reads more than it is allowed, and the next one starts afresh.
func TestBudget(t *testing.T) {
	conn := dial(t, rude.Server(t, rude.Pour(make([]byte, 1<<16))))
	buffer := make([]byte, 1<<20)
	if _, err := conn.Read(buffer); !errors.Is(err, ErrTooMuch) {
		t.Errorf("before the first step: %v", err)
	}
	for range 3 {
		conn.Step(5*time.Second, 100_000)
		n, err := io.ReadFull(conn, buffer)
		if n != 100_000 || !errors.Is(err, ErrTooMuch) {
			t.Errorf("%d bytes were read, then %v", n, err)
		}
	}
}

// A step ends in time, though the server is silent, says a little now and then, or
// takes nothing, and though somebody sets later deadlines.
func TestDeadline(t *testing.T) {
	for about, behave := range map[string]func(*net.TCPConn){"silent": rude.Silent, "slow": rude.Drip([]byte("x"))} {
		conn := dial(t, rude.Server(t, behave))
		conn.Step(200*time.Millisecond, 1<<20)
		_ = conn.SetDeadline(clock.Machine().Add(time.Hour))
		_, err := io.ReadAll(conn)
		if !errors.Is(err, os.ErrDeadlineExceeded) || Reason(err) != "no answer within 200ms" {
			t.Errorf("%s: %v", about, err)
		}
		_ = conn.SetDeadline(time.Time{})
		if _, err := conn.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s: without a deadline it goes on: %v", about, err)
		}
	}
	conn := dial(t, rude.Server(t, func(*net.TCPConn) { <-t.Context().Done() }))
	conn.Step(200*time.Millisecond, 1<<20)
	var err error
	for err == nil {
		_, err = conn.Write(make([]byte, 1<<20))
	}
	if !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("writing ends with %v", err)
	}
	// A deadline that comes first counts.
	conn = dial(t, rude.Server(t, rude.Silent))
	conn.Step(time.Hour, 1<<20)
	_ = conn.SetReadDeadline(clock.Machine().Add(50 * time.Millisecond))
	if _, err := conn.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("err = %v", err)
	}
}

// A handshake that does not come, or never ends, ends in time.
func TestHandshakeEnds(t *testing.T) {
	record := append([]byte{22, 3, 3, 0x40, 0}, make([]byte, 0x4000)...)
	for about, behave := range map[string]func(*net.TCPConn){"silent": rude.Silent, "pouring": rude.Pour(record)} {
		_, err := Endpoint{Server: rude.Server(t, behave), TLS: Implicit, Wait: 300 * time.Millisecond}.Dial(t.Context())
		if err == nil {
			t.Errorf("%s: a connection", about)
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, stop)
	_, err := Endpoint{Server: rude.Server(t, rude.Silent), TLS: Implicit}.Dial(ctx)
	if err == nil {
		t.Error("a connection, though interrupted")
	}
}

// A login is shown without TLS to this machine itself only, by the address that
// was reached rather than by its name.
func TestMayShowLogin(t *testing.T) {
	conn := dial(t, rude.Server(t, func(*net.TCPConn) {}))
	if err := conn.MayShowLogin(); err != nil {
		t.Error(err)
	}
	conn.guard.Conn = elsewhere{conn.guard.Conn}
	if err := conn.MayShowLogin(); err == nil || !strings.Contains(err.Error(), "without TLS") {
		t.Errorf("elsewhere: %v", err)
	}
	conn.secured = true
	if err := conn.MayShowLogin(); err != nil {
		t.Error(err)
	}
}

// elsewhere is a connection to another machine.
type elsewhere struct{ net.Conn }

func (elsewhere) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.IPv4(192, 0, 2, 1), Port: 389} }
