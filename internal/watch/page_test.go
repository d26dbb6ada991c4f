package watch

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/store"
)

// serveIdle serves the page of a worker without items, with a report of its own, and returns the
// address.
func serveIdle(t *testing.T, report []byte, names ...string) net.Addr {
	t.Helper()
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "runs.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	page := &Page{Worker: &Watcher{Plan: &Plan{}, Store: st, OnError: func(string) {}}, Names: names, Report: func(_ context.Context, w io.Writer) error {
		_, err := w.Write(report)
		return err
	}}
	t.Cleanup(page.Serve(listener))
	return listener.Addr()
}

// The page answers to its own address and names alone, and is in no frame of another.
func TestPageHosts(t *testing.T) {
	at := serveIdle(t, []byte("<p>it</p>"), "watch.kelpmere.example")
	_, port, _ := net.SplitHostPort(at.String())
	for host, want := range map[string]int{
		at.String(): 200, "127.0.0.1": 200, "localhost": 200, "LOCALHOST:" + port: 200, "watch.kelpmere.example": 200,
		"Watch.Kelpmere.example:" + port: 200, "attacker.example": 421, "127.0.0.2": 421, "[::1]:" + port: 421, "192.0.2.7": 421,
		"localhost.attacker.example": 421, "127.0.0.1.attacker.example:" + port: 421,
	} {
		for _, path := range []string{"/", "/items", "/healthz", "/metrics"} {
			request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+at.String()+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			request.Host = host
			response, err := http.DefaultClient.Do(request)
			if err != nil {
				t.Fatal(err)
			}
			body, _ := io.ReadAll(response.Body)
			response.Body.Close()
			got := response.StatusCode
			if path == "/healthz" && got == 503 { // it has never looked for work
				got = 200
			}
			if got != want || want == 421 && bytes.Contains(body, []byte("it</p>")) {
				t.Errorf("%s%s: %d, want %d", host, path, got, want)
			}
			if h := response.Header; !strings.Contains(h.Get("Content-Security-Policy"), "frame-ancestors 'none'") || h.Get("X-Frame-Options") != "DENY" {
				t.Errorf("%s may be framed: %v", path, h)
			}
		}
	}
}

// Whoever does not read what they asked for keeps nobody from the health of the process.
func TestPageDeaf(t *testing.T) {
	at := serveIdle(t, bytes.Repeat([]byte("x"), 32<<20)) // more than the system keeps for a connection
	for range 2 * mostPages {
		conn, err := net.Dial("tcp", at.String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		if _, err := io.WriteString(conn, "GET / HTTP/1.1\r\nHost: localhost\r\n\r\n"); err != nil {
			t.Fatal(err)
		}
	}
	for range 5 {
		response, err := http.Get("http://" + at.String() + "/healthz")
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(response.Body)
		response.Body.Close()
		if err != nil || !strings.Contains(string(body), `"healthy"`) {
			t.Errorf("%d %s, %v", response.StatusCode, body, err)
		}
	}
}
