package estate

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

func at(text string) address.Address { return address.MustParse(text) }

func place(line int) Place { return Place{Line: uint32(line), Column: 1} }

func settings(domains ...Domain) Settings {
	return Settings{Files: []string{"a.yaml", "b.yaml"}, Domains: append([]Domain{{Name: "kelp.example"}}, domains...), Subaddress: "+"}
}

// A day begins and ends at midnight in UTC.
func TestDayOf(t *testing.T) {
	want, err := ParseDay("2026-11-23")
	if err != nil {
		t.Fatal(err)
	}
	for text, ahead := range map[string]int{"2026-11-23T00:00:00Z": 0, "2026-11-23T23:59:59Z": 0, "2026-11-24T00:00:00Z": 1, "2026-11-22T23:59:59Z": -1, "2026-11-24T00:30:00+01:00": 0} {
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			t.Fatal(err)
		}
		if got := DayOf(at); got != want+Day(ahead) {
			t.Errorf("%s is %s", text, got)
		}
	}
}

func TestDays(t *testing.T) {
	for day := Day(1); day <= 3652059; day += 1 + Day(rand.IntN(400)) {
		text := day.String()
		if got, err := ParseDay(text); err != nil || got != day {
			t.Fatalf("ParseDay(%q) = %d, %v, want %d", text, got, err, day)
		}
	}
	if got := DayOf(time.Date(2026, 11, 23, 23, 59, 0, 0, time.UTC)).String(); got != "2026-11-23" {
		t.Errorf("DayOf = %s", got)
	}
	if got, _ := ParseDay("9999-12-31"); got != 3652059 || pack(Membership{Since: got})>>sinceShift != uint32(got) {
		t.Errorf("the last day is %d", got)
	}
	for _, bad := range []string{"", "2026-3-02", "2026-02-30", "2025-02-29", "1900-02-29", "0000-01-01", "2026-13-01", "2026-00-01",
		"2026-01-00", "20260102", "2026/01/02", "2026-01-02T", "x026-01-02", "2026-04-31"} {
		if got, err := ParseDay(bad); err == nil {
			t.Errorf("ParseDay(%q) = %d", bad, got)
		}
	}
	for _, good := range []string{"2024-02-29", "2000-02-29", "0001-01-01"} {
		if got, err := ParseDay(good); err != nil || got.String() != good {
			t.Errorf("ParseDay(%q) = %s, %v", good, got, err)
		}
	}
	if Day(0).String() != "" {
		t.Error("no date has a text")
	}
}

func TestFind(t *testing.T) {
	b := NewBuilder(settings(Domain{Name: "old.example", SameAs: "older.example"}, Domain{Name: "older.example", SameAs: "Kelp.example"}))
	g := b.AddGroup(Group{Address: at("Desk@kelp.example"), Also: []address.Address{at("found@old.example")}}, []Place{place(2)})
	ada := b.AddPerson(Person{Address: at("Ada@kelp.example"), Also: []address.Address{at("ada@out.example")}}, nil, []Place{place(3)})
	tagged := b.AddPerson(Person{Address: at("ada+tag@kelp.example")}, nil, nil)
	b.AddEntry(g, b.Refer(at("Bo@far.example"), g, "member", place(4)), Membership{}, place(4))
	b.AddEntry(g, b.Refer(at("bo+x@far.example"), g, "member", place(5)), Membership{}, place(5))
	b.AddEntry(g, b.Refer(at("ghost@kelp.example"), g, "member", place(6)), Membership{}, place(6))
	b.AddEntry(g, b.Refer(at("GHOST@old.example"), g, "member", place(7)), Membership{}, place(7))
	e, problems := b.Build()
	if e == nil {
		t.Fatal(problems)
	}
	for _, c := range []struct {
		in   string
		want ID
	}{
		{"desk@kelp.example", g}, {"DESK@OLD.example", g}, {"found@kelp.example", g}, {"found+x@older.example", g},
		{"ada@old.example", ada}, {"ada+other@kelp.example", ada}, {"ada+tag@old.example", tagged}, {"ada+tag+b@kelp.example", ada},
		{"ada@out.example", ada}, {"ada+x@out.example", ada}, {"bo+y@far.example", 3},
		{"ghost@kelp.example", None}, {"nobody@kelp.example", None}, {"no+body@kelp.example", None}, {"+ada@kelp.example", None},
	} {
		if got, ok := e.Find(at(c.in)); got != c.want || ok != (c.want != None) {
			t.Errorf("Find(%s) = %d, %t, want %d", c.in, got, ok, c.want)
		}
	}
	if e.People() != 3 || e.Person(3).Address.String() != "Bo@far.example" || !e.Person(3).Implied || e.Inside(3) || !e.Inside(ada) || !e.Inside(g) {
		t.Errorf("%d people, the last is %+v", e.People(), e.Person(3))
	}
	entries := e.Entries(g)
	if len(entries) != 4 || entries[0].Member != entries[1].Member || entries[2].Member != entries[3].Member || !entries[2].Member.IsNobody() ||
		e.Address(entries[3].Member).String() != "ghost@kelp.example" {
		t.Errorf("the entries are %+v", entries)
	}
	if e.Address(entries[2].Member).String() != "ghost@kelp.example" || e.Address(g).String() != "Desk@kelp.example" || e.Address(ada).String() != "Ada@kelp.example" {
		t.Error("somebody has another address")
	}
	if unknown := e.Unknown(); len(unknown) != 2 || unknown[1].Address.String() != "GHOST@old.example" || unknown[1].Place != place(7) {
		t.Errorf("unknown are %+v", unknown)
	}
	var order []string
	for _, id := range e.PeopleByAddress() {
		order = append(order, e.Address(id).String())
		if e.PeopleByAddress()[e.Rank(id)] != id {
			t.Errorf("the rank of %s is %d", e.Address(id), e.Rank(id))
		}
	}
	if !slices.Equal(order, []string{"ada+tag@kelp.example", "Ada@kelp.example", "Bo@far.example"}) {
		t.Errorf("sorted, the people are %v", order)
	}
	all := slices.Collect(e.Addresses)
	if len(all) != 6 {
		t.Errorf("%d addresses", len(all))
	}
	for n := 1; n < len(all); n++ { // whoever has seen enough ends the walk
		var some []string
		for a := range e.Addresses {
			if some = append(some, a); len(some) == n {
				break
			}
		}
		if !slices.Equal(some, all[:n]) {
			t.Errorf("the first %d addresses are %v", n, some)
		}
	}
	if e.Domain("old.example") != "kelp.example" || e.Domain("far.example") != "far.example" || !e.InsideDomain("older.example") || e.InsideDomain("far.example") {
		t.Error("domains do not mean what they should")
	}
	if got := e.Settings().Position(Place{File: 1, Line: 3, Column: 4}); got != "b.yaml:3:4" || e.Settings().Position(Place{}) != "" {
		t.Errorf("a position is %q", got)
	}
}

// What a selector names and nobody has is unknown, and what somebody has is not.
func TestUnknown(t *testing.T) {
	in := func(text string) selector.Expr {
		x, err := selector.Parse(text, selector.ForMessages)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	b := NewBuilder(settings())
	g := b.AddGroup(Group{Address: at("desk@kelp.example"),
		Gate:   []GateRule{{Selector: in("ada@kelp.example or a@kelp.example or desk@kelp.example or g1@kelp.example or far@out.example"), Place: place(1)}, {Selector: in("in desk@kelp.example"), Place: place(2)}},
		SendAs: []SendAsRule{{Selector: in("g2@kelp.example"), Place: place(3)}},
		Access: [actions]SelectorRule{{Selector: in("g3@kelp.example or bo@kelp.example"), Place: place(4)}},
	}, nil)
	b.AddPerson(Person{Address: at("ada@kelp.example"), Also: []address.Address{at("a@kelp.example")}}, nil, []Place{place(5)})
	b.AddPerson(Person{Address: at("bo@kelp.example")}, nil, nil)
	e, problems := b.Build()
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	want := []Unknown{{at("g1@kelp.example"), g, "gate", place(1)}, {at("g2@kelp.example"), g, "send-as", place(3)}, {at("g3@kelp.example"), g, "access", place(4)}}
	if !slices.Equal(e.Unknown(), want) {
		t.Errorf("unknown are %+v", e.Unknown())
	}
}

// A former word leads to the one that is used now, and no other word does.
func TestFormer(t *testing.T) {
	for word, want := range map[string]string{"facts": "attributes", "voice": "send-as", "attributes": "", "": ""} {
		if now, ok := Former(word); now != want || ok != (want != "") {
			t.Errorf("%q is %q now, %t", word, now, ok)
		}
	}
}

// A word that is none of a setting's is an error that lists them, and so is no word.
func TestParseWord(t *testing.T) {
	words := []string{"list", "forum", ""}
	for text, want := range map[string]int{"list": 0, "forum": 1, "": -1, "froum": -1} {
		i, err := ParseWord(words, text)
		if (err == nil) != (want >= 0) || err == nil && i != want {
			t.Errorf("%q is word %d, %v", text, i, err)
		}
	}
}

// A place comes before others by file, then by line, then by column.
func TestPlaceOrder(t *testing.T) {
	ordered := []Place{{File: 1, Line: 9, Column: 9}, {File: 2, Line: 1, Column: 8}, {File: 2, Line: 3, Column: 1}, {File: 2, Line: 3, Column: 2}}
	for i, p := range ordered {
		for j, other := range ordered {
			if p.before(other) != (i < j) {
				t.Errorf("%+v is before %+v: %t", p, other, i >= j)
			}
		}
	}
}

func TestProblems(t *testing.T) {
	for _, c := range []struct {
		name string
		make func() *Builder
		want []string
	}{
		{"domains", func() *Builder {
			return NewBuilder(settings(
				Domain{Name: "KELP.example", Place: place(1)},
				Domain{Name: "b_d", Place: place(2)},
				Domain{Name: "ring-a.example", SameAs: "ring-b.example", Place: place(3)},
				Domain{Name: "ring-b.example", SameAs: "ring-a.example", Place: place(4)},
				Domain{Name: "self.example", SameAs: "self.example", Place: place(5)},
				Domain{Name: "far.example", SameAs: "klep.example", Place: place(6)},
				Domain{Name: "bad.example", SameAs: "-", Place: place(7)}))
		}, []string{
			`1 the domain "KELP.example" is listed twice`, `2 the domain "b_d" is no address`, "5 the domain \"self.example\" is the same as itself",
			`7 the domain "-" is no address`, "3 the domain \"ring-a.example\" is the same as itself, in a ring",
			"4 the domain \"ring-b.example\" is the same as itself, in a ring", `6 same-as names "klep.example", expected a domain of the estate (kelp.example)`,
		}},
		{"clashes", func() *Builder {
			b := NewBuilder(settings(Domain{Name: "old.example", SameAs: "kelp.example"}))
			b.AddGroup(Group{Address: at("desk@kelp.example"), Place: place(5)}, nil)
			b.AddPerson(Person{Address: at("ada@kelp.example"), Also: []address.Address{at("ADA@old.example"), at("Desk@old.example")}, Place: place(7)},
				nil, []Place{place(8), place(3)})
			b.AddPerson(Person{Address: at("bo@kelp.example"), Also: []address.Address{at("b@kelp.example")}, Place: place(9)}, nil, []Place{place(10)})
			b.AddPerson(Person{Address: at("b@kelp.example"), Place: place(11)}, nil, nil)
			return b
		}, []string{`5 "Desk@old.example" is already the address of a person, see 3`, `11 "b@kelp.example" is already the address of a person, see 10`}},
		{"groups", func() *Builder {
			b := NewBuilder(settings())
			b.AddGroup(Group{Address: at("desk@klep.example"), Also: []address.Address{at("x@out.example")}, Place: place(1)}, []Place{place(2)})
			return b
		}, []string{`1 the group "desk@klep.example" is outside, expected an address in a domain of the estate (kelp.example)`, `2 the group "x@out.example" is outside`}},
		{"nested groups", func() *Builder {
			b := NewBuilder(settings())
			g := b.AddGroup(Group{Address: at("desk@kelp.example")}, nil)
			b.AddEntry(g, g, Membership{Copy: CopyDigest, Paused: true, Since: 7, Invitations: InvitationsEvery}, place(4))
			b.AddEntry(g, g, Membership{Copy: CopyNone}, place(5))
			return b
		}, []string{"4 the nested group \"desk@kelp.example\" takes copy every or none, not digest", "4 the nested group \"desk@kelp.example\" takes no since",
			"4 the nested group \"desk@kelp.example\" takes no invitations", "4 the nested group \"desk@kelp.example\" takes no paused"}},
		{"selectors", func() *Builder {
			b := NewBuilder(settings())
			in := func(text string) selector.Expr {
				x, err := selector.Parse(text, selector.ForPeople)
				if err != nil {
					t.Fatal(err)
				}
				return x
			}
			b.AddGroup(Group{Address: at("desk@kelp.example"),
				Gate:   []GateRule{{Selector: in("in dekc@kelp.example"), Text: "in dekc@kelp.example", Place: place(1)}},
				SendAs: []SendAsRule{{Selector: in("in ada@kelp.example or nobody@kelp.example"), Text: "in ada", Place: place(2)}},
				Access: [actions]SelectorRule{{Selector: in("in far@out.example or far@out.example"), Text: "in far", Place: place(3)}},
			}, nil)
			b.AddPerson(Person{Address: at("ada@kelp.example")}, nil, nil)
			return b
		}, []string{`1 there is no group "dekc@kelp.example", expected one after "in" (desk@kelp.example)`, `2 "ada@kelp.example" is a person, expected a group`,
			`3 there is no group "far@out.example"`}},
	} {
		e, problems := c.make().Build()
		if e != nil {
			t.Errorf("%s: there is an estate", c.name)
		}
		for i, p := range problems {
			text := itoa(int(p.Place.Line)) + " " + p.Text
			if p.See != (Place{}) {
				text = strings.Split(text, ",")[0] + ", see " + itoa(int(p.See.Line))
			}
			if p.Nearest != "" {
				text += " (" + p.Nearest + ")"
			}
			if i >= len(c.want) || !strings.HasPrefix(text, c.want[i]) {
				t.Errorf("%s: problem %d is %s", c.name, i, text)
			}
		}
		if len(problems) != len(c.want) {
			t.Errorf("%s: %d problems, want %d", c.name, len(problems), len(c.want))
		}
	}
}

func itoa(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return itoa(n/10) + itoa(n%10)
}

func TestAttributes(t *testing.T) {
	b := NewBuilder(settings())
	ada := b.AddPerson(Person{Address: at("Ada@kelp.example"), Name: "Ada"}, []Attribute{{"Post", "skipper"}, {"post", "trainer"}, {"years", "7"}}, nil)
	bo := b.AddPerson(Person{Address: at("bo@kelp.example")}, []Attribute{{"POST", "Skipper"}}, nil)
	e, _ := b.Build()
	if got := e.Values(ada, "post"); !slices.Equal(got, []string{"skipper", "trainer"}) {
		t.Errorf("the posts are %v", got)
	}
	if got := e.Attributes(ada); len(got) != 3 || got[0] != (Attribute{"Post", "skipper"}) {
		t.Errorf("the attributes are %v", got)
	}
	for _, c := range []struct {
		filter string
		want   []ID
	}{
		{"(post=SKIPPER)", []ID{ada, bo}}, {"(post=trainer)", []ID{ada}}, {"(address=ada@*)", []ID{ada}}, {"(name=*)", []ID{ada}}, {"(rank=*)", nil},
	} {
		f, _ := selector.ParseFilter(c.filter)
		var got []ID
		e.EachMatch(f.(*selector.Item), func(id ID) {
			if !slices.Contains(got, id) {
				got = append(got, id)
			}
		})
		if !slices.Equal(got, c.want) {
			t.Errorf("%s matches %v, want %v", c.filter, got, c.want)
		}
		for _, id := range []ID{ada, bo} {
			if e.Matches(id, f) != slices.Contains(c.want, id) {
				t.Errorf("%s for %s is %t", c.filter, e.Address(id), e.Matches(id, f))
			}
		}
	}
}

func TestEntriesAndNestings(t *testing.T) {
	b := NewBuilder(settings())
	var groups []ID
	for _, name := range []string{"a", "b", "c"} {
		groups = append(groups, b.AddGroup(Group{Address: at(name + "@kelp.example")}, nil))
	}
	ada := b.AddPerson(Person{Address: at("ada@kelp.example")}, nil, nil)
	since, _ := ParseDay("2026-03-02")
	full := Membership{Copy: CopyReplies, Invitations: InvitationsNone, Paused: true, Since: since}
	// In the order of a table: groups in turn.
	for i := range 200 {
		b.AddEntry(groups[i%3], ada, full, place(i+1))
	}
	b.AddEntry(groups[0], groups[1], Membership{Copy: CopyNone}, place(500))
	b.AddEntry(groups[0], groups[2], Membership{}, place(501))
	b.AddEntry(groups[1], groups[2], Membership{}, place(502))
	e, _ := b.Build()
	if e.Memberships() != 203 {
		t.Errorf("%d memberships", e.Memberships())
	}
	for n, g := range groups {
		for i, entry := range e.Entries(g)[:66] {
			if entry.Place != place(3*i+n+1) || entry.Copy() != CopyReplies || entry.Invitations() != InvitationsNone || !entry.Paused() || entry.Since() != since {
				t.Fatalf("entry %d of group %d is %+v", i, n, entry)
			}
		}
	}
	if got := e.Children(groups[0]); len(got) != 2 || got[0] != (Nesting{groups[1], false, place(500)}) || got[1] != (Nesting{groups[2], true, place(501)}) {
		t.Errorf("the children are %+v", got)
	}
	if got := e.Parents(groups[2]); len(got) != 2 || got[0].Group != groups[0] || got[1].Group != groups[1] {
		t.Errorf("the parents are %+v", got)
	}
	if e.Group(groups[0]).Gate[0].Text != "admit inside" || e.Group(groups[0]).Access[Manage].Text != "owners" {
		t.Error("the defaults are not there")
	}
	if x, _ := selector.Parse("in ada@kelp.example", selector.ForPeople); len(e.CheckSelector(x, "in ada@kelp.example")) != 1 {
		t.Error("a selector with a person after in has no problem")
	}
}

func TestWords(t *testing.T) {
	if k, ok := WordIndex[Kind](KindWords(), "forum"); k != Forum || !ok || !k.Keeps() || k.String() != "forum" {
		t.Errorf("forum is %v, %t", k, ok)
	}
	if _, ok := WordIndex[Copy](CopyWords(), ""); ok {
		t.Error("the empty word is a copy")
	}
	if List.Keeps() || Roster.Keeps() || !Mailbox.Keeps() {
		t.Error("the kinds keep what they should not")
	}
	for _, s := range []string{CopyNone.String(), InvitationsNone.String(), MailboxNone.String()} {
		if s != "none" {
			t.Errorf("none is %q", s)
		}
	}
	if Hold.String() != "hold" || ForGroup.String() != "for" || SeeMembers.String() != "see-members" {
		t.Error("a word is wrong")
	}
}

// The directory is a map.
func TestDirectory(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	d, want := newDirectory(), map[string]ID{}
	var asked []string
	for i := range 5000 {
		key := strings.Repeat("k", random.IntN(3)) + itoa(random.IntN(20000)) + "@x"
		if _, there := want[key]; !there {
			d.put(key, ID(i))
			want[key] = ID(i)
		}
		asked = append(asked, key, key+"?", itoa(i))
	}
	asked = append(asked, "")
	ids := make([]ID, len(asked))
	d.getAll(asked, ids)
	for i, key := range asked {
		id, there := want[key]
		if !there {
			id = None
		}
		if got, ok := d.get(key); ids[i] != id || got != id || ok != there {
			t.Fatalf("%q is %d, and %d among all, want %d", key, got, ids[i], id)
		}
	}
}
