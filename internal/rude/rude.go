// Package rude has servers that behave badly, on this machine, for tests.
package rude

import (
	"net"
	"runtime"
	"sync/atomic"
	"testing"
	"time"
)

// Server listens at an address that it returns, and has behave answer each
// connection, which is closed then. It ends with the test.
func Server(t testing.TB, behave func(*net.TCPConn)) string {
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
				behave(conn.(*net.TCPConn))
			}()
		}
	}()
	return l.Addr().String()
}

// Silent behaves as a server that takes what it gets, and says nothing.
func Silent(c *net.TCPConn) {
	buffer := make([]byte, 1<<16)
	for {
		if _, err := c.Read(buffer); err != nil {
			return
		}
	}
}

// Pour returns the behaviour of a server that says the same again and again.
func Pour(what []byte) func(*net.TCPConn) {
	return func(c *net.TCPConn) {
		for {
			if _, err := c.Write(what); err != nil {
				return
			}
		}
	}
}

// Drip is Pour, a little at a time.
func Drip(what []byte) func(*net.TCPConn) {
	return func(c *net.TCPConn) {
		for {
			if _, err := c.Write(what); err != nil {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// Memory returns the most that was in use, in bytes, of the heap of this process
// while do ran, as far as looking every few milliseconds shows.
func Memory(do func()) uint64 {
	var most atomic.Uint64
	quit, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most.Store(max(most.Load(), m.HeapAlloc))
			select {
			case <-quit:
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}()
	do()
	close(quit)
	<-done
	return most.Load()
}
