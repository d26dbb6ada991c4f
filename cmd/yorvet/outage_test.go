//go:build linux

package main

import (
	"bytes"
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
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/store/storetest"
)

// A troubled store is one of PostgreSQL to which something happens while runs are under way.
type troubled struct {
	t      *testing.T
	server *storetest.Server
	dir    string
	agents []*agentProcess
}

// sql runs statements as whoever runs the server.
func (d *troubled) sql(statements ...string) {
	db, err := sql.Open("pgx", d.server.URL())
	if err != nil {
		d.t.Error(err)
		return
	}
	defer db.Close()
	for _, statement := range statements {
		if _, err := db.ExecContext(context.Background(), statement); err != nil {
			d.t.Errorf("%s: %v", statement, err)
		}
	}
}

// stopped has the server away for a while.
func (d *troubled) stopped(length time.Duration) {
	d.server.Stop()
	time.Sleep(length)
	d.server.Start()
}

// readOnly has it refuse to write.
func (d *troubled) readOnly(length time.Duration) {
	d.sql("ALTER SYSTEM SET default_transaction_read_only = on", "SELECT pg_reload_conf()")
	time.Sleep(length)
	d.sql("SET SESSION CHARACTERISTICS AS TRANSACTION READ WRITE", "ALTER SYSTEM RESET default_transaction_read_only",
		"SELECT pg_reload_conf()")
}

// crowded has no connection left, and those that there were cut.
func (d *troubled) crowded(length time.Duration) {
	db, err := sql.Open("pgx", d.server.URL()+"&application_name=crowd")
	if err != nil {
		d.t.Fatal(err)
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(context.Background(), length)
	defer cancel()
	var crowd sync.WaitGroup
	for range 220 { // the server takes 200
		crowd.Go(func() {
			for ctx.Err() == nil {
				if c, err := db.Conn(ctx); err == nil {
					defer c.Close()
					<-ctx.Done()
				}
				time.Sleep(50 * time.Millisecond)
			}
		})
	}
	time.Sleep(length / 4)
	if c, err := db.Conn(context.Background()); err == nil {
		_, _ = c.ExecContext(context.Background(), `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'yorvet'`)
		c.Close()
	}
	crowd.Wait()
}

// frozen has the server say nothing.
func (d *troubled) frozen(length time.Duration) {
	pids := d.server.Processes()
	for _, pid := range pids {
		_ = syscall.Kill(pid, syscall.SIGSTOP)
	}
	time.Sleep(length)
	for _, pid := range pids {
		_ = syscall.Kill(pid, syscall.SIGCONT)
	}
}

// killed has every agent die, one after the other.
func (d *troubled) killed(length time.Duration) {
	for _, a := range d.agents {
		_ = a.cmd.Process.Kill()
		_ = a.cmd.Wait()
		a.start()
		time.Sleep(length / time.Duration(2*len(d.agents)))
	}
}

// Nothing that happens to a store has a message sent twice, and where nobody was killed every message is sent and
// judged, and nobody has to do anything. The agents' clocks are wrong, and all have one host name.
func TestStoreInTrouble(t *testing.T) {
	t.Parallel() // most of it is waiting
	d := &troubled{t: t, server: storetest.NewServer(t), dir: standIn(t)}
	runs, length := 1, 35*time.Second // more than the run waits for anything
	troubles := []func(time.Duration){d.stopped}
	names := []string{"stopped"}
	if n, err := strconv.Atoi(os.Getenv("YORVET_OUTAGES")); err == nil { // minutes: by hand
		runs, length = n/5, time.Minute
	} else if campaign.On() {
		runs, length = 3, 12*time.Second
	}
	if campaign.On() {
		troubles = append(troubles, d.readOnly, d.crowded, d.frozen, d.killed)
		names = append(names, "read-only", "crowded", "frozen", "killed")
	}
	if !campaign.On() {
		file := filepath.Join(d.dir, "connections.yaml")
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, bytes.Replace(text, []byte("patience: 60s"), []byte("patience: 15s"), 1), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	where := "YORVET_STORE=" + d.server.URL()
	if r := run(t, d.dir, []string{where}, []string{"--estate", "estate", "store", "begin"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	for i, by := range []time.Duration{10 * time.Minute, -10 * time.Minute} {
		wrong := filepath.Join(t.TempDir(), "yorvet")
		build := exec.Command("go", slices.Concat([]string{"build"}, clock.Skewed(by), []string{"-o", wrong, "."})...)
		if output, err := build.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, output)
		}
		a := &agentProcess{t: t, dir: d.dir, program: wrong, args: []string{"agent", "--connections", "connections.yaml"},
			env: append(os.Environ(), where, fmt.Sprintf("XDG_STATE_HOME=%s/%d", t.TempDir(), i))}
		a.start()
		defer a.end()
		d.agents = append(d.agents, a)
	}
	for i, trouble := range troubles {
		var all sync.WaitGroup
		for n := range runs {
			all.Go(func() {
				name := fmt.Sprintf("%s-%d", names[i], n)
				r := run(t, d.dir, []string{where}, []string{"--estate", "estate", "probe", "radio-watch", "works-council",
					"--send", "--pace", "2", "--run", name, "--json"})
				judgeResumed(t, name, r, map[bool]int{true: underWay}[names[i] == "killed"])
			})
		}
		before := logLength(d.dir)
		await(t, func() bool {
			return strings.Count(must(t, d.dir, 0, []string{where}, "runs", "list", "--json"), `"run": "`+names[i]+"-") == runs
		})
		awaitMore(t, d.dir, before) // some are sent, and some are not
		trouble(length)
		all.Wait()
	}
	judged := 0
	for what, n := range logged(t, d.dir) {
		if strings.HasPrefix(what, "judged ") {
			if judged++; n > 1 {
				t.Errorf("%s: %d times", what, n)
			}
		}
	}
	if judged < 10*runs*len(troubles) {
		t.Errorf("%d messages were judged", judged)
	}
}
