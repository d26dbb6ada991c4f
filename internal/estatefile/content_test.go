package estatefile

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
)

// large returns the content of an estate with so many people.
func large(people int) *Content {
	c := &Content{Name: "Kelp: \"ferries\"", Domains: []string{"kelp.example"}}
	g := NewGroup{Fields: []Field{{Name: "address", Text: "all@kelp.example"}, {Name: "gate", List: []string{`refuse unproven because "No: go."`, "admit anyone"}}, {Name: "pause-after", Text: "3"}},
		Access: []Field{{Name: "find", Text: "anyone"}}, Members: []Member{{Everyone: true}, {Where: "(base=quay; west)"}}}
	for i := range people {
		p := NewPerson{Fields: []Field{{Name: "address", Text: fmt.Sprintf("p%d@kelp.example", i)}, {Name: "name", Text: fmt.Sprintf("Person, %d", i)}, {Name: "mailbox", Text: []string{"open", "full"}[i%2]}},
			Attributes: []estate.Attribute{{Name: "base", Value: []string{"quay", "quay; west", "007", "=x"}[i%4]}, {Name: "post", Value: "a"}, {Name: "post", Value: "b"}}}
		if i%5 == 0 {
			p.Fields = append(p.Fields, Field{Name: "also", List: []string{fmt.Sprintf("also%d@out.example", i)}})
		}
		c.People = append(c.People, p)
		for n := range 10 {
			if i%(n+1) == 0 {
				g.Members = append(g.Members, Member{Address: fmt.Sprintf("guest%d-%d@out.example", i, n), Membership: estate.Membership{Copy: estate.Copy(i % 5), Since: estate.Day(700_000 * (i % 2)), Paused: i%3 == 0}})
			}
		}
	}
	c.Groups = []NewGroup{g, {Fields: []Field{{Name: "address", Text: "none@kelp.example"}, {Name: "gate", List: []string{}}}}}
	return c
}

// tell tells all of an estate that content holds.
func tell(e *estate.Estate) string {
	var b strings.Builder
	fmt.Fprintln(&b, e.Settings().Name, len(e.Settings().Domains))
	for _, id := range e.PeopleByAddress() {
		p := e.Person(id)
		fmt.Fprintln(&b, p.Address, p.Name, p.Also, p.Mailbox, e.Attributes(id))
	}
	for g := range estate.ID(e.Groups()) {
		group := e.Group(g)
		fmt.Fprintln(&b, group.Address, len(group.Gate), group.PauseAfter, group.Access[estate.Find].Text)
		for _, entry := range e.Entries(g) {
			fmt.Fprintln(&b, e.Address(entry.Member), entry.Membership())
		}
		for _, rule := range e.Rules(g) {
			fmt.Fprintln(&b, rule.Filter)
		}
	}
	return b.String()
}

// What is built in memory is what is written and read again, in one file and with
// tables.
func TestContent(t *testing.T) {
	for _, test := range []struct {
		people int
		path   string
		files  string
	}{
		{20, "one.yaml", "one.yaml"},
		{20, "folder", "estate.yaml"},
		{manyPeople, "tables", "estate.yaml people.csv people.yaml"},
		{3 * manyPeople, "more", "estate.yaml people.csv people.yaml"},
		{2 * manyMemberships, "most", "estate.yaml memberships.csv people.csv people.yaml"},
	} {
		c := large(test.people)
		built, err := c.Build()
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(t.TempDir(), "below", test.path)
		if strings.HasSuffix(path, ".yaml") {
			path = filepath.Join(t.TempDir(), test.path)
		}
		if err := c.Create(context.Background(), path); err != nil {
			t.Fatal(err)
		}
		files := c.Prepare(path).Files()
		for i, file := range files {
			if data, err := os.ReadFile(file); err != nil || strings.Contains(string(data), "mailbox: open") {
				t.Errorf("%s: %v, or it says what is so by default", file, err)
			}
			files[i] = filepath.Base(file)
		}
		if got := strings.Join(files, " "); got != test.files {
			t.Errorf("%s: files %s, want %s", test.path, got, test.files)
		}
		loaded, err := Load(context.Background(), path)
		if err != nil {
			t.Fatal(err)
		}
		if tell(loaded) != tell(built) {
			t.Errorf("%s: what is read is not what was built:\n%.500s\n%.500s", test.path, tell(loaded), tell(built))
		}
		if err := c.Create(context.Background(), path); err == nil || !strings.Contains(err.Error(), "there already") {
			t.Errorf("%s: it is written over: %v", test.path, err)
		}
		if left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), ".new*")); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	}
}

// What cannot be an estate is an error with its place.
func TestContentErrors(t *testing.T) {
	at := estate.Place{Line: 7, Column: 3}
	group := func(fields ...Field) *Content {
		return &Content{Domains: []string{"kelp.example"}, Files: []string{"x.ldif"}, Groups: []NewGroup{{Place: at, Fields: append([]Field{{Name: "address", Text: "a@kelp.example"}}, fields...)}}}
	}
	for want, c := range map[string]*Content{
		"x.ldif:7:3: kind: expected list, forum":           group(Field{Name: "kind", Text: "loud"}),
		"x.ldif:7:3: pause-after: expected a whole number": group(Field{Name: "pause-after", Text: "-1"}),
		"everbody":                                              group(Field{Name: "gate", List: []string{"admit everbody"}}),
		`"nobody" is no address`:                                group(Field{Name: "owners", List: []string{"nobody"}}),
		"there are no domains":                                  {},
		"the group \"a@x.example\" is outside":                  {Domains: []string{"kelp.example"}, Groups: []NewGroup{{Fields: []Field{{Name: "address", Text: "a@x.example"}}}}},
		"the group has no address":                              {Domains: []string{"kelp.example"}, Groups: []NewGroup{{}}},
		"\"A@kelp.example\" is already the address of a person": {Domains: []string{"kelp.example"}, People: []NewPerson{{Fields: []Field{{Name: "address", Text: "a@kelp.example"}}}, {Fields: []Field{{Name: "address", Text: "A@kelp.example"}}}}},
	} {
		if _, err := c.Build(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("err = %v, want %s", err, want)
		}
	}
}

// Whatever a text is, YAML reads just that text, wherever it is written.
func TestScalars(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 9))
	pieces := []string{"a", "Zoë", " ", ": ", ":", " #", "#", "'", `"`, `\`, "\n", "\t", "- ", "?", "{", "}", "[", "]", ",", "&", "*", "!", "|", ">", "%", "@", "`", "1", "true", "null", "~", "0x1", "1e3", "\u00a0", "\u2028", "\x00", "\x7f", "\ufeff", "😀", "(", ")", "=", "<"}
	for range 5_000 {
		text := ""
		for range random.IntN(6) {
			text += pieces[random.IntN(len(pieces))]
		}
		for _, s := range []textStyle{{}, {flow: true}, {flow: true, json: true}} {
			source := "x: " + s.scalar(text) + "\n"
			if s.flow {
				source = "{\"x\": " + s.scalar(text) + ", \"y\": [" + s.scalar(text) + "]}"
			}
			var read struct{ X any }
			if err := yaml.Load([]byte(source), &read); err != nil || read.X != text {
				t.Fatalf("%q is written as %q, and read as %#v (%v)", text, source, read.X, err)
			}
			if s.json && !json.Valid([]byte(s.scalar(text))) {
				t.Fatalf("%q is written as %s, which is no JSON", text, s.scalar(text))
			}
		}
	}
}

// Rows of tables that change do not touch the others: quotes, line ends and marks
// stay as they are.
func TestRows(t *testing.T) {
	const before = "\ufeffaddress,name,base\r\na@kelp.example,\"A, \"\"x\"\"\",q\r\n\r\nb@kelp.example,\"two\r\nlines\",\r\nc@kelp.example,C,z"
	row := func(line int) estate.Place { return estate.Place{Line: uint32(line), Column: 1} }
	for _, test := range []struct {
		about  string
		change func(*rowText)
		want   string
	}{
		{"nothing", func(*rowText) {}, before},
		{"a cell", func(r *rowText) { r.set(r.record(row(4)), "base", "w;x") }, strings.Replace(before, "\r\n\r\nb@kelp.example,\"two\r\nlines\",\r\n", "\r\nb@kelp.example,\"two\r\nlines\",w;x\r\n", 1)},
		{"a row less", func(r *rowText) { r.dropped[r.record(row(2))] = true }, strings.Replace(before, "a@kelp.example,\"A, \"\"x\"\"\",q\r\n", "", 1)},
		{"the last row less", func(r *rowText) { r.dropped[r.record(row(6))] = true }, strings.TrimSuffix(before, "c@kelp.example,C,z")},
		{"a row more", func(r *rowText) { r.add(map[string]string{"address": "d@kelp.example", "name": "", "post": ""}) }, before + "\r\nd@kelp.example,,\r\n"},
		{"an empty cell of a new column", func(r *rowText) { r.set(1, "post", "") }, before},
	} {
		r, err := newRowText("x.csv", []byte(before))
		if err != nil {
			t.Fatal(err)
		}
		test.change(r)
		if got := string(r.text()); got != test.want {
			t.Errorf("%s:\n got %q\nwant %q", test.about, got, test.want)
		}
	}
	r, _ := newRowText("x.csv", []byte(before))
	r.set(1, "post", "mate")
	if lines := strings.Split(string(r.text()), "\r\n"); lines[0] != "\ufeffaddress,name,base,post" || !strings.HasSuffix(lines[1], ",q,mate") || lines[len(lines)-2] != "c@kelp.example,C,z," {
		t.Errorf("a new column: %q", lines)
	}
	if _, err := newRowText("x.csv", nil); err == nil {
		t.Error("an empty table has no header, and that is no error")
	}
}

// Whoever holds the lock writes alone; the lock goes with its holder.
func TestLock(t *testing.T) {
	dir := t.TempDir()
	unlock, err := lock(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	got := make(chan error, 1)
	go func() {
		second, err := lock(context.Background(), dir)
		if err == nil {
			second()
		}
		got <- err
	}()
	select {
	case err := <-got:
		t.Fatalf("a second writer came in: %v", err)
	case <-time.After(100 * time.Millisecond):
	}
	unlock()
	if err := <-got; err != nil {
		t.Errorf("the lock is still held: %v", err)
	}
}

// A file that is a link stays one, and keeps who may read it.
func TestWriteKeepsTheFile(t *testing.T) {
	dir := t.TempDir()
	real := filepath.Join(dir, "real.yaml")
	if err := os.WriteFile(real, []byte("yorvet: 1\ndomains: [kelp.example]\ngroups: [{address: a@kelp.example}]\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	link := filepath.Join(dir, "estate.yaml")
	if err := os.Symlink("real.yaml", link); err != nil {
		t.Fatal(err)
	}
	d, err := Open(context.Background(), link)
	if err != nil {
		t.Fatal(err)
	}
	d.Apply(setTitle(0, "A"))
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	info, err := os.Lstat(link)
	if err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Errorf("the link is gone: %v %v", info, err)
	}
	if info, err := os.Stat(real); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("permissions %v, %v", info, err)
	}
	if data, _ := os.ReadFile(real); !strings.Contains(string(data), "title: A") {
		t.Errorf("not written: %s", data)
	}
}
