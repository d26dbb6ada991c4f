package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/present"
)

// kept is a folder with the demo and a store, and what is asked there.
type keptDemo struct {
	t   *testing.T
	dir string
	env []string
}

func newKeptDemo(t *testing.T) *keptDemo {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	path := os.Getenv("PATH")
	return &keptDemo{t, dir, []string{"YORVET_STORE=" + filepath.Join(dir, "runs.db"), "PATH=" + path}}
}

func (k *keptDemo) ask(args ...string) result {
	k.t.Helper()
	return run(k.t, k.dir, k.env, args)
}

// json asks for an answer as JSON.
func (k *keptDemo) json(into any, args ...string) result {
	k.t.Helper()
	r := k.ask(append(args, "--json")...)
	if err := json.Unmarshal([]byte(r.stdout), into); err != nil {
		k.t.Fatalf("%v: %v\n%s%s", args, err, r.stdout, r.stderr)
	}
	return r
}

// Answers are kept where a store is, unless somebody says otherwise; history lists, shows and
// compares them.
func TestHistory(t *testing.T) {
	t.Parallel()
	k := newKeptDemo(t)
	var h present.History
	if r := k.json(&h, "history"); r.code != 0 || len(h.Runs) != 0 {
		t.Errorf("at first: %d, %+v", r.code, h)
	}
	for _, args := range [][]string{{"check"}, {"expect", "kelpmere.expect"}, {"compare", "estate", "changed"}, {"check", "--no-store"}} {
		k.ask(args...)
	}
	k.json(&h, "history")
	var kinds []string
	for _, r := range h.Runs {
		kinds = append(kinds, r.Kind+" "+r.State)
	}
	if want := []string{"compare good", "expect wrong", "check wrong"}; !slices.Equal(kinds, want) {
		t.Fatalf("kept are %q, want %q", kinds, want)
	}
	first := h.Runs[2].Run
	groups := filepath.Join(k.dir, "estate", "groups.yaml")
	text, err := os.ReadFile(groups)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(groups, []byte(strings.Replace(string(text), "admit members", "admit anyone", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	var found struct{ Hazards []present.Hazard }
	k.json(&found, "check")
	k.json(&h, "history", "--kind", "check")
	if len(h.Runs) != 2 {
		t.Fatalf("%d checks", len(h.Runs))
	}
	var shown present.HistoryShown
	k.json(&shown, "history", "show", h.Runs[0].Run)
	if len(shown.Found) != len(found.Hazards) || shown.Bad != len(found.Hazards) || !strings.HasPrefix(shown.Says, "6") {
		t.Errorf("shown are %d, found were %d: %s", len(shown.Found), len(found.Hazards), shown.Says)
	}
	var c present.HistoryCompared
	if r := k.json(&c, "history", "compare", first, h.Runs[0].Run); r.code != 1 || len(c.New) == 0 || c.Same == 0 {
		t.Errorf("compared: %d, %d new, %d over, %d in both", r.code, len(c.New), len(c.Resolved), c.Same)
	}
	if c.Same+len(c.New) != len(found.Hazards) {
		t.Errorf("%d in both and %d new are not %d", c.Same, len(c.New), len(found.Hazards))
	}
	if r := k.ask("history", "compare", first, first); r.code != 0 || !strings.Contains(r.stdout, "the same") {
		t.Errorf("with itself: %d, %s", r.code, r.stdout)
	}
	for _, args := range [][]string{{"history", "show", "none"}, {"history", "compare", first, "none"}, {"history", "show"},
		{"history", "--kind", "chekc"}, {"history", "nobody-there"}, {"history", "--days", "0"}} {
		if r := k.ask(args...); r.code != 2 || r.stderr == "" {
			t.Errorf("%v: exit code %d, %s", args, r.code, r.stderr)
		}
	}
	for _, format := range []string{"text", "csv", "markdown"} {
		for _, args := range [][]string{{"history"}, {"history", "show", first}, {"history", "compare", first, h.Runs[0].Run},
			{"history", "sailing-notices"}} {
			if r := k.ask(append(args, "--format", format)...); r.code > 1 || r.stdout == "" {
				t.Errorf("%v as %s: exit code %d, %s", args, format, r.code, r.stderr)
			}
		}
	}
}

// The history of a group tells since when something is found, and who changed the group: with
// Yorvet, or in git.
func TestHistoryOfGroup(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed: ", err)
	}
	k := newKeptDemo(t)
	git := func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-c", "user.name=Wyn Dory", "-c", "user.email=wyn.dory@kelpmere.example", "-c",
			"commit.gpgsign=false"}, args...)...)
		cmd.Dir = k.dir
		now := clock.Now().Format(time.RFC3339)
		cmd.Env = append(os.Environ(), "GIT_AUTHOR_DATE="+now, "GIT_COMMITTER_DATE="+now)
		if output, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, output)
		}
	}
	git("init", "-q")
	git("add", "estate")
	git("commit", "-qm", "one")
	k.ask("check")
	if r := k.ask("group", "set", "works-council", "gate=admit anyone", "--yes"); r.code != 0 {
		t.Fatalf("group set: %d, %s%s", r.code, r.stdout, r.stderr)
	}
	git("commit", "-qam", "two")
	k.ask("check")
	if r := k.ask("member", "remove", "works-council", "suri.pell", "--yes"); r.code != 0 {
		t.Fatalf("member remove: %d, %s%s", r.code, r.stdout, r.stderr)
	}
	git("commit", "-qam", "three")
	var of present.HistoryOf
	k.json(&of, "history", "works-council")
	var told []string
	for _, c := range of.Changes {
		told = append(told, strings.Fields(c.By)[0]+" "+c.Who+": "+c.What)
	}
	all := strings.Join(told, "\n")
	for _, want := range []string{
		"git Wyn Dory: gate: ", "-> admit anyone", "git Wyn Dory: member suri.pell@kelpmere.example removed",
		"yorvet group set works-council", "yorvet member remove works-council suri.pell", "found : new: ",
	} {
		if !strings.Contains(all, want) {
			t.Errorf("not told: %q\n%s", want, all)
		}
	}
	if len(of.Now) == 0 || len(of.Unread) > 0 {
		t.Errorf("%d found now, unread %q", len(of.Now), of.Unread)
	}
	var person present.HistoryOf
	k.json(&person, "history", "suri.pell")
	all = ""
	for _, c := range person.Changes {
		all += c.By + ": " + c.What + "\n"
	}
	if !strings.Contains(all, "member of works-council@kelpmere.example removed") {
		t.Errorf("of the person is told\n%s", all)
	}
}

// A store that cannot be written to is said, and changes neither the answer nor the exit code.
func TestHistoryWithoutStore(t *testing.T) {
	t.Parallel()
	k := newKeptDemo(t)
	plain := k.ask("check", "--no-store")
	k.env = []string{"YORVET_STORE=" + filepath.Join(k.dir, "estate", "groups.yaml")}
	r := k.ask("check")
	if r.code != plain.code || r.stdout != plain.stdout || !strings.Contains(r.stderr, "this answer is not kept") {
		t.Errorf("exit code %d, %s", r.code, r.stderr)
	}
	k.env = nil
	if r := k.ask("check"); r.code != plain.code || r.stderr != "" {
		t.Errorf("without a store: %d, %s", r.code, r.stderr)
	}
	if r := k.ask("history"); r.code != 0 || !strings.Contains(r.stdout, "0 results") || !strings.Contains(r.stdout, "Nothing is kept") {
		t.Errorf("there is a store now: %s%s", r.stdout, r.stderr)
	}
	k.env = []string{"YORVET_STORE=" + filepath.Join(k.dir, "later.db")}
	if r := k.ask("history"); r.code != 0 || !strings.Contains(r.stdout, "from now on") {
		t.Errorf("a store is named: %s%s", r.stdout, r.stderr)
	}
	k.ask("check")
	if r := k.ask("history"); r.code != 0 || !strings.Contains(r.stdout, "1 result in") {
		t.Errorf("it is kept now: %s%s", r.stdout, r.stderr)
	}
}
