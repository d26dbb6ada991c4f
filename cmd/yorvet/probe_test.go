package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// standIn starts the stand-in of the program in a demo folder, and returns the
// folder. Its lanes are hasty.
func standIn(t *testing.T, args ...string) string {
	t.Helper()
	dir := t.TempDir()
	if r := run(t, dir, nil, []string{"demo", "ferries"}); r.code != 0 {
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
	cmd := exec.Command(program, append([]string{"--estate", "estate", "standin", "--lanes", "lanes.yaml", "--ready", "ready.json", "--log", "standin.log", "--digest-every", "200ms"}, args...)...)
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
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if _, err := os.Stat(ready); err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the stand-in does not start: %s", output.String())
		}
	}
	lanes, err := os.ReadFile(filepath.Join(dir, "lanes.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	hasty := strings.NewReplacer("patience: 20s", "patience: 10s\n  quiet: 1500ms", "settle: 1s", "settle: 300ms", "look-every: 2s", "look-every: 500ms", "pace: 200", "pace: 100").Replace(string(lanes))
	if err := os.WriteFile(filepath.Join(dir, "lanes.yaml"), []byte(hasty), 0o600); err != nil {
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

// A probe that is killed at any moment goes on: nothing is sent twice, and all is
// seen.
func TestProbeKilled(t *testing.T) {
	dir := standIn(t)
	random := rand.New(rand.NewPCG(7, 7))
	for i := range 20 {
		name := fmt.Sprintf("killed-%d", i)
		args := []string{"--estate", "estate", "probe", "lost-property@kelpmere.example", "weather-watch@kelpmere.example", "--send", "--run", name}
		cmd := exec.Command(program, args...)
		cmd.Dir = dir
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(random.IntN(700)) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if _, err := os.Stat(filepath.Join(dir, "yorvet-runs", name, "journal.jsonl")); err != nil {
			continue // it was killed before anything was sent
		}
		again := run(t, dir, nil, []string{"--estate", "estate", "probe", "--resume", name, "--json"})
		if strings.Contains(again.stderr, "holds no plan") {
			continue
		}
		var answer struct {
			NotAsPredicted int
			Cases          []struct{ Seen string }
			Ended          bool
		}
		if err := json.Unmarshal([]byte(again.stdout), &answer); err != nil {
			t.Fatalf("%v: %s%s", err, again.stdout, again.stderr)
		}
		unknown := 0
		for _, c := range answer.Cases {
			if c.Seen == "unknown" {
				unknown++ // it was killed right before this was sent, or right after
			}
		}
		if !answer.Ended || answer.NotAsPredicted > 0 && unknown == 0 || unknown > 1 {
			t.Errorf("%s: %d not as predicted, %d unknown:\n%s", name, answer.NotAsPredicted, unknown, again.stdout)
		}
	}
	for what, n := range logged(t, dir) {
		if strings.HasPrefix(what, "judged ") && n > 1 {
			t.Errorf("%s: %d times", what, n)
		}
	}
}

// What a stand-in on disk has taken over is there after it was killed.
func TestStandInKilled(t *testing.T) {
	dir := t.TempDir()
	if r := run(t, dir, nil, []string{"demo", "ferries"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	dir = filepath.Join(dir, "ferries")
	for i := range 5 {
		server := startStandIn(t, dir, "--dir", "kept")
		name := fmt.Sprintf("kept-%d", i)
		cmd := exec.Command(program, "--estate", "estate", "probe", "radio-watch@kelpmere.example", "works-council@kelpmere.example", "--send", "--run", name)
		cmd.Dir = dir
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(200+150*i) * time.Millisecond)
		_ = server.Process.Kill()
		_ = server.Wait()
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		again := startStandIn(t, dir, "--dir", "kept")
		time.Sleep(700 * time.Millisecond) // it hands out what it has
		seen := run(t, dir, nil, []string{"--estate", "estate", "probe", "--resume", name, "--json"})
		var answer struct {
			Cases []struct{ Case, Reply, Seen string }
		}
		if err := json.Unmarshal([]byte(seen.stdout), &answer); err != nil && !strings.Contains(seen.stderr, "journal") && !strings.Contains(seen.stderr, "no plan") {
			t.Fatalf("%v: %s%s", err, seen.stdout, seen.stderr)
		}
		for _, c := range answer.Cases {
			if strings.HasPrefix(c.Reply, "250 ") && c.Seen == "silence" {
				t.Errorf("run %d: case %s got %q, and is gone", i, c.Case, c.Reply)
			}
		}
		_ = again.Process.Kill()
		_ = again.Wait()
	}
}

// No secret shows: not in what is printed, recorded, kept as evidence or logged.
func TestSecretsStayHidden(t *testing.T) {
	dir := standIn(t)
	secret, err := os.ReadFile(filepath.Join(dir, "standin.secret"))
	if err != nil {
		t.Fatal(err)
	}
	r := run(t, dir, nil, []string{"--estate", "served", "probe", "lost-property@kelpmere.example", "--send", "--evidence", "evidence", "--json"})
	broken := run(t, dir, nil, []string{"--estate", "served", "probe", "lost-property@kelpmere.example", "--send", "--lanes", "estate/people.csv"})
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
		t.Errorf("%d files; a bad lanes file ends with %d", files, broken.code)
	}
}

// What waits for an approver is let in by their answer, and a roll call counts who
// has answered.
func TestHeldAndRollcall(t *testing.T) {
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
	if r := do("held", "list", "--as", "odile.renn@kelpmere.example"); !strings.Contains(r.stdout, "1 message waits") {
		t.Fatal(r.stdout)
	}
	do("held", "admit", "1", "--as", "odile.renn@kelpmere.example")
	if r := do("held", "list", "--as", "odile.renn@kelpmere.example"); !strings.Contains(r.stdout, "0 messages wait") {
		t.Error(r.stdout)
	}
	if r := do("rollcall", "radio-watch@kelpmere.example", "--as", "abel.crook@kelpmere.example"); !strings.Contains(r.stdout, "Nothing is sent") {
		t.Error(r.stdout)
	}
	do("rollcall", "radio-watch@kelpmere.example", "--as", "abel.crook@kelpmere.example", "--send", "--run", "call")
	if r := do("rollcall", "--run", "call"); !strings.Contains(r.stdout, "2 not yet") {
		t.Error(r.stdout)
	}
	if r := do("probe", "voices", "charter@kelpmere.example", "--send"); r.code != 0 || !strings.Contains(r.stdout, "all as predicted") {
		t.Error(r.stdout)
	}
	tidy := do("probe", "--tidy", "held")
	if !strings.Contains(tidy.stdout, "messages of run held removed") || strings.HasPrefix(tidy.stdout, "0 ") {
		t.Error(tidy.stdout)
	}
}
