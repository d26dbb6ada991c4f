package estate

import (
	"reflect"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

// chain is an estate of three groups: a has b and two people, b has c.
func chain(t *testing.T) *Estate {
	t.Helper()
	b := NewBuilder(Settings{Domains: []Domain{{Name: "kelp.example"}}})
	for _, name := range []string{"a", "b", "c"} {
		b.AddGroup(Group{Address: address.MustParse(name + "@kelp.example")}, nil)
	}
	p := b.AddPerson(Person{Address: address.MustParse("p@kelp.example")}, nil, nil)
	q := b.AddPerson(Person{Address: address.MustParse("q@kelp.example")}, nil, nil)
	b.AddEntry(0, 1, Membership{}, Place{})
	b.AddEntry(0, p, Membership{}, Place{})
	b.AddEntry(0, q, Membership{Copy: CopyNone}, Place{})
	b.AddEntry(1, 2, Membership{}, Place{})
	e, problems := b.Build()
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	return e
}

func entriesOf(e *Estate) (all [][]ID) {
	for g := range ID(e.Groups()) {
		var list []ID
		for _, one := range e.Entries(g) {
			list = append(list, one.Member)
		}
		all = append(all, list)
	}
	return all
}

// What is exchanged is otherwise, all else as it was, and the estate before is not
// touched.
func TestWith(t *testing.T) {
	e := chain(t)
	p, q := e.PersonID(0), e.PersonID(1)
	before := entriesOf(e)
	later := e.With(Parts{Entries: map[ID][]Entry{
		0: {NewEntry(q, Membership{}, Place{}), NewEntry(2, Membership{Copy: CopyNone}, Place{})},
		2: {NewEntry(p, Membership{}, Place{})},
	}})
	if got, want := entriesOf(later), [][]ID{{q, 2}, {2}, {p}}; !reflect.DeepEqual(got, want) {
		t.Errorf("entries are %v, want %v", got, want)
	}
	if !reflect.DeepEqual(entriesOf(e), before) || e.Memberships() != 4 || later.Memberships() != 4 {
		t.Errorf("before %v, %d and %d memberships", entriesOf(e), e.Memberships(), later.Memberships())
	}
	if c := later.Children(0); len(c) != 1 || c[0].Group != 2 || c[0].Passes || len(later.Parents(1)) != 0 || len(later.Parents(2)) != 2 {
		t.Errorf("children %+v, parents %+v", c, later.Parents(2))
	}
	if c := e.Children(0); len(c) != 1 || c[0].Group != 1 || len(e.Parents(1)) != 1 {
		t.Errorf("before: children %+v", c)
	}
	rule := MemberRule{Filter: selector.FilterAnd{}, Membership: Membership{Copy: CopyDigest}}
	group, person := *e.Group(1), *e.Person(q)
	group.Title, person.Mailbox = "B", MailboxFull
	settings := *e.Settings()
	settings.OpenNestedGates = true
	later = e.With(Parts{Settings: &settings, Groups: map[ID]Group{1: group}, People: map[ID]Person{q: person}, Rules: map[ID][]MemberRule{2: {rule}}})
	if later.Group(1).Title != "B" || later.Person(q).Mailbox != MailboxFull || len(later.Rules(2)) != 1 || !later.Settings().OpenNestedGates {
		t.Errorf("%+v, %+v, %+v", later.Group(1), later.Person(q), later.Rules(2))
	}
	if e.Group(1).Title != "" || e.Person(q).Mailbox != MailboxOpen || len(e.Rules(2)) != 0 || e.Settings().OpenNestedGates {
		t.Error("the estate before has changed")
	}
	if !reflect.DeepEqual(entriesOf(later), before) {
		t.Errorf("entries are %v", entriesOf(later))
	}
}

// Of many mistakes only so many are looked at for what was meant.
func TestGuesses(t *testing.T) {
	b := NewBuilder(Settings{Domains: []Domain{{Name: "kelp.example"}}})
	b.AddGroup(Group{Address: address.MustParse("desk@kelp.example")}, nil)
	for i := range mostGuesses {
		if got := b.NearestGroup("dsk@kelp.example"); got != "desk@kelp.example" {
			t.Fatalf("guess %d is %q", i+1, got)
		}
	}
	if got := b.NearestGroup("dsk@kelp.example"); got != "" {
		t.Errorf("one more guess is %q", got)
	}
}
