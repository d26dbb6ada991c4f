// Package storetest has a real PostgreSQL server for tests.
package storetest

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
)

// server is the server of the process of a test: one serves all its tests.
var server struct {
	sync.Mutex
	dir   string
	count int
	err   error
}

// PostgreSQL returns the URL of an empty database. The server is started from a temporary
// folder and listens to a socket in it; it ends with the process. A test is skipped where
// the machine has none.
func PostgreSQL(t testing.TB) string {
	t.Helper()
	server.Lock()
	defer server.Unlock()
	programs := programs()
	if programs == "" {
		if os.Getenv("YORVET_TEST_SERVERS") != "" {
			t.Fatal("there is no PostgreSQL here")
		}
		t.Skip("there is no PostgreSQL here: initdb is not installed")
	}
	if server.dir == "" && server.err == nil {
		server.dir, server.err = start(programs)
	}
	if server.err != nil {
		t.Fatal(server.err)
	}
	server.count++
	name := fmt.Sprintf("test%d", server.count)
	at := "postgres:///%s?host=" + server.dir + "&user=yorvet"
	db, err := sql.Open("pgx", fmt.Sprintf(at, "postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.ExecContext(context.Background(), "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf(at, name)
}

// programs returns the folder of the server's programs, of the newest version, or "".
func programs() string {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	slices.Sort(found)
	if len(found) == 0 {
		return ""
	}
	return filepath.Dir(found[len(found)-1])
}

// A Server is one of a test's own, which it stops and starts.
type Server struct {
	t        testing.TB
	programs string
	dir      string
}

// NewServer returns a server that runs, with an empty database, until the test ends. A test is
// skipped where the machine has none.
func NewServer(t testing.TB) *Server {
	t.Helper()
	PostgreSQL(t) // or the test is skipped
	s := &Server{t: t, programs: programs()}
	var err error
	if s.dir, err = start(s.programs); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		s.Stop()
		_ = os.RemoveAll(s.dir)
	})
	return s
}

// URL returns the URL of the database.
func (s *Server) URL() string { return "postgres:///postgres?host=" + s.dir + "&user=yorvet" }

// Stop ends the server, even if somebody is connected.
func (s *Server) Stop() {
	s.t.Helper()
	if output, err := command(s.programs, s.dir, "pg_ctl", "-D", filepath.Join(s.dir, "data"), "-m", "immediate", "-w",
		"stop").CombinedOutput(); err != nil {
		s.t.Logf("stopping PostgreSQL: %v: %s", err, output)
	}
}

// Start starts the server again.
func (s *Server) Start() {
	s.t.Helper()
	if err := serve(s.programs, s.dir); err != nil {
		s.t.Fatal(err)
	}
}

// command returns a command of the server's programs, for anyone who may run it.
func command(programs, dir, name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(programs, name), args...)
	cmd.Dir = dir
	ownedBy(cmd, "postgres", dir)
	return cmd
}

func start(programs string) (dir string, err error) {
	removeDead()
	if dir, err = os.MkdirTemp("", fmt.Sprintf("yorvet-postgres-%d-", os.Getpid())); err != nil {
		return "", err
	}
	if output, err := command(programs, dir, "initdb", "-D", filepath.Join(dir, "data"), "-U", "yorvet", "-A", "trust",
		"--no-sync",
		"-E", "UTF8", "--locale=C").CombinedOutput(); err != nil {
		return "", fmt.Errorf("initdb: %w: %s", err, output)
	}
	return dir, serve(programs, dir)
}

// removeDead removes the folders of servers whose tests have ended: a server that ends with its process leaves
// one behind.
func removeDead() {
	if _, err := os.Stat("/proc/self"); err != nil {
		return // who is alive is not known here
	}
	dirs, _ := filepath.Glob(filepath.Join(os.TempDir(), "yorvet-postgres-*-*"))
	for _, dir := range dirs {
		pid, err := strconv.Atoi(strings.Split(filepath.Base(dir), "-")[2])
		if _, alive := os.Stat(fmt.Sprint("/proc/", pid)); err == nil && os.IsNotExist(alive) {
			_ = os.RemoveAll(dir)
		}
	}
}

// serve starts the server of a folder, and waits until it answers.
func serve(programs, dir string) error {
	run := func(name string, args ...string) *exec.Cmd { return command(programs, dir, name, args...) }
	data := filepath.Join(dir, "data")
	// The tests are about processes that die, not about power that fails.
	cmd := run("postgres", "-D", data, "-k", dir, "-c", "listen_addresses=", "-c", "fsync=off", "-c",
		"max_connections=200")
	var output strings.Builder
	cmd.Stdout, cmd.Stderr = &output, &output
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for tick := time.Tick(50 * time.Millisecond); ; <-tick {
		if run("pg_isready", "-h", dir, "-U", "yorvet", "-q").Run() == nil {
			return nil
		}
		select {
		case err := <-ended:
			return fmt.Errorf("PostgreSQL does not start: %w: %s", err, output.String())
		default:
		}
	}
}

// Processes returns the process numbers of the server and of all that work for it.
func (s *Server) Processes() (pids []int) {
	s.t.Helper()
	data, err := os.ReadFile(filepath.Join(s.dir, "data", "postmaster.pid"))
	if err != nil {
		s.t.Fatal(err)
	}
	first, _, _ := strings.Cut(string(data), "\n")
	all, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range all {
		stat, err := os.ReadFile(path)
		_, after, found := strings.Cut(string(stat), ") ")
		if fields := strings.Fields(after); err == nil && found && len(fields) > 1 {
			pid := filepath.Base(filepath.Dir(path))
			if n, err := strconv.Atoi(pid); err == nil && (pid == first || fields[1] == first) {
				pids = append(pids, n)
			}
		}
	}
	return pids
}
