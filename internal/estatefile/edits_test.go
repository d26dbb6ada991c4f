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
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/change/changetest"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
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
    attributes: {base: pier, years: 7}

  - address: bob@kelp.example
    attributes:
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
 "people": [{"address": "ann@kelp.example"}, {"address": "bob@kelp.example", "attributes": {"base": "quay"}},
            {"address": "cat@kelp.example"}],
 "groups": [
   {"address": "desk@kelp.example", "title": "Desk",
    "members": ["ann@kelp.example", {"address": "bob@kelp.example", "copy": "none"}]},
   {"address": "crew@kelp.example", "owners": []}
 ]}
`},
	"lists": {"estate.yaml": `yorvet: 1
domains:
  - kelp.example # ours
nested-gates: open
edge:
  - refuse unproven and @kelp.example because "Forged."   # at the door
people: [{address: ann@kelp.example, attributes: {}}, {address: bob@kelp.example}, {address: cat@kelp.example}]
groups:
  - {address: desk@kelp.example, attributes: {unit: deck, tags: [a, b]}, owners: [], members: []}
  - address: crew@kelp.example
    accept:
      - {hazard: no-owner, because: It answers to nobody.} # agreed
memberships:
  # written by hand
  - {group: desk@kelp.example, address: ann@kelp.example}
  - group: crew@kelp.example   # the crew
    address: desk@kelp.example
  - {address: bob@kelp.example, group: crew@kelp.example, copy: digest}
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

// An edit is some changes, and what lines may go for them.
type edit struct {
	names   []string // a line that goes holds one of them
	changes []change.Change
}

func find1(e *estate.Estate, text string) estate.ID {
	id, ok := e.Find(address.MustParse(text))
	if !ok {
		return estate.None
	}
	return id
}

// setTitle gives a group a title.
func setTitle(g estate.ID, title string) change.Change {
	return change.SetSetting{Group: g, Setting: "title", Texts: []string{title}}
}

// anything is an edit for which any line may go.
func anything(changes ...change.Change) edit { return edit{[]string{"*", "#"}, changes} }

// randomEdit returns some edit of an estate.
func randomEdit(random *rand.Rand, e *estate.Estate, n int) edit {
	g := estate.ID(random.IntN(e.Groups()))
	group := e.Address(g).String()
	fresh := address.MustParse(fmt.Sprintf("new%d@kelp.example", n))
	m := estate.Membership{Copy: estate.Copy(random.IntN(5)), Paused: random.IntN(3) == 0, Invitations: estate.Invitations(random.IntN(4))}
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	set := func(setting string, texts ...string) change.Change {
		return change.SetSetting{Group: g, Setting: setting, Texts: texts}
	}
	switch random.IntN(12) {
	case 0, 1:
		member := fmt.Sprintf("guest%d@out.example", n)
		add := change.AddMember{Group: g, Member: change.Member{Address: address.MustParse(member), Membership: m}}
		return edit{[]string{group, `"members"`, "eve@", "dan@", "desk@", "guest", "]"}, []change.Change{add}}
	case 2, 3:
		if entries := e.Entries(g); len(entries) > 0 {
			i := random.IntN(len(entries))
			member := e.Address(entries[i].Member).String()
			if random.IntN(2) == 0 {
				names := []string{member, "eve@", "dan@", "members", "copy", "paused", "invitations", "since", group}
				return edit{names, []change.Change{change.RemoveMember{Group: g, Entry: i}}}
			}
			if e.IsGroup(entries[i].Member) {
				m = estate.Membership{Copy: estate.CopyNone}
			}
			names := []string{member, "copy", "paused", "invitations", group}
			return edit{names, []change.Change{change.SetMember{Group: g, Entry: i, Membership: m}}}
		}
	case 4:
		title := pick("", "Plain", "With: colon", `"quoted" \ it's`, "äöü #no", "007", "true", "- x", "a\nb")
		c := change.SetSetting{Group: g, Setting: "title", Texts: []string{title}}
		if title == "" {
			c.Texts = nil
		}
		return edit{[]string{"title", group, "a\n", "b"}, []change.Change{c}}
	case 5:
		names := []string{"gate", "refuse", "hold", "admit", "drop", group, `b"`, "#"} // a list goes with its comments
		gate := [][]string{nil, {}, {"admit members"}, {`refuse unproven because "No: go; away"`, "hold suspect", "admit anyone"}}[random.IntN(4)]
		return edit{names, []change.Change{change.SetSetting{Group: g, Setting: "gate", Texts: gate}}}
	case 6:
		add := change.SetList{Group: g, Setting: "owners", Add: []string{fresh.String()}}
		return edit{[]string{"owners", group, `b"`}, []change.Change{add}}
	case 7:
		return randomRuleEdit(random, e, g)
	case 8:
		if random.IntN(4) == 0 {
			return anything([]change.Change{set("attributes", "unit: engine", "tags: x", "tags: y"), set("attributes"),
				change.SetNestedGates{Open: n%2 == 0}}[random.IntN(3)])
		}
		return anything([]change.Change{set("access."+pick("find", "join", "read"), pick("inside", "members")),
			set("kind", pick("forum", "list")), set("welcome", "false"), set("pause-after", "3"), set("copy"),
			change.SetList{Group: g, Setting: "also", Add: []string{"x" + fresh.String()}},
			change.RenameGroup{Group: g, To: fresh, Forget: n%2 == 0},
		}[random.IntN(7)])
	case 9:
		return randomWholeEdit(random, e, g, fresh, m)
	}
	return randomPersonEdit(random, e, fresh)
}

// randomRuleEdit changes a rule of a gate or of the members.
func randomRuleEdit(random *rand.Rand, e *estate.Estate, g estate.ID) edit {
	rules, gate := e.Rules(g), e.Group(g).Gate
	switch at := random.IntN(len(gate) + 1); {
	case len(rules) > 0 && e.Groups() == 2 && at == 0:
		return anything(change.RemoveMemberRule{Group: g, Rule: 0})
	case len(rules) > 0 && at == 0:
		return anything(change.SetMemberRule{Group: g, Rule: 0, Filter: rules[0].Filter, Membership: estate.Membership{Copy: estate.CopyDigest}})
	case at == len(gate) || random.IntN(3) == 0:
		return anything(change.InsertRule{Group: g, Setting: "gate", At: at, Text: "hold automatic"})
	case random.IntN(2) == 0:
		return anything(change.SetRule{Group: g, Setting: "gate", At: at, Text: "drop suspect"})
	default:
		return anything(change.RemoveRule{Group: g, Setting: "gate", At: at})
	}
}

// randomWholeEdit lets a group come or go.
func randomWholeEdit(random *rand.Rand, e *estate.Estate, g estate.ID, fresh address.Address, m estate.Membership) edit {
	if e.Groups() > 2 && g > 1 {
		gone := []change.Change{change.RemoveGroup{Group: g}}
		return anything(append(gone, change.Cascade(e, []estate.ID{g}, nil)...)...)
	}
	quay, _ := selector.ParseFilter("(base=quay)")
	return anything(change.AddGroup{
		Address: fresh,
		Settings: []change.Said{{Setting: "owners", Texts: []string{e.Address(e.PersonID(0)).String()}},
			{Setting: "welcome", Texts: []string{"false"}}, {Setting: "access.read", Texts: []string{"inside"}}},
		Members: []change.Member{{Address: e.Address(e.PersonID(0))}, {Filter: quay},
			{Address: e.Address(e.PersonID(min(1, e.People()-1))), Membership: m}},
	})
}

// randomPersonEdit changes a person, or lets one come or go.
func randomPersonEdit(random *rand.Rand, e *estate.Estate, fresh address.Address) edit {
	person := e.PersonID(random.IntN(e.People()))
	if e.Person(person).Implied {
		attributes := []estate.Attribute{{Name: "base", Value: "quay"}, {Name: "post", Value: "a"}, {Name: "post", Value: "b"}}
		return edit{[]string{"kelp.example"}, []change.Change{change.AddPerson{Person: estate.Person{Address: fresh, Name: "New"}, Attributes: attributes}}}
	}
	who := e.Address(person).String()
	switch random.IntN(8) {
	case 0:
		return anything(change.SetPerson{Person: person, Field: "name", Text: "Other Name"})
	case 1:
		return anything(change.SetPerson{Person: person, Field: "mailbox", Text: "full"})
	case 2:
		return anything(change.SetPersonAlso{Person: person, Also: []address.Address{fresh}})
	case 3:
		if e.People() > 3 {
			gone := []change.Change{change.RemovePerson{Person: person}}
			return anything(append(gone, change.Cascade(e, []estate.ID{person}, nil)...)...)
		}
	}
	set := change.SetAttribute{Person: person, Attribute: "base"}
	if base := []string{"", "pier", "no 7", "7"}[random.IntN(4)]; base != "" {
		set.Values = []string{base}
	}
	return edit{[]string{"base", "attributes", who}, []change.Change{set}}
}

// checkEdit fails where a draft with changes is not what they come to in memory.
func checkEdit(t *testing.T, d *Draft, later *estate.Estate, changes []change.Change) {
	t.Helper()
	want, err := change.Apply(d.Before(), changes...)
	if err != nil {
		t.Fatalf("%+v: it can be written, but not made: %v", changes, err)
	}
	if line := changetest.Differing(changetest.Portrait(later), changetest.Portrait(want)); line != "" {
		t.Fatalf("%T%+v: written, it is %s\nthe files: %s", changes[0], changes, line, d.edited)
	}
}

// Each kind of change, written into a file, comes to what it is in memory.
func TestWriteEachChange(t *testing.T) {
	path := writeEstate(t, map[string]string{"estate.yaml": changetest.Quay})
	e, err := Load(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range changetest.Alterations(e) {
		d, err := Open(t.Context(), path)
		if err != nil {
			t.Fatal(err)
		}
		changes := a.With(d.Before())
		d.Apply(changes...)
		later, err := d.Estate()
		if err != nil {
			t.Errorf("%T%+v: %v", a.Change, a.Change, err)
			continue
		}
		checkEdit(t, d, later, changes)
	}
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
			if line := bytes.TrimSpace(a[i]); len(line) > 0 && (!named || line[0] == '#' && !slices.Contains(names, "#")) || len(line) == 0 && i < len(a)-1 {
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
				one.names = append(one.names, "]")
				switch name {
				case "JSON":
					one.names = append(one.names, `"members"`, `"owners"`)
				case "lists":
					one.names = append(one.names, "memberships", "group:", "#")
				}
				before := map[string][]byte{}
				for file := range files {
					before[file], _ = os.ReadFile(filepath.Join(path, file))
				}
				d.Apply(one.changes...)
				later, err := d.Estate()
				if err != nil && name == "tables" && strings.Contains(err.Error(), "by hand") {
					continue
				}
				if err != nil {
					t.Fatalf("%+v: %v\n%s", one.changes, err, d.edited[filepath.Join(path, "estate.yaml")])
				}
				if err := d.Write(); err != nil {
					t.Fatalf("%+v: %v", one.changes, err)
				}
				for file, old := range before {
					now, _ := os.ReadFile(filepath.Join(path, file))
					if line := spoiled(old, now, one.names); line != "" {
						t.Fatalf("%T%+v: spoiled %s: %q\nbefore:\n%s\nlater:\n%s", one.changes[0], one.changes, file, line, old, now)
					}
				}
				checkEdit(t, d, later, one.changes)
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
		desk, crew := find1(d.Before(), "desk@kelp.example"), find1(d.Before(), "crew@kelp.example")
		set := func(g estate.ID, setting string, texts ...string) change.Change {
			return change.SetSetting{Group: g, Setting: setting, Texts: texts}
		}
		changes := []change.Change{
			set(desk, "kind", "forum"), set(desk, "title"), set(crew, "access.find", "members"), set(crew, "access.join", "inside"),
			change.SetList{Group: desk, Setting: "owners", Drop: []string{"ann@kelp.example"}, Add: []string{"cat@kelp.example"}},
			change.AddGroup{Address: address.MustParse("last@kelp.example")}, change.AddDomain{Name: "more.example"},
			change.SetAttribute{Person: d.Before().PersonID(1), Attribute: "base"},
			change.SetAttribute{Person: d.Before().PersonID(1), Attribute: "post", Values: []string{"mate", "cook"}},
		}
		for i := range d.Before().Entries(desk) {
			changes = append(changes, change.RemoveMember{Group: desk, Entry: i})
		}
		for i := range 5 {
			member := change.Member{Address: address.MustParse(fmt.Sprintf("guest%d@out.example", i))}
			changes = append(changes, change.AddMember{Group: desk, Member: member})
		}
		d.Apply(changes...)
		e, err := d.Estate()
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, d.edited)
			continue
		}
		checkEdit(t, d, e, changes)
		if desk := find1(e, "desk@kelp.example"); len(e.Entries(desk)) != 5 || e.Group(desk).Kind != estate.Forum {
			t.Errorf("%s: not all edits are there:\n%s", name, d.edited)
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
	d.Apply(change.AddMember{Member: change.Member{Address: address.MustParse("y@out.example")}})
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
					d.Apply(change.AddMember{Member: change.Member{Address: address.MustParse(member)}})
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
			d.Apply(setTitle(0, strings.Repeat(fmt.Sprint(i%10), 1000)))
			if err := d.Write(); err != nil {
				t.Fatal(err)
			}
		}
	}
	if testing.Short() {
		t.Skip("fifty writers are killed")
	}
	members := strings.Builder{}
	for i := range 3000 {
		fmt.Fprintf(&members, "  - p%d@out.example\n", i)
	}
	path := writeEstate(t, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\ngroups:\n- address: a@kelp.example\n  title: x\n  members:\n" + members.String()})
	random := rand.New(rand.NewPCG(1, 2))
	seen := map[string]bool{}
	for range campaign.Rounds(10, 50) {
		cmd := exec.Command(os.Args[0], "-test.run=^TestKilledWriter$")
		cmd.Env = append(os.Environ(), "YORVET_TEST_WRITE="+path)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		tick := time.Tick(time.Millisecond)
		for range 1 + random.IntN(4) { // until it has written that often
			before, _ := os.ReadFile(filepath.Join(path, "estate.yaml"))
			for now := before; bytes.Equal(now, before); <-tick {
				now, _ = os.ReadFile(filepath.Join(path, "estate.yaml"))
			}
		}
		for range random.IntN(30) {
			<-tick
		}
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
	f.Add([]byte("yorvet: 1\ndomains:\n- kelp.example\npeople:\n- address:\n    ann@kelp.example\n  attributes: {}\ngroups:\n-\n  address: \"a@kelp.example\"\n  gate:\n  -\n    admit\n    anyone\n  members:\n\n  - address: ann@kelp.example\n\n    copy: none\n"), uint64(4))
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
		d.Apply(one.changes...)
		later, err := d.Estate()
		if err != nil {
			var refused *Errors
			if !errors.As(err, &refused) {
				t.Errorf("%+v: %v", one.changes, err)
			}
			return
		}
		checkEdit(t, d, later, one.changes)
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
		d.Apply(change.RemoveMember{Group: desk})
		if _, err := d.Estate(); !errors.Is(err, ErrChanged) {
			t.Errorf("%s: err = %v, want that somebody else has changed it", name, err)
		}
		if err := d.Write(); !errors.Is(err, ErrChanged) {
			t.Errorf("%s: err = %v, want that somebody else has changed it", name, err)
		}
	}
}

// What is added to an empty collection in flow style stands in it, and lines are counted
// that come and go.
func TestEmptyCollections(t *testing.T) {
	const before = `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}]
groups:
  - {address: desk@kelp.example, members: [], owners: [ ], access: {}}
  - address: crew@kelp.example
    members: []
    access: {}
  - address: free@kelp.example
    members: !!seq []
`
	for _, c := range []struct {
		change         func(e *estate.Estate) change.Change
		line           string
		added, removed int
	}{
		{func(e *estate.Estate) change.Change {
			return change.AddMember{Group: find1(e, "desk@kelp.example"), Member: change.Member{Address: address.MustParse("ann@kelp.example")}}
		}, "  - {address: desk@kelp.example, members: [ann@kelp.example], owners: [ ], access: {}}\n", 1, 1},
		{func(e *estate.Estate) change.Change {
			return change.SetList{Group: find1(e, "desk@kelp.example"), Setting: "owners", Add: []string{"ann@kelp.example"}}
		}, "  - {address: desk@kelp.example, members: [], owners: [ann@kelp.example], access: {}}\n", 1, 1},
		{func(e *estate.Estate) change.Change {
			return change.AddMember{Group: find1(e, "crew@kelp.example"), Member: change.Member{Address: address.MustParse("ann@kelp.example"), Membership: estate.Membership{Copy: estate.CopyNone}}}
		}, "    members: [{address: ann@kelp.example, copy: none}]\n", 1, 1},
		{func(e *estate.Estate) change.Change {
			return change.AddMember{Group: find1(e, "free@kelp.example"), Member: change.Member{Address: address.MustParse("ann@kelp.example")}}
		}, "    members: [ann@kelp.example]\n", 1, 1},
		{func(e *estate.Estate) change.Change {
			return change.SetSetting{Group: find1(e, "crew@kelp.example"), Setting: "access.find", Texts: []string{"anyone"}}
		}, "    access: {find: anyone}\n", 1, 1},
		{func(e *estate.Estate) change.Change {
			return change.SetSetting{Group: find1(e, "crew@kelp.example"), Setting: "title", Texts: []string{"Crew"}}
		}, "    title: Crew\n", 1, 0},
		{func(e *estate.Estate) change.Change {
			return change.RemoveGroup{Group: find1(e, "free@kelp.example")}
		}, "", 0, 2},
	} {
		d, err := Open(t.Context(), writeEstate(t, map[string]string{"estate.yaml": before}))
		if err != nil {
			t.Fatal(err)
		}
		one := c.change(d.Before())
		d.Apply(one)
		later, err := d.Estate()
		if err != nil {
			t.Errorf("%T: %v", one, err)
			continue
		}
		checkEdit(t, d, later, []change.Change{one})
		files, err := d.Changed()
		if err != nil || len(files) != 1 || files[0].Added != c.added || files[0].Removed != c.removed || !strings.Contains(string(files[0].Later), c.line) || string(files[0].Before) != before {
			t.Errorf("%T: %v, %+d -%d, want %+d -%d and %q in\n%s", one, err, files[0].Added, files[0].Removed, c.added, c.removed, c.line, files[0].Later)
		}
	}
}
