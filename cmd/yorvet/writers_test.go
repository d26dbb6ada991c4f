package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// Several who change an estate at once: every change is there in the end, and the
// comments are.
func TestProgramsThatWriteAtOnce(t *testing.T) {
	dir := t.TempDir()
	if r := run(t, dir, nil, []string{"--on", "2026-11-23", "demo", "ferries", "--write-only"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	const writers, rounds = 4, 4
	group := "lost-property@kelpmere.example"
	var done sync.WaitGroup
	for w := range writers {
		done.Go(func() {
			for i := range rounds {
				args := []string{"--estate", "ferries/estate", "member", "add", group, fmt.Sprintf("guest%d-%d@holiday.example", w, i), "--yes"}
				if w == 0 {
					args = []string{"--estate", "ferries/estate", "group", "new", fmt.Sprintf("writers-%d@kelpmere.example", i), "--preset", "discussion", "--member", "ines.maro@kelpmere.example", "--yes"}
				}
				if r := run(t, dir, nil, args); r.code != 0 {
					t.Errorf("yorvet %q ends with %d\n%s", args, r.code, r.stderr)
				}
			}
		})
	}
	done.Wait()
	r := run(t, dir, nil, []string{"--estate", "ferries/estate", "member", "list", group, "--group", "writers-*", "--json"})
	var list struct {
		Members []struct{ Address, Group string }
	}
	if err := json.Unmarshal([]byte(r.stdout), &list); err != nil {
		t.Fatalf("%v %s", err, r.stderr)
	}
	guests, nights := 0, 0
	for _, m := range list.Members {
		if strings.HasPrefix(m.Address, "guest") {
			guests++
		}
		if strings.HasPrefix(m.Group, "writers-") {
			nights++
		}
	}
	if guests != (writers-1)*rounds || nights != rounds {
		t.Errorf("%d guests and %d groups, want %d and %d", guests, nights, (writers-1)*rounds, rounds)
	}
	before, err := os.ReadFile(filepath.Join("..", "..", "internal", "demo", "files", "estate", "groups.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	after, err := os.ReadFile(filepath.Join(dir, "ferries", "estate", "groups.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	rest := string(after)
	for line := range strings.Lines(string(before)) {
		_, behind, ok := strings.Cut(rest, line)
		if !ok {
			t.Fatalf("the line %q is not there any more, or not in its order", line)
		}
		rest = behind
	}
}

// An import over a large estate changes what has changed, and nothing else.
func TestImportAgain(t *testing.T) {
	dir := t.TempDir()
	var b strings.Builder
	write := func(name string, skip int) {
		b.Reset()
		for i := range 800 {
			fmt.Fprintf(&b, "dn: uid=p%d,dc=kelp\nobjectClass: inetOrgPerson\nuid: p%[1]d\ncn: Person %[1]d\nmail: p%[1]d@kelp.example\nou: unit-%[2]d\n\n", i, i%9)
		}
		for g := range 60 {
			fmt.Fprintf(&b, "dn: cn=g%d,dc=kelp\nobjectClass: groupOfNames\ncn: g%[1]d\nmail: g%[1]d@kelp.example\n", g)
			for m := range 100 {
				if g != 7 || m != skip {
					fmt.Fprintf(&b, "member: uid=p%d,dc=kelp\n", (g*37+m)%800)
				}
			}
			b.WriteString("\n")
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("hq.ldif", -1)
	if r := run(t, dir, nil, []string{"import", "hq.ldif", "-o", "estate"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	before, err := os.ReadFile(filepath.Join(dir, "estate", "memberships.csv"))
	if err != nil {
		t.Fatal(err)
	}
	write("hq.ldif", 5)
	if r := run(t, dir, nil, []string{"compare", "hq.ldif", "estate"}); r.code != 1 || !strings.Contains(r.stdout, "g7@kelp.example") {
		t.Errorf("the drift is not seen: %d\n%s%s", r.code, r.stdout, r.stderr)
	}
	if r := run(t, dir, nil, []string{"import", "hq.ldif", "-o", "estate"}); r.code != 2 || !strings.Contains(r.stderr, "--yes") {
		t.Errorf("it was not asked for: %d %s", r.code, r.stderr)
	}
	if r := run(t, dir, nil, []string{"import", "hq.ldif", "-o", "estate", "--yes"}); r.code != 0 || !strings.Contains(r.stdout, "Written: estate/memberships.csv -1 line") {
		t.Errorf("%d\n%s%s", r.code, r.stdout, r.stderr)
	}
	after, err := os.ReadFile(filepath.Join(dir, "estate", "memberships.csv"))
	if err != nil {
		t.Fatal(err)
	}
	if want := strings.Replace(string(before), "g7@kelp.example,p264@kelp.example,,,,\n", "", 1); string(after) != want {
		t.Error("more than one row changed")
	}
	if r := run(t, dir, nil, []string{"compare", "hq.ldif", "estate"}); r.code != 0 {
		t.Errorf("it has drifted still: %s", r.stdout)
	}
}
