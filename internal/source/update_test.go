package source_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/source"
)

// follow brings the estate at a path to where a source is, and returns how many
// files it changes.
func follow(t *testing.T, path, from string) int {
	t.Helper()
	d, err := estatefile.Open(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	read, err := source.Read(context.Background(), "hq="+from, source.Options{Domains: []string{"kelp.example"}})
	if err != nil {
		t.Fatal(err)
	}
	today, _ := estate.ParseDay("2026-11-23")
	directory.Merge([]*directory.Directory{read}, directory.MergeOptions{Domains: []string{"kelp.example"}}).Update(d, directory.Options{Today: today})
	if _, err := d.Estate(); err != nil {
		text, _ := os.ReadFile(path)
		t.Fatalf("%v\n%s", err, text)
	}
	files, err := d.Changed()
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	return len(files)
}

// An estate that follows another one has its groups and people then; following
// again changes nothing. Comments and gates stay.
func TestUpdate(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for n := range 40 {
		before, later := sample.Estate(random), sample.Load(t, sample.Estate(random)).Estate()
		before = strings.Replace(before, "people:\n", "people:\n  # Our people.\n", 1)
		before = strings.Replace(before, "groups:\n", "groups:\n  # Our groups.\n", 1)
		for name, f := range formats(later) {
			var b bytes.Buffer
			if err := f.write(&b, later); err != nil {
				t.Fatal(err)
			}
			from := write(t, f.path, b.String())
			path := write(t, "estate.yaml", before)
			follow(t, path, from)
			text, _ := os.ReadFile(path)
			if changed := follow(t, path, from); changed > 0 {
				again, _ := os.ReadFile(path)
				t.Fatalf("%s, estate %d: following again changes something\nbefore:\n%s\nlater:\n%s\nthe source:\n%s", name, n, text, again, b.String())
			}
			if !bytes.Contains(text, []byte("# Our people.")) || !bytes.Contains(text, []byte("# Our groups.")) {
				t.Fatalf("%s, estate %d: comments went\n%s", name, n, text)
			}
			checkFollowed(t, fmt.Sprint(name, ", estate ", n), path, before, later)
		}
		dir := t.TempDir()
		for name, data := range table.Write(later) {
			if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		path := write(t, "estate.yaml", before)
		follow(t, path, dir)
		if changed := follow(t, path, dir); changed > 0 {
			t.Fatalf("tables, estate %d: following again changes something", n)
		}
	}
}

// checkFollowed checks that groups have the members of the estate that was
// followed, and the gate that they had.
func checkFollowed(t *testing.T, what, path, before string, later *estate.Estate) {
	t.Helper()
	now, err := estatefile.Load(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	was := sample.Load(t, before).Estate()
	for g := range estate.ID(later.Groups()) {
		a := later.Address(g)
		id, ok := now.Exact(a)
		if !ok || !now.IsGroup(id) {
			if holder, taken := was.Exact(a); len(later.Entries(g)) == 0 || taken && !was.IsGroup(holder) {
				continue
			}
			t.Fatalf("%s: the group %s is missing", what, a)
		}
		for _, entry := range later.Entries(g) {
			member := later.Address(entry.Member)
			if entry.Member.IsNobody() || entry.Member == g {
				continue
			}
			found := false
			for _, one := range now.Entries(id) {
				who, ok := now.Exact(member)
				found = found || one.Member == who && ok || now.Address(one.Member).Key() == member.Key()
			}
			if !found {
				text, _ := os.ReadFile(path)
				t.Fatalf("%s: %s is no member of %s\n%s", what, member, a, text)
			}
		}
		if old, ok := was.Exact(a); ok && was.IsGroup(old) && fmt.Sprint(gates(was, old)) != fmt.Sprint(gates(now, id)) {
			t.Fatalf("%s: the gate of %s was %v, and is %v", what, a, gates(was, old), gates(now, id))
		}
	}
}

func gates(e *estate.Estate, g estate.ID) (texts []string) {
	for _, rule := range e.Group(g).Gate {
		texts = append(texts, rule.Text)
	}
	return texts
}
