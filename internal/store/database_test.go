package store

import (
	"bytes"
	"context"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// A login crosses a network through TLS that is verified alone, and no database is waited for forever.
func TestDatabaseConfig(t *testing.T) {
	t.Setenv("PGPASSWORD", "tide-7-secret")
	for where, want := range map[string]string{
		"postgres:///yorvet?host=/run/postgresql":                         "",
		"postgres://probes@127.0.0.1/yorvet":                              "",
		"postgres://probes@localhost:5433/yorvet?sslmode=disable":         "",
		"postgres://probes@db.kelpmere.example/yorvet":                    "",
		"postgres://probes@db.kelpmere.example/yorvet?sslmode=verify-ca":  "",
		"postgres://probes@db.kelpmere.example/yorvet?sslmode=disable":    "needs TLS that is verified",
		"postgres://probes@db.kelpmere.example/yorvet?sslmode=prefer":     "needs TLS that is verified",
		"postgres://probes@db.kelpmere.example/yorvet?sslmode=require":    "needs TLS that is verified",
		"postgres://probes@127.0.0.1,192.0.2.7/yorvet?sslmode=disable":    "needs TLS that is verified",
		"postgres://probes@127.0.0.1/yorvet?host=192.0.2.7&sslmode=allow": "needs TLS that is verified",
		"postgres://probes@/yorvet?connect_timeout=3000":                  "",
	} {
		config, err := databaseConfig(where)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", where, err, want)
		}
		if err == nil && (config.ConnConfig.ConnectTimeout <= 0 || config.ConnConfig.ConnectTimeout > connectWait) {
			t.Errorf("%s: a connection is waited for %s", where, config.ConnConfig.ConnectTimeout)
		}
	}
	t.Setenv("PGSSLMODE", "prefer")
	if _, err := databaseConfig("postgres://probes@db.kelpmere.example/yorvet"); err == nil {
		t.Error("the environment takes verified TLS away")
	}
}

// A server that refuses TLS is told nothing but that it was asked for.
func TestDatabaseRefusesTLS(t *testing.T) {
	t.Setenv("PGPASSWORD", "tide-7-secret")
	config, err := databaseConfig("postgres://probes@db.kelpmere.example/yorvet")
	if err != nil {
		t.Fatal(err)
	}
	var heard bytes.Buffer
	var done = make(chan struct{}, 10)
	config.ConnConfig.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"192.0.2.7"}, nil }
	config.ConnConfig.DialFunc = func(context.Context, string, string) (net.Conn, error) {
		here, there := net.Pipe()
		go func() {
			request := make([]byte, 8)
			_, _ = io.ReadFull(there, request)
			_, _ = there.Write([]byte("N"))
			rest, _ := io.ReadAll(there)
			heard.Write(rest)
			done <- struct{}{}
		}()
		return here, nil
	}
	if conn, err := pgx.ConnectConfig(t.Context(), config.ConnConfig); err == nil {
		conn.Close(t.Context())
		t.Error("it is talked to without TLS")
	}
	<-done
	if heard.Len() > 0 {
		t.Errorf("it was told %q", heard.String())
	}
}

// What others own or may read becomes no store.
func TestForeignFiles(t *testing.T) {
	for mode, refused := range map[os.FileMode]bool{0o600: false, 0o666: true, 0o644: true, 0o660: true} {
		path := filepath.Join(t.TempDir(), "runs.db")
		if err := os.WriteFile(path, nil, mode); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(path, mode); err != nil { // whatever the umask is
			t.Fatal(err)
		}
		s, err := Open(t.Context(), path)
		if (err != nil) != refused || err != nil && !strings.Contains(err.Error(), "chmod 600") {
			t.Errorf("%04o: %v", mode, err)
		}
		if err == nil {
			s.Close()
			if err := os.Chmod(path, 0o622); err != nil {
				t.Fatal(err)
			}
			if _, err := Open(t.Context(), path); err == nil {
				t.Error("a store that others may write is used")
			}
		}
	}
	if os.Geteuid() == 0 {
		path := filepath.Join(t.TempDir(), "runs.db")
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(path, 12345, -1); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(t.Context(), path); err == nil || !strings.Contains(err.Error(), "belongs to another user") {
			t.Errorf("the file of somebody else: %v", err)
		}
	}
}

// A database that takes a connection and stays silent is an error.
func TestSilentDatabase(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	ctx, stop := context.WithTimeout(t.Context(), 3*time.Minute)
	defer stop()
	if _, err := Open(ctx, "postgres://probes@"+listener.Addr().String()+"/yorvet?connect_timeout=1"); err == nil || ctx.Err() != nil {
		t.Errorf("%v, %v", err, ctx.Err())
	}
}
