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
)

// rude listens on this machine, and has behave answer each connection.
func rude(t *testing.T, behave func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				behave(conn)
			}()
		}
	}()
	return l.Addr().String()
}

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
	conn := dial(t, rude(t, func(c net.Conn) {
		for {
			if _, err := c.Write(make([]byte, 1<<16)); err != nil {
				return
			}
		}
	}))
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
	for about, behave := range map[string]func(net.Conn){
		"silent": func(c net.Conn) { _, _ = io.Copy(io.Discard, c) },
		"slow": func(c net.Conn) {
			for {
				if _, err := c.Write([]byte{'x'}); err != nil {
					return
				}
				time.Sleep(20 * time.Millisecond)
			}
		},
	} {
		conn := dial(t, rude(t, behave))
		conn.Step(200*time.Millisecond, 1<<20)
		_ = conn.SetDeadline(time.Now().Add(time.Hour))
		began := time.Now()
		_, err := io.ReadAll(conn)
		if took := time.Since(began); !errors.Is(err, os.ErrDeadlineExceeded) || Reason(err) != "no answer within 200ms" || took > time.Second {
			t.Errorf("%s: %v after %v", about, err, took)
		}
		_ = conn.SetDeadline(time.Time{})
		if _, err := conn.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s: without a deadline it goes on: %v", about, err)
		}
	}
	conn := dial(t, rude(t, func(net.Conn) { time.Sleep(5 * time.Second) }))
	conn.Step(200*time.Millisecond, 1<<20)
	began := time.Now()
	var err error
	for err == nil {
		_, err = conn.Write(make([]byte, 1<<20))
	}
	if took := time.Since(began); took > 2*time.Second {
		t.Errorf("writing goes on for %v", took)
	}
	// A deadline that comes first counts.
	conn = dial(t, rude(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }))
	conn.Step(time.Hour, 1<<20)
	_ = conn.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
	if _, err := conn.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("err = %v", err)
	}
}

// A handshake that does not come, or never ends, ends in time.
func TestHandshakeEnds(t *testing.T) {
	for about, behave := range map[string]func(net.Conn){
		"silent": func(c net.Conn) { _, _ = io.Copy(io.Discard, c) },
		"pouring": func(c net.Conn) {
			record := append([]byte{22, 3, 3, 0x40, 0}, make([]byte, 0x4000)...)
			for {
				if _, err := c.Write(record); err != nil {
					return
				}
			}
		},
	} {
		began := time.Now()
		_, err := Endpoint{Server: rude(t, behave), TLS: Implicit, Wait: 300 * time.Millisecond}.Dial(t.Context())
		if took := time.Since(began); err == nil || took > 2*time.Second {
			t.Errorf("%s: %v after %v", about, err, took)
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, stop)
	began := time.Now()
	_, err := Endpoint{Server: rude(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }), TLS: Implicit}.Dial(ctx)
	if took := time.Since(began); err == nil || took > time.Second {
		t.Errorf("an interrupt: %v after %v", err, took)
	}
}

// A login is shown without TLS to this machine itself only, by the address that
// was reached rather than by its name.
func TestMayShowLogin(t *testing.T) {
	conn := dial(t, rude(t, func(net.Conn) {}))
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
