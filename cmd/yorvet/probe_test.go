package main

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/campaign"
)

// standIn starts the stand-in of the program in a demo folder, and returns the
// folder. Its connections are hasty.
func standIn(t *testing.T, args ...string) string {
	t.Helper()
	dir := t.TempDir()
	if r := run(t, dir, nil, []string{"demo", "ferries", "--write-only"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	dir = filepath.Join(dir, "ferries")
	startStandIn(t, dir, args...)
	return dir
}

// startStandIn starts the stand-in, and kills it at the end of the test.
func startStandIn(t *testing.T, dir string, args ...string) *exec.Cmd {
	t.Helper()
	ready := filepath.Join(dir, "ready.json")
	_ = os.Remove(ready)
	cmd := exec.Command(program, append([]string{"--estate", "estate", "standin", "--connections", "connections.yaml", "--ready", "ready.json", "--log", "standin.log", "--digest-every", "200ms"}, args...)...)
	cmd.Dir = dir
	var output bytes.Buffer
	cmd.Stdout, cmd.Stderr = &output, &output
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	await(t, func() bool {
		_, err := os.Stat(ready)
		return err == nil || cmd.Process.Signal(syscall.Signal(0)) != nil
	})
	if _, err := os.Stat(ready); err != nil {
		t.Fatalf("the stand-in does not start: %s", output.String())
	}
	connections, err := os.ReadFile(filepath.Join(dir, "connections.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	hasty := strings.NewReplacer("patience: 20s", "patience: 60s", "quiet: 5s", "quiet: 1500ms", "settle: 1s", "settle: 300ms", "look-every: 2s", "look-every: 500ms", "pace: 200", "pace: 100").Replace(string(connections))
	if err := os.WriteFile(filepath.Join(dir, "connections.yaml"), []byte(hasty), 0o600); err != nil {
		t.Fatal(err)
	}
	return cmd
}

// logged returns how often each step of each message stands in a stand-in's log.
func logged(t *testing.T, dir string) map[string]int {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, "standin.log"))
	if err != nil {
		t.Fatal(err)
	}
	counts := map[string]int{}
	for line := range strings.Lines(string(data)) {
		var l struct{ Step, Message string }
		if err := json.Unmarshal([]byte(line), &l); err != nil {
			t.Fatalf("%q is no line of a log: %v", line, err)
		}
		counts[l.Step+" "+l.Message]++
	}
	return counts
}

// awaitMore waits until a stand-in's log is longer than it was.
func awaitMore(t *testing.T, dir string, length int64) {
	t.Helper()
	await(t, func() bool { return logLength(dir) > length })
}

// logLength returns how long a stand-in's log is, in octets.
func logLength(dir string) int64 {
	stat, err := os.Stat(filepath.Join(dir, "standin.log"))
	if err != nil {
		return 0
	}
	return stat.Size()
}

// What a stand-in on disk has taken over is there after it was killed.
func TestStandInKilled(t *testing.T) {
	t.Parallel() // most of it is waiting
	runs := campaign.Runs(t)
	dir := t.TempDir()
	if r := run(t, dir, nil, []string{"demo", "ferries", "--write-only"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	dir = filepath.Join(dir, "ferries")
	taken := 0
	for i := range min(runs, 9) {
		server := startStandIn(t, dir, "--dir", "kept")
		name, length := fmt.Sprintf("kept-%d", i), logLength(dir)
		cmd := exec.Command(program, "--estate", "estate", "probe", "radio-watch@kelpmere.example", "works-council@kelpmere.example", "--send", "--run", name)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "XDG_STATE_HOME="+stateOf(dir))
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		awaitMore(t, dir, length)
		time.Sleep(time.Duration(50+100*i) * time.Millisecond)
		_ = server.Process.Kill()
		_ = server.Wait()
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		again := startStandIn(t, dir, "--dir", "kept")
		time.Sleep(700 * time.Millisecond) // it hands out what it has
		seen := run(t, dir, nil, []string{"--estate", "estate", "probe", "--resume", name, "--send", "--json"})
		var answer struct {
			Cases []struct{ Case, Reply, Seen string }
		}
		if err := json.Unmarshal([]byte(seen.stdout), &answer); err != nil && !strings.Contains(seen.stderr, "there is no run") && !strings.Contains(seen.stderr, "there are no runs") {
			t.Fatalf("%v: %s%s", err, seen.stdout, seen.stderr)
		}
		for _, c := range answer.Cases {
			if strings.HasPrefix(c.Reply, "250 ") {
				taken++
			}
			if strings.HasPrefix(c.Reply, "250 ") && c.Seen == "silence" {
				t.Errorf("run %d: case %s got %q, and is gone", i, c.Case, c.Reply)
			}
		}
		_ = again.Process.Kill()
		_ = again.Wait()
	}
	if taken == 0 {
		t.Error("nothing was taken over before a stand-in was killed")
	}
}

// No secret shows: not in what is printed, recorded, kept as evidence or logged.
func TestSecretsStayHidden(t *testing.T) {
	t.Parallel() // most of it is waiting
	dir := standIn(t)
	secret, err := os.ReadFile(filepath.Join(dir, "standin.secret"))
	if err != nil {
		t.Fatal(err)
	}
	r := run(t, dir, nil, []string{"--estate", "served", "probe", "lost-property@kelpmere.example", "--send", "--evidence", "evidence", "--json"})
	broken := run(t, dir, nil, []string{"--estate", "served", "probe", "lost-property@kelpmere.example", "--send", "--connections", "estate/people.csv"})
	hidden := strings.TrimSpace(string(secret))
	for _, text := range []string{r.stdout, r.stderr, broken.stdout, broken.stderr} {
		if strings.Contains(text, hidden) {
			t.Error("the password is printed")
		}
	}
	files := 0
	_ = filepath.WalkDir(dir, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || entry.Name() == "standin.secret" {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		files++
		if strings.Contains(string(data), hidden) {
			t.Errorf("the password stands in %s", path)
		}
		return nil
	})
	if files < 10 || broken.code != 2 {
		t.Errorf("%d files; a bad connections file ends with %d", files, broken.code)
	}
}

// What waits for an approver is let in by their answer, and a roll call counts who
// has answered.
func TestHeldAndRollcall(t *testing.T) {
	t.Parallel() // most of it is waiting
	dir := standIn(t)
	do := func(args ...string) result {
		t.Helper()
		r := run(t, dir, nil, append([]string{"--estate", "estate"}, args...))
		if r.code > 1 {
			t.Fatalf("%v: %s%s", args, r.stdout, r.stderr)
		}
		return r
	}
	do("probe", "sailing-notices@kelpmere.example", "--kind", "insider", "--kind", "rule", "--send", "--run", "held")
	if r := do("held", "list", "--as", "odile.renn@kelpmere.example"); !strings.Contains(r.stdout, "1 held message waits for odile.renn@kelpmere.example") {
		t.Fatal(r.stdout)
	}
	var queue struct{ Held []struct{ Number int } }
	if r := do("held", "list", "--as", "odile.renn@kelpmere.example", "--json"); json.Unmarshal([]byte(r.stdout), &queue) != nil || len(queue.Held) != 1 {
		t.Fatal(r.stdout)
	}
	do("held", "admit", fmt.Sprint(queue.Held[0].Number), "--as", "odile.renn@kelpmere.example")
	if r := do("held", "list", "--as", "odile.renn@kelpmere.example"); !strings.Contains(r.stdout, "No held message waits for odile.renn@kelpmere.example") {
		t.Error(r.stdout)
	}
	if r := do("rollcall", "radio-watch@kelpmere.example", "--as", "abel.crook@kelpmere.example"); !strings.Contains(r.stdout, "Plan: ask 2 members of radio-watch@kelpmere.example") {
		t.Error(r.stdout)
	}
	do("rollcall", "radio-watch@kelpmere.example", "--as", "abel.crook@kelpmere.example", "--send", "--run", "call")
	if r := do("rollcall", "--run", "call"); !strings.Contains(r.stdout, "2 not yet") {
		t.Error(r.stdout)
	}
	if r := do("probe", "send-as", "charter@kelpmere.example", "--send"); r.code != 0 || !strings.Contains(r.stdout, "all as predicted") ||
		!strings.Contains(r.stdout, "  lena.coil@kelpmere.example, as charter@kelpmere.example: no code\n") {
		t.Error(r.stdout) // each is told whether the code came
	}
	tidy := do("probe", "--tidy", "held")
	if !strings.Contains(tidy.stdout, "messages of run held removed") || strings.HasPrefix(tidy.stdout, "0 ") {
		t.Error(tidy.stdout)
	}
}

// The answers of a run come as a table, as JSON and as JUnit XML, and agree; the raw
// messages of what differed are kept; all that was sent can be taken out again.
func TestProbeAnswers(t *testing.T) {
	t.Parallel() // most of it is waiting
	dir := standIn(t)
	served := []string{"--estate", "served"} // what is written is otherwise: it is the estate that is served
	probe := append(served, "probe", "lost-property@kelpmere.example", "--send", "--run", "answers", "--evidence", "evidence", "--json")
	r := run(t, dir, nil, probe)
	var answer struct {
		Run                         string
		AsPredicted, NotAsPredicted int
		Cases                       []struct{ Case, From, To, Predicted, Seen, Reply string }
		Members                     []struct {
			Case, Address, Predicted, Seen, Where string
			Seconds                               float64
			AsPredicted                           bool
		}
		Causes []struct {
			Explains int
			AsIf     []struct{ Says, Group, Person, Setting, Value, YAML string }
		}
	}
	if err := json.Unmarshal([]byte(r.stdout), &answer); err != nil || r.code != 1 {
		t.Fatalf("%v, exit code %d: %s", err, r.code, r.stderr)
	}
	if answer.Run != "answers" || len(answer.Causes) != 1 || answer.NotAsPredicted == 0 || answer.Causes[0].Explains != answer.NotAsPredicted {
		t.Fatalf("%+v", answer.Causes)
	}
	if asIf := answer.Causes[0].AsIf[0]; asIf.Group != "lost-property@kelpmere.example" || asIf.Person != "tam.weld@kelpmere.example" || asIf.Value != "copy: digest" || !strings.Contains(asIf.YAML, "copy: digest") {
		t.Errorf("%+v", asIf)
	}
	again := run(t, dir, nil, append(served, "probe", "--show", "answers", "--format", "junit"))
	var xmlAnswer struct {
		Suites []struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
		} `xml:"testsuite"`
	}
	if err := xml.Unmarshal([]byte(again.stdout), &xmlAnswer); err != nil || xmlAnswer.Suites[0].Failures != answer.NotAsPredicted || xmlAnswer.Suites[0].Tests != answer.NotAsPredicted+answer.AsPredicted {
		t.Errorf("%v: %+v, and %d not as predicted", err, xmlAnswer, answer.NotAsPredicted)
	}
	table := run(t, dir, nil, append(served, "probe", "--show", "answers", "--format", "csv"))
	if rows := strings.Count(table.stdout, "\n"); rows != 1+len(answer.Cases)+len(answer.Members) {
		t.Errorf("%d rows for %d cases and %d members", rows, len(answer.Cases), len(answer.Members))
	}
	kept, err := filepath.Glob(filepath.Join(dir, "evidence", "*.eml"))
	if err != nil || len(kept) == 0 {
		t.Fatalf("%d messages are kept as evidence: %v", len(kept), err)
	}
	for _, path := range kept {
		data, err := os.ReadFile(path)
		info, err2 := os.Stat(path)
		if err != nil || err2 != nil || info.Mode().Perm() != 0o600 || !strings.Contains(string(data), "Yorvet-Probe: answers.") {
			t.Errorf("%s: %v, %v, %o", path, err, err2, info.Mode().Perm())
		}
	}
	tidy := run(t, dir, nil, append(served, "probe", "--tidy", "answers"))
	twice := run(t, dir, nil, append(served, "probe", "--tidy", "answers"))
	if tidy.code != 0 || twice.code != 0 || strings.HasPrefix(tidy.stdout, "0 ") {
		t.Errorf("%s%s%s", tidy.stdout, tidy.stderr, twice.stderr)
	}
}

// The stand-in says how to reach it, and reads its estate anew on a signal.
func TestStandInProgram(t *testing.T) {
	t.Parallel() // most of it is waiting
	dir := t.TempDir()
	if r := run(t, dir, nil, []string{"demo", "ferries", "--write-only"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	dir = filepath.Join(dir, "ferries")
	server := startStandIn(t, dir)
	var ready struct {
		Outside, Submission, Submissions, IMAP, IMAPS, Certificate, Keeper string
		Process                                                            int
	}
	data, err := os.ReadFile(filepath.Join(dir, "ready.json"))
	if err == nil {
		err = json.Unmarshal(data, &ready)
	}
	if err != nil || ready.Process != server.Process.Pid || !strings.HasPrefix(ready.Outside, "127.0.0.1:") || ready.Keeper != "keeper" {
		t.Fatalf("%v: %+v", err, ready)
	}
	for _, name := range []string{"standin.secret", "connections.yaml", "standin.log"} {
		if info, err := os.Stat(filepath.Join(dir, name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", name, info.Mode(), err)
		}
	}
	groups := filepath.Join(dir, "estate", "groups.yaml")
	text, err := os.ReadFile(groups)
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.Replace(string(text), "members: [odile.renn@kelpmere.example, bram.sool@kelpmere.example]", "members: [odile.renn@kelpmere.example, bram.sool@kelpmere.example, bero.fell@kelpmere.example]", 1)
	if err := os.WriteFile(groups, []byte(changed), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := server.Process.Signal(syscall.SIGHUP); err != nil {
		t.Fatal(err)
	}
	await(t, func() bool { return logged(t, dir)["reloaded "] > 0 })
	r := run(t, dir, nil, []string{"--estate", "estate", "probe", "radio-watch@kelpmere.example", "--send"})
	if r.code != 0 || !strings.Contains(r.stdout, "all as predicted") {
		t.Errorf("with the estate read anew: %s%s", r.stdout, r.stderr)
	}
	if notices := logged(t, dir); len(notices) == 0 {
		t.Error("nothing is logged")
	}
	if err := server.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := server.Wait(); err != nil {
		t.Errorf("an interrupted stand-in ends with %v", err)
	}
}
