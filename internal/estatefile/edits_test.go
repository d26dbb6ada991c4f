package estatefile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// commented are estates as people write them, with all that a careless editor
// would spoil.
var commented = map[string]map[string]string{
	"block": {"estate.yaml": `# The estate of a made-up ferry line.
yorvet: 1   # the format
domains: [kelp.example]

people:
  # The bridge.
  - address: ann@kelp.example     # captain
    name: "Ann  Oake"
    facts: {base: pier, years: 7}

  - address: bob@kelp.example
    facts:
      base: quay   # since spring
      post: [deck, engine]
  - {address: cat@kelp.example, name: Cat, also: [kit@kelp.example]}

  # Ashore.
  - address: dan@kelp.example

groups:
  # What passengers see.
  - address: desk@kelp.example   # the desk
    also:
      - found@kelp.example
    title: 'It''s the desk'
    owners: [ann@kelp.example]
    members:
      # first come
      - ann@kelp.example         # reads all
      - {address: bob@kelp.example, copy: digest}   # on Fridays

      # and the others
      - address: cat@kelp.example
        copy: none   # on leave
      - where: (base=quay)
    gate:
      - refuse unproven because "No, sign in."
      # strangers too
      - admit anyone
    about: |
      Two lines
      of text.

  - copy: digest
    address: crew@kelp.example
    members: [desk@kelp.example,
              dan@kelp.example ,  "eve@out.example"  # the pilot
             ]
    owners:
    - bob@kelp.example
# the end
`},
	"windows": {"estate.yaml": strings.ReplaceAll(`yorvet: 1
domains: [kelp.example]
people:
- address: ann@kelp.example # one
- address: bob@kelp.example
- address: cat@kelp.example
groups:
- address: desk@kelp.example
  # members of the desk
  members:
  - ann@kelp.example
  - bob@kelp.example # two
- address: crew@kelp.example
  owners: [ann@kelp.example]`, "\n", "\r\n")},
	"JSON": {"estate.yaml": `{"yorvet": 1, "domains": ["kelp.example"],
 "people": [{"address": "ann@kelp.example"}, {"address": "bob@kelp.example", "facts": {"base": "quay"}},
            {"address": "cat@kelp.example"}],
 "groups": [
   {"address": "desk@kelp.example", "title": "Desk",
    "members": ["ann@kelp.example", {"address": "bob@kelp.example", "copy": "none"}]},
   {"address": "crew@kelp.example", "owners": []}
 ]}
`},
	"tables": {"estate.yaml": "# all in tables\nyorvet: 1\ndomains: [kelp.example]\npeople: {table: people.csv}\ngroups: {table: groups.csv}\nmemberships: {table: memberships.csv}\n",
		"people.csv": "address,name,base,post\nann@kelp.example,\"Oake, Ann\",pier,\nbob@kelp.example,Bob,,\ncat@kelp.example,\"Cat\",quay,\n",
		"groups.csv": "address,title,owners,members,gate,welcome\ndesk@kelp.example,Desk,ann@kelp.example;bob@kelp.example,where (base=quay),,\ncrew@kelp.example,Crew,,cat@kelp.example,,\n",
		"memberships.csv": "group,address,copy,invitations,paused\r\ndesk@kelp.example,ann@kelp.example,,,\r\ndesk@kelp.example,bob@kelp.example,digest,,\r\n" +
			"crew@kelp.example,desk@kelp.example,,,"},
}

// write writes the files of an estate and returns its path.
func writeEstate(t testing.TB, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// An edit is one change: what it does to a draft, what lines may go for it, and
// what holds in the end.
type edit struct {
	about string
	names []string // a line that goes holds one of them
	make  func(*Draft)
	holds func(*estate.Estate) bool
}

func find1(e *estate.Estate, text string) estate.ID {
	id, ok := e.Find(address.MustParse(text))
	if !ok {
		return estate.None
	}
	return id
}

func entryOf(e *estate.Estate, group estate.ID, text string) (estate.Entry, bool) {
	for _, entry := range e.Entries(group) {
		if strings.EqualFold(e.Address(entry.Member).String(), text) {
			return entry, true
		}
	}
	return estate.Entry{}, false
}

// randomEdit returns some edit of an estate.
func randomEdit(random *rand.Rand, e *estate.Estate, n int) edit {
	g := estate.ID(random.IntN(e.Groups()))
	group := e.Address(g).String()
	fresh := fmt.Sprintf("new%d@kelp.example", n)
	entries := e.Entries(g)
	m := estate.Membership{Copy: estate.Copy(random.IntN(5)), Paused: random.IntN(3) == 0, Invitations: estate.Invitations(random.IntN(4))}
	switch kind := random.IntN(10); {
	case kind < 2:
		member := fmt.Sprintf("guest%d@out.example", n)
		return edit{"add " + member + " to " + group, []string{group, `"members"`, "eve@", "dan@", "desk@", "guest", "]"}, func(d *Draft) { d.AddMember(g, Member{Address: member, Membership: m}) },
			func(e *estate.Estate) bool {
				entry, ok := entryOf(e, find1(e, group), member)
				return ok && entry.Membership() == m
			}}
	case kind == 2 && len(entries) > 0:
		entry := entries[random.IntN(len(entries))]
		member := e.Address(entry.Member).String()
		return edit{"drop " + member + " of " + group, []string{member, "eve@", "dan@", "members", "copy", "paused", "invitations", "since", group}, func(d *Draft) { d.DropMember(g, entry.Place) },
			func(e *estate.Estate) bool { return len(e.Entries(find1(e, group))) == len(entries)-1 }}
	case kind == 3 && len(entries) > 0:
		entry := entries[random.IntN(len(entries))]
		if e.IsGroup(entry.Member) {
			m = estate.Membership{Copy: estate.CopyNone}
		}
		member := e.Address(entry.Member).String()
		return edit{fmt.Sprintf("set %s of %s to %+v", member, group, m), []string{member, "copy", "paused", "invitations", group}, func(d *Draft) { d.SetMember(g, entry.Place, entry.Membership(), m) },
			func(e *estate.Estate) bool {
				now := 0
				for _, one := range e.Entries(find1(e, group)) {
					if one.Membership() == m && e.Address(one.Member).String() == member {
						now++
					}
				}
				return now > 0 && len(e.Entries(find1(e, group))) == len(entries)
			}}
	case kind == 4:
		title := []string{"", "Plain", "With: colon", `"quoted" \ it's`, "äöü #no", "007", "true", "- x", "a\nb"}[random.IntN(9)]
		return edit{"title " + title, []string{"title", group, "a\n", "b"}, func(d *Draft) { d.SetGroup(g, Field{Name: "title", Text: title}) },
			func(e *estate.Estate) bool { return e.Group(find1(e, group)).Title == title }}
	case kind == 5:
		gate := [][]string{nil, {}, {"admit members"}, {`refuse unproven because "No: go; away"`, "hold suspect", "admit anyone"}}[random.IntN(4)]
		return edit{fmt.Sprintf("gate %q", gate), []string{"gate", "refuse", "hold", "admit", group}, func(d *Draft) { d.SetGroup(g, Field{Name: "gate", List: gate}) },
			func(e *estate.Estate) bool {
				if now := e.Group(find1(e, group)).Gate; len(gate) > 0 {
					return len(now) == len(gate) && now[0].Text == gate[0]
				}
				return true
			}}
	case kind == 6:
		return edit{"owner " + fresh + " of " + group, []string{"owners", group}, func(d *Draft) { d.SetList(g, "owners", nil, []string{fresh}) },
			func(e *estate.Estate) bool {
				owners := e.Group(find1(e, group)).Owners
				return len(owners) > 0 && e.Address(owners[len(owners)-1].ID).String() == fresh
			}}
	case kind == 7 && e.Groups() < 6:
		return edit{"new group " + fresh, []string{`crew@kelp.example", "owners"`, `"members"`, "title", "]}"}, func(d *Draft) {
			d.AddGroup(NewGroup{Fields: []Field{{Name: "address", Text: fresh}, {Name: "owners", List: []string{"ann@kelp.example"}}, {Name: "welcome", Text: "false"}},
				Members: []Member{{Address: "ann@kelp.example"}, {Address: "bob@kelp.example", Membership: m}, {Where: "(base=quay)"}}})
		}, func(e *estate.Estate) bool {
			id := find1(e, fresh)
			return id != estate.None && e.IsGroup(id) && len(e.Entries(id)) == 2 && len(e.Rules(id)) == 1 && e.Group(id).NoWelcome
		}}
	case kind == 8 && e.Groups() > 2 && g > 1:
		return edit{"remove " + group, []string{"*"}, func(d *Draft) { d.RemoveGroup(g) },
			func(e *estate.Estate) bool { return find1(e, group) == estate.None || !e.IsGroup(find1(e, group)) }}
	}
	person := e.PersonID(random.IntN(e.People()))
	if e.Person(person).Implied {
		return edit{"new person " + fresh, []string{"kelp.example"}, func(d *Draft) {
			d.AddPerson(NewPerson{Fields: []Field{{Name: "address", Text: fresh}, {Name: "name", Text: "New"}}, Facts: []estate.Fact{{Attribute: "base", Value: "quay"}, {Attribute: "post", Value: "a"}, {Attribute: "post", Value: "b"}}})
		}, func(e *estate.Estate) bool { return e.IsPerson(find1(e, fresh)) && len(e.Facts(find1(e, fresh))) == 3 }}
	}
	who, base := e.Address(person).String(), []string{"", "pier", "no 7", "7"}[random.IntN(4)]
	return edit{"base of " + who + ": " + base, []string{"base", "facts", who}, func(d *Draft) { d.SetPerson(person, nil, []Field{{Name: "base", Text: base}}) },
		func(e *estate.Estate) bool {
			values := e.Values(find1(e, who), "base")
			return base == "" && len(values) == 0 || len(values) == 1 && values[0] == base
		}}
}

// spoiled returns a line of before that is not in later, or not in its order,
// though none of names is in it.
func spoiled(before, later []byte, names []string) string {
	a, b := bytes.SplitAfter(before, []byte("\n")), bytes.SplitAfter(later, []byte("\n"))
	// length[i][j] is that of the longest common subsequence from i and j on.
	length := make([][]int, len(a)+1)
	for i := range length {
		length[i] = make([]int, len(b)+1)
	}
	same := func(i, j int) bool {
		return bytes.Equal(bytes.TrimSuffix(a[i], []byte("\n")), bytes.TrimRight(b[j], "\r\n")) || bytes.Equal(a[i], b[j])
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if length[i][j] = max(length[i+1][j], length[i][j+1]); same(i, j) {
				length[i][j] = max(length[i][j], 1+length[i+1][j+1])
			}
		}
	}
	for i, j := 0, 0; i < len(a); {
		switch {
		case j < len(b) && same(i, j):
			i, j = i+1, j+1
		case j < len(b) && length[i][j+1] >= length[i+1][j]:
			j++
		default:
			named := false
			for _, name := range names {
				named = named || name == "*" || bytes.Contains(a[i], []byte(name))
			}
			if line := bytes.TrimSpace(a[i]); len(line) > 0 && (!named || line[0] == '#') || len(line) == 0 && i < len(a)-1 {
				return string(a[i])
			}
			i++
		}
	}
	return ""
}

// A thousand random edits leave every line that they do not concern as it was,
// and do what they say.
func TestEditsLeaveTheRest(t *testing.T) {
	for name, files := range commented {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(7, uint64(len(name))))
			path := writeEstate(t, files)
			for n := range 250 {
				if n%20 == 0 {
					path = writeEstate(t, files)
				}
				d, err := Open(context.Background(), path)
				if err != nil {
					t.Fatal(err)
				}
				one := randomEdit(random, d.Before(), n)
				if one.names = append(one.names, "]"); name == "JSON" {
					one.names = append(one.names, `"members"`, `"owners"`)
				}
				before := map[string][]byte{}
				for file := range files {
					before[file], _ = os.ReadFile(filepath.Join(path, file))
				}
				one.make(d)
				later, err := d.Estate()
				if err != nil {
					t.Fatalf("%s: %v\n%s", one.about, err, d.mended[filepath.Join(path, "estate.yaml")])
				}
				if err := d.Write(); err != nil {
					t.Fatalf("%s: %v", one.about, err)
				}
				for file, old := range before {
					now, _ := os.ReadFile(filepath.Join(path, file))
					if line := spoiled(old, now, one.names); line != "" {
						t.Fatalf("%s: spoiled %s: %q\nbefore:\n%s\nlater:\n%s", one.about, file, line, old, now)
					}
				}
				if !one.holds(later) {
					now, _ := os.ReadFile(filepath.Join(path, "estate.yaml"))
					t.Fatalf("%s: does not hold\nbefore:\n%s\nlater:\n%s", one.about, before["estate.yaml"], now)
				}
			}
		})
	}
}

// Several edits at once do the same as one after the other.
func TestEditsTogether(t *testing.T) {
	for name, files := range commented {
		d, err := Open(context.Background(), writeEstate(t, files))
		if err != nil {
			t.Fatal(err)
		}
		desk := find1(d.Before(), "desk@kelp.example")
		for _, entry := range d.Before().Entries(desk) {
			d.DropMember(desk, entry.Place)
		}
		for i := range 5 {
			d.AddMember(desk, Member{Address: fmt.Sprintf("guest%d@out.example", i)})
		}
		d.SetGroup(desk, Field{Name: "kind", Text: "forum"}, Field{Name: "title"})
		d.SetList(desk, "owners", []string{"ann@kelp.example"}, []string{"cat@kelp.example"})
		crew := find1(d.Before(), "crew@kelp.example")
		d.SetAccess(crew, Field{Name: "find", Text: "members"}, Field{Name: "join", Text: "inside"})
		d.AddGroup(NewGroup{Fields: []Field{{Name: "address", Text: "last@kelp.example"}}})
		d.AddDomain("more.example")
		e, err := d.Estate()
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, d.mended)
			continue
		}
		desk = find1(e, "desk@kelp.example")
		g := e.Group(desk)
		if len(e.Entries(desk)) != 5 || g.Kind != estate.Forum || g.Title != "" || len(g.Owners) == 0 || e.Address(g.Owners[len(g.Owners)-1].ID).String() != "cat@kelp.example" ||
			e.Group(find1(e, "crew@kelp.example")).Access[estate.Join].Text != "inside" || find1(e, "last@kelp.example") == estate.None || !e.InsideDomain("more.example") {
			t.Errorf("%s: not all edits are there:\n%s", name, d.mended)
		}
	}
}

// What stands in several places at once is not changed in one.
func TestEditsRefuseAliases(t *testing.T) {
	path := writeEstate(t, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\ngroups:\n- {address: a@kelp.example, members: &m [x@out.example]}\n- {address: b@kelp.example, members: *m}\n"})
	d, err := Open(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	d.AddMember(0, Member{Address: "y@out.example"})
	if _, err := d.Estate(); err == nil || !strings.Contains(err.Error(), "anchor") || !strings.Contains(err.Error(), ":4:") {
		t.Errorf("err = %v, want one that names the anchor and line 4", err)
	}
}

// Two who write at once: both changes are there, or one is told that the other
// was first.
func TestTwoWriters(t *testing.T) {
	path := writeEstate(t, commented["block"])
	const writers, rounds = 4, 10
	var done sync.WaitGroup
	for w := range writers {
		done.Go(func() {
			for i := range rounds {
				member := fmt.Sprintf("w%d-%d@out.example", w, i)
				for {
					d, err := Open(context.Background(), path)
					if err != nil {
						t.Error(err)
						return
					}
					d.AddMember(0, Member{Address: member})
					err = d.Write()
					if err == nil {
						break
					}
					if !errors.Is(err, ErrChanged) {
						t.Error(err)
						return
					}
				}
			}
		})
	}
	done.Wait()
	d, err := Open(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	if got, want := len(d.Before().Entries(0)), 3+writers*rounds; got != want {
		t.Errorf("%d members, want %d", got, want)
	}
}

// A writer that is killed leaves the old file or the new one, never half.
func TestKilledWriter(t *testing.T) {
	if dir := os.Getenv("YORVET_TEST_WRITE"); dir != "" {
		for i := 0; ; i++ {
			d, err := Open(context.Background(), dir)
			if err != nil {
				t.Fatal(err)
			}
			d.SetGroup(0, Field{Name: "title", Text: strings.Repeat(fmt.Sprint(i%10), 1000)})
			if err := d.Write(); err != nil {
				t.Fatal(err)
			}
		}
	}
	members := strings.Builder{}
	for i := range 3000 {
		fmt.Fprintf(&members, "  - p%d@out.example\n", i)
	}
	path := writeEstate(t, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\ngroups:\n- address: a@kelp.example\n  title: x\n  members:\n" + members.String()})
	random := rand.New(rand.NewPCG(1, 2))
	seen := map[string]bool{}
	for range 50 {
		cmd := exec.Command(os.Args[0], "-test.run=^TestKilledWriter$")
		cmd.Env = append(os.Environ(), "YORVET_TEST_WRITE="+path)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		before, _ := os.ReadFile(filepath.Join(path, "estate.yaml"))
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(time.Millisecond) {
			if now, _ := os.ReadFile(filepath.Join(path, "estate.yaml")); !bytes.Equal(now, before) {
				break // it is at work
			}
		}
		time.Sleep(time.Duration(random.IntN(60_000)) * time.Microsecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		e, err := Load(context.Background(), path)
		if err != nil {
			t.Fatal(err)
		}
		title := e.Group(0).Title
		if title != "x" && title != strings.Repeat(title[:1], 1000) || len(e.Entries(0)) != 3000 {
			t.Fatalf("half a file: %d members, title %.20q", len(e.Entries(0)), title)
		}
		seen[title[:1]] = true
	}
	if len(seen) < 3 {
		t.Errorf("the writers wrote too little for this to tell anything: %v", seen)
	}
}

// In whatever estate, written however, an edit does what it says, or is refused.
func FuzzEdits(f *testing.F) {
	for _, files := range commented {
		f.Add([]byte(files["estate.yaml"]), uint64(1))
	}
	f.Add([]byte("yorvet: 1\ndomains: [kelp.example]\ngroups:\n- address: a@kelp.example\n  about: >-\n    folded\n\n    text\n  members: &m\n  - x@out.example\n- {address: b@kelp.example, members: *m, title: 'it''s'}\n"), uint64(2))
	f.Add([]byte("{yorvet: 1, domains: [kelp.example], groups: [{address: a@kelp.example, members: [ ], # none\n also: []}]}"), uint64(3))
	f.Add([]byte("yorvet: 1\ndomains:\n- kelp.example\npeople:\n- address:\n    ann@kelp.example\n  facts: {}\ngroups:\n-\n  address: \"a@kelp.example\"\n  gate:\n  -\n    admit\n    anyone\n  members:\n\n  - address: ann@kelp.example\n\n    copy: none\n"), uint64(4))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte, seed uint64) {
		path := filepath.Join(dir, "estate.yaml")
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		random := rand.New(rand.NewPCG(seed, 1))
		d, err := Open(context.Background(), path)
		if err != nil || d.Before().Groups() == 0 || d.Before().People() == 0 || !d.Before().InsideDomain("kelp.example") {
			return
		}
		one := randomEdit(random, d.Before(), 1)
		one.make(d)
		later, err := d.Estate()
		if err != nil {
			var refused *Errors
			if !errors.As(err, &refused) {
				t.Errorf("%s: %v", one.about, err)
			}
			return
		}
		if !one.holds(later) {
			t.Errorf("%s: does not hold\nbefore:\n%s\nlater:\n%s", one.about, data, d.mended[path])
		}
	})
}

// Places are those of the file that was loaded: when another one has taken its
// place since, nothing is changed by them.
func TestEditOfAnotherFile(t *testing.T) {
	for _, name := range []string{"block", "tables"} {
		dir := writeEstate(t, commented[name])
		d, err := Open(context.Background(), dir)
		if err != nil {
			t.Fatal(err)
		}
		for file, text := range commented[name] {
			text = strings.Replace(text, "ann@kelp.example", "zoe@kelp.example", 1) + "\n"
			if err := writeAll(context.Background(), dir, map[string]replacement{filepath.Join(dir, file): {[]byte(commented[name][file]), []byte(text)}}); err != nil {
				t.Fatal(err)
			}
		}
		desk := find1(d.Before(), "desk@kelp.example")
		d.DropMember(desk, d.Before().Entries(desk)[0].Place)
		if _, err := d.Estate(); !errors.Is(err, ErrChanged) {
			t.Errorf("%s: err = %v, want that somebody else has changed it", name, err)
		}
		if err := d.Write(); !errors.Is(err, ErrChanged) {
			t.Errorf("%s: err = %v, want that somebody else has changed it", name, err)
		}
	}
}
