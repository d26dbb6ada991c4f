package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/demo"
)

// filesOf returns what is in the files of a folder.
func filesOf(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	paths, err := filepath.Glob(filepath.Join(dir, "*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&b, "-- %s --\n%s", filepath.Base(path), data)
	}
	return b.String()
}

// A change that is taken back leaves every file as it was, byte for byte; taking that back
// makes the change once more.
func TestUndo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	folder := filepath.Join(dir, "estate")
	random := rand.New(rand.NewPCG(14, 9))
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	groups := []string{"lost-property", "charter", "galley", "deck-crew", "south-pier", "volunteers", "night-watch"}
	people := []string{"ines.maro", "tam.weld", "piers.oake", "nora.teale", "bram.sool", "lio.vance"}
	times := campaign.Rounds(12, 100)
	made := 0
	for n := range times {
		group, person := pick(groups...), pick(people...)
		args := [][]string{
			{"group", "set", group, "title=Title " + fmt.Sprint(n)},
			{"group", "set", "*", "gate^=refuse suspect", "--except", group},
			{"group", "set", group, "gate+=hold automatic", "--before", "1"},
			{"group", "set", group, "owners+=" + person + "@kelpmere.example"},
			{"group", "set", group, "attributes.unit=" + fmt.Sprint(n)},
			{"group", "rename", group, fmt.Sprintf("renamed-%d@kelpmere.example", n)},
			{"group", "new", fmt.Sprintf("new-%d@kelpmere.example", n), "--preset", "desk", "--owner", person + "@kelpmere.example"},
			{"group", "remove", "old-regatta"},
			{"member", "add", group, person},
			{"member", "remove", "*", person},
			{"member", "set", "*", person, "--copy", "digest"},
			{"person", "set", person, "mailbox=full", "attributes.base=quay"},
			{"person", "rename", person, fmt.Sprintf("other-%d@kelpmere.example", n)},
			{"person", "leaves", person, "--successor", "odile.renn"},
			{"person", "remove", person},
		}[random.IntN(15)]
		before := filesOf(t, folder)
		r := run(t, dir, nil, append([]string{"--on", "2026-11-23"}, append(args, "--yes")...))
		later := filesOf(t, folder)
		if before == later {
			continue // nothing to change, or refused
		}
		made++
		if r.code != 0 {
			t.Fatalf("%q changes files and ends with %d: %s", args, r.code, r.stderr)
		}
		want(t, dir, "undo --yes", 0, "Takes back change")
		if now := filesOf(t, folder); now != before {
			t.Fatalf("%q: taken back, the files differ", args)
		}
		if n%3 == 0 {
			said := run(t, dir, nil, []string{"changes", "--format", "csv"}).stdout
			_, rest, _ := strings.Cut(said, "\n")
			number, _, _ := strings.Cut(rest, ",")
			want(t, dir, "undo "+number+" --yes", 0)
			if now := filesOf(t, folder); now != later {
				t.Fatalf("%q: taken back twice, the files are not as they were written", args)
			}
			want(t, dir, "undo --yes", 1+1, "no change of estate is kept") // that one is an undo, and all others are undone
			want(t, dir, "undo "+fmt.Sprint(atoi(t, number)-1)+" --yes", 0)
		}
	}
	if made < times/2 {
		t.Errorf("only %d of %d commands changed something", made, times)
	}
}

func atoi(t *testing.T, text string) (n int) {
	t.Helper()
	if _, err := fmt.Sscan(text, &n); err != nil {
		t.Fatal(err)
	}
	return n
}

// A change whose lines have changed since is not taken back; others around it stay.
func TestUndoLater(t *testing.T) {
	dir := t.TempDir()
	const estate = "yorvet: 1\ndomains: [k.example]\npeople:\n  - {address: a@k.example}\ngroups:\n  - address: g@k.example\n    title: One\n    members: [a@k.example]\n"
	put(t, dir, "estate.yaml", estate)
	want(t, dir, "undo", 2, "no change of estate.yaml is kept that could be taken back")
	want(t, dir, "changes", 0, "No changes are kept")
	want(t, dir, "group set g title=Two --yes", 0)
	put(t, dir, "estate.yaml", "# A comment.\n"+strings.Replace(estate, "One", "Two", 1))
	want(t, dir, "undo --yes", 0)
	data, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
	if err != nil || string(data) != "# A comment.\n"+estate {
		t.Errorf("%v: %s", err, data)
	}
	want(t, dir, "group set g title=Three --yes", 0)
	put(t, dir, "estate.yaml", strings.Replace(estate, "One", "Four", 1))
	want(t, dir, "undo --yes", 2, "estate.yaml:8: these lines have changed since change 3; nothing is written")
	want(t, dir, "undo 9", 2, "there is no change 9")
	want(t, dir, "undo x", 2, `expected the number of a change, not "x"`)
	want(t, dir, "changes 2", 0, "undoes 1", "- ", "+ ")
	if r := run(t, dir, []string{"XDG_STATE_HOME=", "HOME="}, []string{"group", "set", "g", "title=Five", "--yes"}); r.code != 0 ||
		!strings.Contains(r.stdout, "This change is not kept") {
		t.Errorf("without a folder for it: %d %s%s", r.code, r.stdout, r.stderr)
	}
}
