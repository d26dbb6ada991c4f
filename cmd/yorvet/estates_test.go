//go:build unix

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
	"yorvet.example/yorvet/internal/store/storetest"
)

// must runs the program, which has to end with a code, and returns what it answers.
func must(t *testing.T, dir string, code int, env []string, args ...string) string {
	t.Helper()
	r := run(t, dir, env, args)
	if r.code != code {
		t.Fatalf("yorvet %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), r.code, code, r.stdout, r.stderr)
	}
	return r.stdout + r.stderr
}

// Two estates in one store, with all names alike, see nothing of each other; a copy of one is asked about.
func TestTwoEstates(t *testing.T) {
	t.Parallel() // most of it is waiting
	store := filepath.Join(t.TempDir(), "shared.db")
	env := []string{"YORVET_STORE=" + store}
	var dirs []string
	for range 2 {
		dir := standIn(t)
		dirs = append(dirs, dir)
		probe := must(t, dir, 0, env, "probe", "lost-property", "--send", "--run", "monday")
		if !strings.Contains(probe, "all as predicted") {
			t.Errorf("%s", probe)
		}
	}
	must(t, dirs[0], 1, env, "check")
	for i, dir := range dirs {
		if text := must(t, dir, 0, env, "runs", "list"); !strings.Contains(text, "1 run in") {
			t.Errorf("estate %d has %s", i, text)
		}
		if text := must(t, dir, 0, env, "history"); strings.Contains(text, "hazards") != (i == 0) {
			t.Errorf("estate %d has %s", i, text)
		}
	}
	if text := must(t, dirs[1], 0, env, "runs", "list", "--all-estates"); !strings.Contains(text, "2 runs in") {
		t.Errorf("all are %s", text)
	}
	nowhere := t.TempDir()
	if text := must(t, nowhere, 2, env, "runs", "list"); !strings.Contains(text, "has 2 estates; name one with --estate") {
		t.Errorf("without an estate: %s", text)
	}
	must(t, dirs[0], 0, env, "runs", "remove", "monday")
	if text := must(t, dirs[1], 0, env, "runs", "show", "monday"); !strings.Contains(text, "all as predicted") {
		t.Errorf("the other's run: %s", text)
	}
	// The copy of a folder is asked about, once, and begins anew or joins.
	copied := filepath.Join(t.TempDir(), "copy")
	if err := os.CopyFS(copied, os.DirFS(dirs[1])); err != nil {
		t.Fatal(err)
	}
	if text := must(t, copied, 2, env, "runs", "list"); !strings.Contains(text, "yorvet store join; if it is another") {
		t.Errorf("a copy is taken for the estate: %s", text)
	}
	if text := must(t, copied, 1, env, "check"); !strings.Contains(text, "is not kept") {
		t.Errorf("a copy writes: %s", text)
	}
	must(t, copied, 0, env, "store", "join")
	if text := must(t, copied, 0, env, "runs", "list"); !strings.Contains(text, "1 run in") {
		t.Errorf("it has joined: %s", text)
	}
	must(t, copied, 0, env, "store", "begin")
	if text := must(t, copied, 0, env, "runs", "list"); !strings.Contains(text, "0 runs in") {
		t.Errorf("it has begun: %s", text)
	}
	var answer struct {
		Estates []struct{ Places []struct{ Path string } }
	}
	if err := json.Unmarshal([]byte(must(t, dirs[1], 0, env, "store", "--json")), &answer); err != nil || len(answer.Estates) != 1 ||
		len(answer.Estates[0].Places) != 2 {
		t.Errorf("%+v, %v", answer, err)
	}
	if text := must(t, dirs[1], 0, env, "store", "keep", "--days", "90"); !strings.Contains(text, "90 days are kept") {
		t.Errorf("%s", text)
	}
	if text := must(t, dirs[0], 0, env, "store", "keep"); !strings.Contains(text, "400 days are kept") {
		t.Errorf("the other's rule: %s", text)
	}
}

// An identity that is broken is an error with its place, and is not written over.
func TestBrokenIdentity(t *testing.T) {
	dir := t.TempDir()
	must(t, dir, 0, nil, "demo", "ferries", "--write-only")
	dir = filepath.Join(dir, "ferries")
	env := []string{"YORVET_STORE=" + filepath.Join(t.TempDir(), "x.db")}
	for text, want := range map[string]string{
		"yorvet-store: 1\nestate: short\n":      "yorvet-store.yaml:2:1: \"short\" is no name",
		"estate: hb2v27v6lcr626unikjf5uc5x6\n":  "yorvet-store.yaml:1:1: the format version is missing",
		"yorvet-store: 1\nestate: \"' OR 1=1\"": "is no name",
		"yorvet-store: 1\nother: x\n":           "yorvet-store.yaml:2:1: unknown key",
	} {
		lay(t, dir, map[string]string{"yorvet-store.yaml": text})
		if got := must(t, dir, 2, env, "store", "keep"); !strings.Contains(got, want) {
			t.Errorf("%q gives %s, want %s", text, got, want)
		}
		if data, err := os.ReadFile(filepath.Join(dir, "yorvet-store.yaml")); err != nil || string(data) != text {
			t.Errorf("%q is %q, %v", text, data, err)
		}
	}
}

// What only looks writes nothing beside the estate.
func TestLooksWriteNoIdentity(t *testing.T) {
	dir := t.TempDir()
	must(t, dir, 0, nil, "demo", "ferries", "--write-only")
	dir = filepath.Join(dir, "ferries")
	env := []string{"YORVET_STORE=" + filepath.Join(t.TempDir(), "x.db")}
	must(t, dir, 0, env, "store", "--all-estates")
	st, err := store.Open(t.Context(), strings.TrimPrefix(env[0], "YORVET_STORE="))
	if err != nil {
		t.Fatal(err)
	}
	st.Close()
	for _, args := range [][]string{{"history"}, {"runs", "list"}, {"history", "lost-property"}, {"store"}, {"store", "keep"}, {"report", "-o", "-"}} {
		must(t, dir, 0, env, args...)
		if _, err := os.Stat(filepath.Join(dir, "yorvet-store.yaml")); err == nil {
			t.Fatalf("%v has written an identity", args)
		}
	}
	keeps := func(want string) {
		if got := must(t, dir, 0, env, "store", "keep"); !strings.Contains(got, want) {
			t.Errorf("store keep says %s, want %s", got, want)
		}
	}
	keeps("400 days are kept")
	must(t, dir, 0, env, "store", "keep", "--days", "30")
	keeps("30 days are kept")
	if _, err := os.Stat(filepath.Join(dir, "yorvet-store.yaml")); err != nil {
		t.Error(err)
	}
}

// begun starts the program until the test ends, and returns what it says, which may be read while it goes on.
func begun(t *testing.T, dir string, env []string, args ...string) (said func() string, end func()) {
	t.Helper()
	out, err := os.Create(filepath.Join(t.TempDir(), "said"))
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, out, out
	cmd.Env = append(os.Environ(), env...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	end = func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	t.Cleanup(end)
	return func() string {
		data, _ := os.ReadFile(out.Name())
		return string(data)
	}, end
}

// Agents with half of the connections each, and a desk with none, work on a run; who does what, and what nobody does, is told
// before and while it goes on; and a run goes on without its estate.
func TestAgentsHaveHalves(t *testing.T) {
	t.Parallel() // most of it is waiting
	dir := standIn(t)
	data, err := os.ReadFile(filepath.Join(dir, "connections.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	text := string(data)
	look := text[strings.Index(text, "look:"):strings.Index(text, "strangers:")]
	limits := text[strings.Index(text, "limits:"):]
	agents, desk := t.TempDir(), "YORVET_STORE="+storetest.PostgreSQL(t)
	lay(t, agents, map[string]string{"eyes.yaml": "yorvet-connections: 1\n" + look + limits, "hands.yaml": strings.Replace(text, look, "", 1)})
	if err := os.Remove(filepath.Join(dir, "connections.yaml")); err != nil {
		t.Fatal(err)
	}
	state := func(name string) []string { return []string{desk, "XDG_STATE_HOME=" + filepath.Join(agents, name)} }
	said, _ := begun(t, dir, state("one"), "agent", "--connections", filepath.Join(agents, "hands.yaml"))
	await(t, func() bool { return strings.Contains(said(), "it is waited for") })
	plan := []string{"probe", "lost-property"}
	if got := must(t, dir, 2, []string{desk}, plan...); !strings.Contains(got, "there is no connections.yaml here") {
		t.Errorf("nobody has connections: %s", got)
	}
	must(t, dir, 0, []string{desk}, "store", "begin")
	identity, err := os.ReadFile(filepath.Join(dir, "yorvet-store.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	lay(t, agents, map[string]string{"yorvet-store.yaml": string(identity)})
	await(t, func() bool { return strings.Contains(said(), "until interrupted") })
	await(t, func() bool {
		return strings.Contains(must(t, dir, 0, []string{desk}, "runs", "list"), "sends by inside")
	})
	if got := must(t, dir, 0, []string{desk}, plan...); !strings.Contains(got, "cannot be looked into") || !strings.Contains(got, "messages by inside") {
		t.Errorf("without eyes: %s", got)
	}
	_, blind := begun(t, dir, state("two"), "agent", "--connections", filepath.Join(agents, "eyes.yaml"))
	await(t, func() bool { return strings.Contains(must(t, dir, 0, []string{desk}, plan...), "can look into") })
	if got := must(t, dir, 0, []string{desk}, append(plan, "--send", "--run", "both")...); !strings.Contains(got, "all as predicted") ||
		strings.Contains(got, "cannot be looked into") {
		t.Errorf("%s", got)
	}
	blind()
	waiting, end := begun(t, dir, append(state("three")[:1], "XDG_STATE_HOME="+stateOf(dir)), append(plan, "--send", "--run", "open")...)
	await(t, func() bool {
		r := run(t, dir, []string{desk}, []string{"runs", "show", "open"})
		return strings.Contains(r.stdout, "is under way") && strings.Contains(r.stdout, "nobody alive looks into")
	})
	end()
	if t.Failed() {
		t.Log(waiting())
	}
	var list struct {
		Runs []struct {
			Run, Progress            string
			Missing                  []string
			AsPredicted, NotLookedAt int
		}
		Agents []struct{ Sends, Looks []string }
	}
	if err := json.Unmarshal([]byte(must(t, dir, 0, []string{desk}, "runs", "list", "--json")), &list); err != nil {
		t.Fatal(err)
	}
	if r := list.Runs[0]; r.Run != "open" || r.Progress == "" || len(r.Missing) != 1 || r.AsPredicted+r.NotLookedAt > 0 {
		t.Errorf("the open run is %+v: showing it wrote what it came to", r) // and nothing else may be said of it
	}
	begun(t, dir, state("two"), "agent", "--connections", filepath.Join(agents, "eyes.yaml"))
	if err := os.RemoveAll(filepath.Join(dir, "estate")); err != nil {
		t.Fatal(err)
	}
	if got := must(t, dir, 0, []string{desk}, "probe", "--resume", "open", "--send"); !strings.Contains(got, "all as predicted") {
		t.Errorf("without the estate: %s", got)
	}
}

// An agent whose login is refused leaves all further work to another that has the connection, and both sides are told.
func TestRefusedAgent(t *testing.T) {
	t.Parallel() // most of it is waiting
	dir := standIn(t)
	desk := "YORVET_STORE=" + storetest.PostgreSQL(t)
	must(t, dir, 0, []string{desk}, "store", "begin")
	file := filepath.Join(dir, "connections.yaml")
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	wrong := bytes.ReplaceAll(data, []byte("standin.secret"), []byte("wrong.secret"))
	if bytes.Equal(wrong, data) {
		t.Fatalf("the connections are %s", data)
	}
	if err := os.WriteFile(filepath.Join(dir, "wrong.secret"), []byte("nonesuch"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "wrong.yaml"), wrong, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(file, filepath.Join(dir, "right.yaml")); err != nil {
		t.Fatal(err)
	}
	state := func(name string) []string {
		return []string{desk, "XDG_STATE_HOME=" + filepath.Join(t.TempDir(), name)}
	}
	bad, _ := begun(t, dir, state("bad"), "agent", "--connections", "wrong.yaml")
	good, _ := begun(t, dir, state("good"), "agent", "--connections", "right.yaml")
	await(t, func() bool {
		return strings.Count(must(t, dir, 0, []string{desk}, "runs", "list"), "sends by inside") == 2
	})
	r := run(t, dir, []string{desk}, []string{"probe", "lost-property", "radio-watch", "works-council", "--send", "--json", "--pace", "20"})
	var answer struct{ NotAsPredicted, NotLookedAt, NotSent, AsPredicted int }
	if err := json.Unmarshal([]byte(r.stdout), &answer); err != nil || r.code != 0 || answer.NotSent+answer.NotAsPredicted+answer.NotLookedAt > 0 {
		t.Errorf("%+v, exit code %d, %v\n%s%s\n%s", answer, r.code, err, r.stderr, bad(), good())
	}
	if !strings.Contains(bad(), "others do its work") {
		t.Errorf("the agent does not say so: %s", bad())
	}
	if text := must(t, dir, 0, []string{desk}, "runs", "list"); !strings.Contains(text, "others do its work") {
		t.Errorf("the desk is not told: %s", text)
	}
}

// An agent waits for a database that is away when it starts.
func TestAgentWaits(t *testing.T) {
	t.Parallel() // most of it is waiting
	dir := standIn(t)
	server := storetest.NewServer(t)
	desk := []string{"YORVET_STORE=" + server.URL()}
	must(t, dir, 0, desk, "store", "begin")
	server.Stop()
	said, _ := begun(t, dir, append(desk, "XDG_STATE_HOME="+t.TempDir()), "agent")
	await(t, func() bool { return strings.Contains(said(), "it is waited for") })
	server.Start()
	await(t, func() bool { return strings.Contains(said(), "until interrupted") })
	if strings.Count(said(), "waited for") != 1 {
		t.Errorf("it said %s", said())
	}
	text := must(t, dir, 0, desk, "runs", "list")
	server.Stop()
	if got := must(t, dir, 3, desk, "runs", "list"); strings.Contains(got, `\x0a`) || strings.Count(got, "\n") != 1 {
		t.Errorf("it is said in %q, and was %s", got, text)
	}
}

// Two organisations whose runs, connections, plans, items and channels are named alike share a database: agents of each send
// its messages alone, and each is told of its own.
func TestTwoOrganisations(t *testing.T) {
	t.Parallel() // most of it is waiting
	runs := campaign.Rounds(1, 25)
	where := storetest.PostgreSQL(t)
	env := "YORVET_STORE=" + where
	st, err := store.Open(t.Context(), where)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	type organisation struct {
		dir   string
		heard chan string
		sent  int
	}
	var both []*organisation
	for range 2 {
		o := &organisation{dir: standIn(t), heard: make(chan string, 100)}
		both = append(both, o)
		server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			o.heard <- string(body)
		}))
		t.Cleanup(server.Close)
		lay(t, o.dir, map[string]string{"plan.yaml": "yorvet-watch: 1\nestate: estate\nchecks:\n- {name: hazards, every: 1h}\n" +
			"alarms:\n- {name: pager, post: {url: '" + server.URL + "'}}\n"})
		part(t, o.dir, "desk.yaml", "- name: outside", "- name: forged")
		must(t, o.dir, 0, []string{env}, "store", "begin")
		begun(t, o.dir, []string{env, "XDG_STATE_HOME=" + filepath.Join(t.TempDir(), "state")}, "agent")
	}
	for _, o := range both {
		await(t, func() bool {
			return strings.Contains(must(t, o.dir, 0, []string{env}, "runs", "list"), "sends by inside")
		})
	}
	var done sync.WaitGroup
	for _, o := range both {
		done.Go(func() {
			for i := range runs {
				r := run(t, o.dir, []string{env}, []string{"probe", "lost-property", "radio-watch", "--connections", "desk.yaml", "--send",
					"--run", fmt.Sprint("run-", i), "--json"})
				var answer struct{ Cases []struct{ Seen string } }
				if err := json.Unmarshal([]byte(r.stdout), &answer); err != nil || r.code != 0 {
					t.Errorf("run %d of %s: exit code %d, %v\n%s%s", i, o.dir, r.code, err, r.stdout, r.stderr)
					return
				}
				o.sent += len(answer.Cases)
			}
			if r := run(t, o.dir, []string{env}, []string{"watch", "plan.yaml", "--once"}); r.code != 1 {
				t.Errorf("exit code %d: %s%s", r.code, r.stdout, r.stderr)
			}
		})
	}
	done.Wait()
	for i, o := range both {
		own, came := map[string]bool{}, 0
		identity, err := store.ReadIdentity(t.Context(), o.dir)
		if err != nil {
			t.Fatal(err)
		}
		for n := range runs {
			record, err := st.Of(identity.Estate).Record(t.Context(), fmt.Sprint("run-", n))
			if err != nil {
				t.Fatal(err)
			}
			for _, c := range record.Cases {
				own[c.MessageID] = true
			}
		}
		for what := range logged(t, o.dir) {
			step, message, _ := strings.Cut(what, " ")
			message = strings.Trim(message, "<>")
			if strings.HasPrefix(message, "run-") && !own[message] {
				t.Errorf("to service %d came %s, which is the other's", i, what)
			} else if step == "judged" {
				came++
			}
		}
		if len(own) != o.sent || came < 10*runs {
			t.Errorf("%d messages were sent, %d are kept, %d came", o.sent, len(own), came)
		}
		var answer struct{ Runs []struct{ Run, Kind string } }
		if err := json.Unmarshal([]byte(must(t, o.dir, 0, []string{env}, "history", "--json")), &answer); err != nil || len(answer.Runs) != runs+1 {
			t.Errorf("history %d is %+v, %v", i, answer, err)
		}
		for _, r := range answer.Runs {
			if r.Kind != "check" {
				continue
			}
			if text := <-o.heard; !strings.Contains(text, r.Run) || len(o.heard) > 0 {
				t.Errorf("pager %d heard %s and %d more, want run %s", i, text, len(o.heard), r.Run)
			}
		}
		must(t, o.dir, 0, []string{env}, "runs", "remove", "--keep", "0", "--yes")
		if text := must(t, o.dir, 0, []string{env}, "runs", "list"); !strings.Contains(text, "0 runs in") {
			t.Errorf("%s", text)
		}
		if text := must(t, both[1].dir, 0, []string{env}, "runs", "list"); i == 0 && !strings.Contains(text, present.Count(runs, "run", "runs")+" in") {
			t.Errorf("the others' are gone, too: %s", text)
		}
	}
}
