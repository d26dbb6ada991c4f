package main

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/freeport"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
	"yorvet.example/yorvet/internal/store/storetest"
)

// watched is a folder with the demo and a plan, and the processes that watch it.
type watched struct {
	t     *testing.T
	dir   string
	store string
	mu    sync.Mutex
	heard map[string]*present.WatchEvent // by run: what a process told of
	twice []string
}

func newWatched(t *testing.T, plan string) *watched {
	t.Helper()
	w := &watched{t: t, dir: t.TempDir(), heard: map[string]*present.WatchEvent{}}
	if err := demo.Write(t.Context(), w.dir); err != nil {
		t.Fatal(err)
	}
	w.store = filepath.Join(w.dir, "runs.db")
	w.write("plan.yaml", plan)
	return w
}

func (w *watched) write(name, text string) {
	w.t.Helper()
	if err := os.WriteFile(filepath.Join(w.dir, name), []byte(text), 0o644); err != nil {
		w.t.Fatal(err)
	}
}

// process is one that watches.
type process struct {
	cmd  *exec.Cmd
	read sync.WaitGroup
	errs *strings.Builder
}

// start starts a process, and hears what it tells.
func (w *watched) start(args ...string) *process {
	p := &process{errs: &strings.Builder{}}
	p.cmd = exec.Command(program, append([]string{"watch", "plan.yaml", "--json"}, args...)...)
	p.cmd.Dir = w.dir
	p.cmd.Env = append(os.Environ(), "YORVET_STORE="+w.store, "XDG_CACHE_HOME="+w.dir)
	p.cmd.Stderr = p.errs
	out, err := p.cmd.StdoutPipe()
	if err == nil {
		err = p.cmd.Start()
	}
	if err != nil {
		w.t.Error(err)
		return p
	}
	p.read.Go(func() {
		lines := bufio.NewScanner(out)
		lines.Buffer(nil, 16<<20)
		for lines.Scan() {
			e := &present.WatchEvent{}
			if json.Unmarshal(lines.Bytes(), e) != nil {
				continue // it was killed in the middle of it
			}
			w.mu.Lock()
			if w.heard[e.Run] != nil {
				w.twice = append(w.twice, e.Run)
			}
			w.heard[e.Run] = e
			w.mu.Unlock()
		}
	})
	return p
}

// told returns of how many runs something was told.
func (w *watched) told() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.heard)
}

func (p *process) kill() {
	_ = p.cmd.Process.Kill()
	p.read.Wait()
	_ = p.cmd.Wait()
}

// openOnly opens a store as its only estate sees it.
func openOnly(t testing.TB, where string) *store.Store {
	t.Helper()
	st, err := store.Open(context.Background(), where)
	if err != nil {
		t.Fatal(err)
	}
	list, err := st.Names(context.Background())
	if err != nil || len(list) > 1 {
		t.Fatalf("the estates are %+v, %v", list, err)
	}
	if len(list) == 0 { // nothing has used it yet
		return st
	}
	return st.Of(list[0])
}

// kept returns the answers of the store.
func (w *watched) kept() []store.KeptResult {
	w.t.Helper()
	s := openOnly(w.t, w.store)
	defer s.Close()
	list, err := s.Answers(context.Background(), time.Time{}, 1<<20)
	if err != nil {
		w.t.Fatal(err)
	}
	return list
}

// check checks that all that was told is kept, once for each time that it was due.
func (w *watched) check() {
	w.t.Helper()
	w.mu.Lock()
	defer w.mu.Unlock()
	kept := map[string]bool{}
	slots := map[string]bool{}
	for _, a := range w.kept() {
		kept[a.ID] = true
		slot := a.Item + a.Slot.String()
		if slots[slot] {
			w.t.Errorf("%s was answered twice for %v", a.Item, a.Slot)
		}
		slots[slot] = true
	}
	for run := range w.heard {
		if !kept[run] {
			w.t.Errorf("run %s was told, and is lost", run)
		}
	}
	if len(w.twice) > 0 {
		w.t.Errorf("told twice: %v", w.twice)
	}
}

const often = `yorvet-watch: 1
estate: estate
jitter: 0s
checks:
  - {name: hazards, every: 10s}
  - {name: forged, every: 10s, only: [forgeable]}
expectations:
  - {name: promises, files: [kelpmere.expect], every: 10s}
`

// quick makes items due at once, whenever they were: as if time went by a hundred times as fast.
func (w *watched) quick() {
	db, err := sql.Open("sqlite", "file:"+w.store+"?_txlock=immediate&_pragma=busy_timeout(10000)")
	if err != nil {
		w.t.Fatal(err)
	}
	defer db.Close()
	for _, statement := range []string{
		`UPDATE items SET due = due - 10000 WHERE holder = ''`,
		`UPDATE items SET lease = 0 WHERE holder <> ''`, // whoever had it was killed
	} {
		if _, err := db.Exec(statement); err != nil {
			w.t.Fatal(err)
		}
	}
}

// A process that writes is killed at random moments: the store opens after each, it is
// whole, and no run is lost that was told of.
func TestWatchKilled(t *testing.T) {
	t.Parallel()
	runs := campaign.Runs(t)
	w := newWatched(t, often)
	random := rand.New(rand.NewPCG(30, 9))
	for i := range runs {
		if _, err := os.Stat(w.store); err == nil {
			w.quick()
		}
		before := w.told()
		p := w.start()
		if i%3 == 0 { // wherever it is then, on any machine
			await(t, func() bool { return w.told() > before })
		}
		time.Sleep(time.Duration(random.IntN(350)) * time.Millisecond)
		p.kill()
		db, err := sql.Open("sqlite", "file:"+w.store)
		if err != nil {
			t.Fatal(err)
		}
		var whole string
		if err := db.QueryRow(`PRAGMA integrity_check`).Scan(&whole); err != nil || whole != "ok" {
			t.Fatalf("the store is %q, %v", whole, err)
		}
		_ = db.Close()
		w.check()
	}
	if n := len(w.kept()); n < runs/3 {
		t.Errorf("only %d runs were kept", n)
	}
}

// The database is restarted under two processes, and gone for a while: they go on when it is back,
// and nothing is done twice.
func TestWatchWithoutDatabase(t *testing.T) {
	t.Parallel()
	seconds := campaign.Runs(t)
	server := storetest.NewServer(t)
	w := newWatched(t, often)
	w.store = server.URL()
	first, second := w.start(), w.start()
	defer first.kill()
	defer second.kill()
	answers := func() {
		t.Helper()
		before := w.told()
		await(t, func() bool { return w.told() >= before+3 })
	}
	answers()
	server.Stop()
	server.Start()
	answers()
	server.Stop()
	time.Sleep(time.Duration(seconds) * time.Second)
	server.Start()
	answers()
	w.check()
}

// An alarm says what is new, once, and goes out when its way is there again; the exit code of --once
// tells of it.
func TestWatchAlarms(t *testing.T) {
	t.Parallel()
	at := fmt.Sprint("127.0.0.1:", freeport.On(t)) // the way is down at first
	w := newWatched(t, "yorvet-watch: 1\nestate: estate\nchecks:\n  - {name: hazards, every: 1h}\nalarms:\n"+
		"  - {name: hook, post: {url: \"http://"+at+"/alarms\"}}\n")
	once := func() (code int) {
		t.Helper()
		p := w.start("--once")
		p.read.Wait()
		_ = p.cmd.Wait()
		return p.cmd.ProcessState.ExitCode()
	}
	if code := once(); code != 3 {
		t.Errorf("the way is down, and the exit code %d", code)
	}
	var posted []map[string]any
	listener, err := net.Listen("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var one map[string]any
		if err := json.NewDecoder(r.Body).Decode(&one); err != nil {
			t.Error(err)
		}
		posted = append(posted, one)
	})}
	go func() { _ = server.Serve(listener) }()
	defer server.Close()
	change := func(statement string) {
		t.Helper()
		db, err := sql.Open("sqlite", "file:"+w.store+"?_txlock=immediate")
		if err == nil {
			_, err = db.Exec(statement)
			_ = db.Close()
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	change(`UPDATE deliveries SET due = 0`)
	if code := once(); code != 0 || len(posted) != 1 {
		t.Fatalf("exit code %d, %d posted", code, len(posted))
	}
	if says := fmt.Sprint(posted[0]["says"]); !strings.Contains(says, "found at first") {
		t.Errorf("it says %q", says)
	}
	due := `UPDATE items SET due = due - 3700000, slot = slot - 3700000`
	change(due)
	if code := once(); code != 0 || len(posted) != 1 {
		t.Errorf("nothing changed: exit code %d, %d posted", code, len(posted))
	}
	groups, err := os.ReadFile(filepath.Join(w.dir, "estate", "groups.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	w.write("estate/groups.yaml", strings.Replace(string(groups), "admit members", "admit anyone", 1))
	change(due)
	if code := once(); code != 1 || len(posted) != 2 {
		t.Errorf("it changed: exit code %d, %d posted", code, len(posted))
	}
	w.write("estate/groups.yaml", string(groups))
	change(due)
	if code := once(); code != 1 || len(posted) != 3 || !strings.Contains(fmt.Sprint(posted[2]["says"]), "resolved") {
		t.Errorf("it is over: exit code %d, %v", code, posted[len(posted)-1]["says"])
	}
	w.check()
}

// What is broken by one and then by everybody is worse, which is an alarm of its own; its subject
// says which group it is and who changed it, and nobody made up is named.
func TestWatchTellsOfWorse(t *testing.T) {
	t.Parallel()
	w := newWatched(t, "yorvet-watch: 1\nestate: small.yaml\nexpectations:\n  - {name: promises, every: 1h, files: [small.expect]}\n")
	w.write("small.expect", "to crew@kelp.example\n  reaches members in inbox\n  admits outside\n")
	write := func(full int) {
		var b strings.Builder
		b.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople:\n")
		for i := range 30 {
			mailbox := map[bool]string{true: "full", false: "open"}[i < full]
			fmt.Fprintf(&b, "  - {address: p%d@kelp.example, mailbox: %s}\n", i, mailbox)
		}
		b.WriteString("groups:\n  - {address: crew@kelp.example, members: [{everyone: true}]}\n")
		w.write("small.yaml", b.String())
	}
	once := func() *present.WatchEvent {
		t.Helper()
		before := maps.Clone(w.heard)
		p := w.start("--once")
		p.read.Wait()
		_ = p.cmd.Wait()
		db, err := sql.Open("sqlite", "file:"+w.store+"?_txlock=immediate")
		if err == nil {
			_, err = db.Exec(`UPDATE items SET due = due - 3700000, slot = slot - 3700000`)
			_ = db.Close()
		}
		if err != nil || len(w.heard) != len(before)+1 {
			t.Fatalf("%v, %d answers\n%s", err, len(w.heard)-len(before), p.errs)
		}
		maps.DeleteFunc(w.heard, func(run string, _ *present.WatchEvent) bool { return before[run] != nil })
		for _, e := range w.heard {
			return e
		}
		return nil
	}
	write(1)
	first := once()
	for _, f := range first.New {
		if strings.Contains(f.Says, "no-such-stranger") || strings.HasSuffix(f.Says, " ") {
			t.Errorf("it says %q", f.Says)
		}
	}
	if all := fmt.Sprint(first.New); !strings.Contains(all, "anyone outside: ") {
		t.Errorf("it does not say who: %s", all)
	}
	write(30)
	worse := once()
	if !worse.Alarm || worse.State != "wrong" || !strings.Contains(worse.Subject(), "crew@kelp.example: reaches members in inbox: broken by") {
		t.Errorf("everybody is told as %+v", worse)
	}
}

// The page shows, tells of its health, and gives metrics that a parser of the library reads. It
// takes nothing, and listens to this machine alone unless that is said.
func TestWatchPage(t *testing.T) {
	t.Parallel()
	port := fmt.Sprint(freeport.On(t))
	at := "127.0.0.1:" + port
	w := newWatched(t, often)
	p := w.start("--listen", ":"+port)
	defer p.kill()
	get := func(method, path, accept string) (int, string, string) {
		t.Helper()
		request, err := http.NewRequest(method, "http://"+at+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		if accept != "" {
			request.Header.Set("Accept", accept)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return 0, "", err.Error()
		}
		defer response.Body.Close()
		body, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatal(err)
		}
		return response.StatusCode, response.Header.Get("Content-Type"), string(body)
	}
	await(t, func() bool { return len(w.kept()) >= 3 })
	if code, _, body := get("GET", "/healthz", ""); code != 200 || !strings.Contains(body, `"healthy":true`) {
		t.Errorf("health %d: %s", code, body)
	}
	if code, kind, body := get("GET", "/", ""); code != 200 || !strings.HasPrefix(kind, "text/html") || !strings.Contains(body, "Kelpmere") {
		t.Errorf("page %d, %s, %d bytes", code, kind, len(body))
	}
	if code, kind, body := get("GET", "/items", ""); code != 200 || !strings.HasPrefix(kind, "text/html") ||
		!strings.Contains(body, "3 items, ") || !strings.Contains(body, "13 expectations: 2 broken") {
		t.Errorf("items %d, %s\n%s", code, kind, body)
	}
	w.inBrowser("http://"+at+"/", "The mail groups at a glance", "What is watched")
	w.inBrowser("http://"+at+"/items", "3 items, ", "promises")
	for _, wrong := range [][2]string{{"POST", "/"}, {"DELETE", "/metrics"}, {"GET", "/etc/passwd"}, {"GET", "/healthz/x"}} {
		if code, _, _ := get(wrong[0], wrong[1], ""); code != 404 && code != 405 {
			t.Errorf("%s %s: %d", wrong[0], wrong[1], code)
		}
	}
	code, kind, body := get("GET", "/metrics", "application/openmetrics-text;version=1.0.0")
	if code != 200 || !strings.HasPrefix(kind, "application/openmetrics-text") || !strings.HasSuffix(body, "# EOF\n") {
		t.Errorf("metrics %d, %s", code, kind)
	}
	_, _, body = get("GET", "/metrics", "text/plain")
	parser := expfmt.NewTextParser(model.LegacyValidation)
	families, err := parser.TextToMetricFamilies(strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"yorvet_item_age_seconds", "yorvet_item_failures", "yorvet_item_state", "yorvet_build_info",
		"yorvet_probe_messages", "yorvet_item_due_timestamp_seconds"} {
		if families[name] == nil {
			t.Errorf("there is no metric %s", name)
		}
	}
	if n := len(families["yorvet_item_age_seconds"].GetMetric()); n != 3 {
		t.Errorf("%d items", n)
	}
}

// inBrowser has a browser draw a page, and checks what it holds then.
func (w *watched) inBrowser(url string, wants ...string) {
	w.t.Helper()
	browser, err := exec.LookPath("chromium")
	if err != nil {
		if os.Getenv("YORVET_TEST_SERVERS") != "" {
			w.t.Fatal(err)
		}
		w.t.Log("the page is not drawn: ", err)
		return
	}
	ctx, cancel := context.WithTimeout(w.t.Context(), time.Minute)
	defer cancel()
	drawn, err := exec.CommandContext(ctx, browser, "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run",
		"--disable-component-update", "--user-data-dir="+w.t.TempDir(), "--virtual-time-budget=5000", "--dump-dom", url).Output()
	if err != nil {
		w.t.Fatal(err)
	}
	for _, want := range wants {
		if !strings.Contains(string(drawn), want) {
			w.t.Errorf("%s does not show %q", url, want)
		}
	}
}

// A plan sends messages and looks for them, and its alarms go out by mail: through the stand-in.
func TestWatchProbesAndMail(t *testing.T) {
	t.Parallel()
	w := newWatched(t, "yorvet-watch: 1\nestate: estate\nchecks:\n  - {name: hazards, every: 1h}\n"+
		"probes:\n  - {name: delivery, every: 1h, groups: [lost-property], sample: 2, send: true}\n"+
		"alarms:\n  - {name: team, mail: {from: odile.renn@kelpmere.example, to: [ines.maro@kelpmere.example]}}\n")
	startStandIn(t, w.dir)
	p := w.start("--once")
	p.read.Wait()
	_ = p.cmd.Wait()
	if code := p.cmd.ProcessState.ExitCode(); code != 1 {
		t.Fatalf("exit code %d: %s", code, p.errs)
	}
	states := map[string]string{}
	for _, a := range w.kept() {
		states[a.Series.Kind] = a.State
		if a.Series.Kind == "probe" && !strings.Contains(a.Says, "as predicted") {
			t.Errorf("the probe says %q", a.Says)
		}
	}
	if states["check"] != store.Wrong || states["probe"] != store.Good {
		t.Errorf("%v: %s", states, p.errs)
	}
	s := openOnly(t, w.store)
	defer s.Close()
	if waiting, err := s.Backlogs(t.Context(), "plan"); err != nil || len(waiting) > 0 {
		t.Errorf("alarms wait: %+v, %v", waiting, err)
	}
	if runs, err := s.Runs(t.Context()); err != nil || len(runs) != 1 || runs[0].Good == 0 || runs[0].Bad > 0 {
		t.Errorf("runs are %+v, %v", runs, err)
	}
	ask := func(into any, args ...string) int {
		t.Helper()
		r := run(t, w.dir, []string{"YORVET_STORE=" + w.store}, append(args, "--json"))
		if err := json.Unmarshal([]byte(r.stdout), into); err != nil {
			t.Fatalf("%v: %v, %s", args, err, r.stderr)
		}
		return r.code
	}
	var kept present.History
	if ask(&kept, "history", "--kind", "probe"); len(kept.Runs) != 1 || kept.Runs[0].Item != "plan/delivery" {
		t.Errorf("history lists %+v", kept.Runs)
	}
	var of present.HistoryOf
	if ask(&of, "history", "lost-property"); of.Mail.Checks == 0 || of.Mail.Wrong > 0 || of.Mail.P95 <= 0 || len(of.Mail.Days) != 1 {
		t.Errorf("of the group %+v", of.Mail)
	}
	runs, err := s.Runs(t.Context())
	if err != nil || len(runs) != 1 {
		t.Fatal(runs, err)
	}
	var shown present.HistoryShown
	if code := ask(&shown, "history", "show", runs[0].Name); code != 0 || shown.Kind != "probe" || shown.State != "good" || shown.Good == 0 {
		t.Errorf("shown is %+v", shown)
	}
	data, err := os.ReadFile(filepath.Join(w.dir, "standin.log"))
	if err != nil || !strings.Contains(string(data), "ines.maro@kelpmere.example") {
		t.Errorf("the stand-in knows of no alarm: %v", err)
	}
}
