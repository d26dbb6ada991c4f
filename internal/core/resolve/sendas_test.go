package resolve

import (
	"fmt"
	"slices"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// sendAsEstate makes an estate with one group of a kind, in which everybody inside
// may send as it, and whose proof is a mailed code.
func sendAsEstate(t *testing.T, kind estate.Kind, codes, gate string) (*Resolver, estate.ID) {
	t.Helper()
	s := estate.Settings{Files: []string{"test.yaml"}, Domains: []estate.Domain{{Name: "kelp.example"}}}
	if codes != "" {
		s.CodeSender = address.MustParse(codes)
	}
	b := &builder{t, estate.NewBuilder(s)}
	inside, _ := selector.Parse("inside", selector.ForPeople)
	admits, err := selector.Parse(gate, selector.ForMessages)
	if err != nil {
		t.Fatal(err)
	}
	g := b.b.AddGroup(estate.Group{Address: at("desk"), Kind: kind, SendAsProof: estate.ProofMailedCode,
		SendAs: []estate.SendAsRule{{SendAs: estate.AsGroup, Selector: inside}},
		Gate:   []estate.GateRule{{Verdict: estate.Admit, Selector: admits, Text: "admit " + gate}}}, nil)
	nested := b.group("nested", estate.List, "hold anyone")
	b.person("every")
	b.person("digest")
	b.person("none")
	b.person("nobody")
	b.person("behind")
	b.b.AddPerson(estate.Person{Address: at("full"), Mailbox: estate.MailboxFull}, nil, nil)
	b.member(g, "every", estate.Membership{})
	b.member(g, "digest", estate.Membership{Copy: estate.CopyDigest})
	b.member(g, "none", estate.Membership{Copy: estate.CopyNone})
	b.member(g, "full", estate.Membership{})
	b.member(g, "nested", estate.Membership{})
	b.member(nested, "behind", estate.Membership{})
	return b.resolver(1), g
}

func TestProof(t *testing.T) {
	const codes = "codes@post.example"
	for _, c := range []struct {
		name        string
		kind        estate.Kind
		codes, gate string
		possible    []string
	}{
		{"a list", estate.List, codes, "anyone", []string{"every"}},
		{"a forum keeps the code for those without copies", estate.Forum, codes, "anyone", []string{"every", "none"}},
		{"a mailbox keeps it for all members", estate.Mailbox, codes, "automatic and outside", []string{"behind", "digest", "every", "full", "none"}},
		{"the gate shuts it out", estate.Forum, codes, "inside", nil},
		{"the gate shuts out programs", estate.Forum, codes, "not automatic", nil},
		{"a roster takes no mail", estate.Roster, codes, "anyone", nil},
		{"there is no code-sender", estate.Forum, "", "anyone", nil},
	} {
		r, g := sendAsEstate(t, c.kind, c.codes, c.gate)
		delegates := r.Rights(g).Delegates()
		var possible []string
		for _, s := range delegates.People {
			local := r.e.Address(s.ID).Local()
			if s.SendAs != estate.AsGroup || s.Rule != 1 || s.Proof == ProofNotNeeded {
				t.Errorf("%s: %s has %+v", c.name, local, s)
			}
			if s.Proof == ProofPossible {
				possible = append(possible, local)
			}
			if local == "nobody" && s.Receipt != nil {
				t.Errorf("%s: somebody who is no member receives the code", c.name)
			}
		}
		if len(delegates.People) != 6 || !slices.Equal(possible, c.possible) {
			t.Errorf("%s: possible for %v of %d, want %v", c.name, possible, len(delegates.People), c.possible)
		}
		for _, s := range delegates.People {
			if got := r.Rights(g).Proof(s.ID); got != s.Proof {
				t.Errorf("%s: the proof of %s is %v, and by itself %v", c.name, r.e.Address(s.ID), s.Proof, got)
			}
		}
		if got := r.Rights(g).Proof(estate.None); got != ProofImpossible {
			t.Errorf("%s: the proof of nobody is %v", c.name, got)
		}
		if (delegates.Code != nil) != (c.codes != "") || (delegates.Delivery != nil) != (c.codes != "") {
			t.Errorf("%s: the code is %+v", c.name, delegates.Code)
		}
	}
}

// Everybody who writes from their own address is in one class of a send-as: that of the
// first rule that picks them, or the one of those who may not.
func TestSendAsClasses(t *testing.T) {
	b := newBuilder(t)
	parse := func(text string) selector.Expr {
		x, err := selector.Parse(text, selector.ForPeople)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	g := b.b.AddGroup(estate.Group{Address: at("g"), SendAs: []estate.SendAsRule{
		{SendAs: estate.AsGroup, Selector: parse("ada@kelp.example")}, {SendAs: estate.ForGroup, Selector: parse("ada@kelp.example or bo@kelp.example")},
	}}, nil)
	for _, name := range []string{"ada", "bo", "cy"} {
		b.person(name)
	}
	r := b.resolver(1)
	var got []string
	for i, class := range r.Rights(g).Classes() {
		for _, id := range class.ToArray() {
			got = append(got, fmt.Sprint(i, r.e.Address(estate.ID(id)).Local()))
		}
	}
	if want := "[0g 0cy 1ada 2bo]"; fmt.Sprint(got) != want {
		t.Errorf("%v, want %s", got, want)
	}
}

// A gate that speaks of its own group says something else in each.
func TestSameForAll(t *testing.T) {
	for gate, want := range map[string]bool{
		"": true, "admit inside": true, "admit in g@kelp.example": true, "refuse unproven": true, "admit where (a=b)": true,
		"admit members": false, "admit inside or owners": false, "hold not moderators": false, "hold newcomers(3d)": false,
	} {
		var gates []string
		if gate != "" {
			gates = []string{"refuse suspect", gate}
		}
		b := newBuilder(t)
		g := b.group("g", estate.List, gates...)
		roster := b.group("r", estate.Roster, gates...)
		e := b.resolver(1).Estate()
		if got := SameForAll(e.Group(g)); got != want || SameForAll(e.Group(roster)) {
			t.Errorf("%q: the same for all is %t, in a roster %t", gate, got, SameForAll(e.Group(roster)))
		}
	}
}

func TestMay(t *testing.T) {
	b := newBuilder(t)
	parse := func(text string) estate.SelectorRule {
		x, err := selector.Parse(text, selector.ForPeople)
		if err != nil {
			t.Fatal(err)
		}
		return estate.SelectorRule{Selector: x, Text: text}
	}
	forum := estate.Group{Address: at("forum"), Kind: estate.Forum}
	forum.Access[estate.Find] = parse("anyone")
	forum.Access[estate.Join] = parse("inside and not members")
	f := b.b.AddGroup(forum, nil)
	list := b.group("list", estate.List)
	b.person("ada")
	b.person("bo")
	b.member(f, "ada", estate.Membership{})
	b.member(f, "far@out.example", estate.Membership{})
	b.member(list, "ada", estate.Membership{})
	b.b.AddOwner(f, at("list"), estate.Place{})
	r := b.resolver(1)
	for _, c := range []struct {
		group           estate.ID
		action          estate.Action
		people          []string
		outside, inside bool
	}{
		{f, estate.Find, []string{"ada", "bo", "far"}, true, true},
		{f, estate.Join, []string{"bo"}, false, true},
		{f, estate.Read, []string{"ada", "far"}, false, false},
		{f, estate.Ask, nil, false, false},
		{f, estate.Manage, []string{"ada"}, false, false},
		{list, estate.Read, nil, false, false}, // a list keeps nothing
		{list, estate.SeeMembers, []string{"ada"}, false, false},
	} {
		set, outside, inside := r.Rights(c.group).May(c.action)
		var people []string
		for _, id := range r.e.PeopleByAddress() {
			if set.Contains(uint32(id)) {
				people = append(people, r.e.Address(id).Local())
			}
		}
		if !slices.Equal(people, c.people) || outside != c.outside || inside != c.inside || set.Contains(uint32(f)) {
			t.Errorf("%s %s: %v, outside %t, inside %t", c.action, r.e.Address(c.group), people, outside, inside)
		}
	}
}

func TestRings(t *testing.T) {
	b := newBuilder(t)
	for _, name := range []string{"a", "b", "c", "alone", "self", "above"} {
		b.group(name, estate.List)
	}
	b.person("ada")
	for _, nesting := range [][2]string{{"a", "b"}, {"b", "c"}, {"c", "a"}, {"c", "alone"}, {"self", "self"}, {"above", "a"}, {"alone", "ada"}} {
		id, _ := b.b.Find(at(nesting[0]))
		b.member(id, nesting[1], estate.Membership{})
	}
	r := b.resolver(1)
	for i, want := range []struct {
		ring    int
		members []uint32
	}{
		{3, []uint32{0, 1, 2, 3, 6}}, {3, []uint32{0, 1, 2, 3, 6}}, {3, []uint32{0, 1, 2, 3, 6}},
		{0, []uint32{6}}, {1, []uint32{4}}, {0, []uint32{0, 1, 2, 3, 6}},
	} {
		id := estate.ID(i)
		if got := r.Ring(id); len(got) != want.ring {
			t.Errorf("%s is in the ring %v", r.e.Address(id), got)
		}
		if got := r.Members(id).ToArray(); !slices.Equal(got, want.members) {
			t.Errorf("the members of %s are %v, want %v", r.e.Address(id), got, want.members)
		}
	}
}
