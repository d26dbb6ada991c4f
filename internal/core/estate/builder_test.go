package estate

import (
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

// Whoever calls in another order is told at once.
func TestBuilderOrder(t *testing.T) {
	at := address.MustParse
	for name, late := range map[string]func(*Builder){
		"a group after people": func(b *Builder) { b.AddGroup(Group{Address: at("b@kelp.example")}, nil) },
		"a person after memberships": func(b *Builder) {
			b.AddOwner(0, at("p@kelp.example"), Place{})
			b.AddPerson(Person{Address: at("q@kelp.example")}, nil, nil)
		},
	} {
		b := NewBuilder(Settings{Domains: []Domain{{Name: "kelp.example"}}})
		b.AddGroup(Group{Address: at("a@kelp.example")}, nil)
		b.AddPerson(Person{Address: at("p@kelp.example")}, nil, nil)
		func() {
			defer func() {
				if recover() == nil {
					t.Errorf("%s: it is taken", name)
				}
			}()
			late(b)
		}()
	}
}

// Memberships and rules stand where they were added, however many there are.
func TestBuilderKeepsOrder(t *testing.T) {
	b := NewBuilder(Settings{Domains: []Domain{{Name: "kelp.example"}}})
	const groups, entries = 3, 200
	for _, name := range []string{"a", "b", "c"} {
		b.AddGroup(Group{Address: address.MustParse(name + "@kelp.example")}, nil)
	}
	person := b.AddPerson(Person{Address: address.MustParse("p@kelp.example")}, nil, nil)
	filters := []selector.Filter{nil}
	for _, text := range []string{"(a=1)", "(a=2)"} {
		f, err := selector.ParseFilter(text)
		if err != nil {
			t.Fatal(err)
		}
		filters = append(filters, f)
	}
	for i := range entries {
		for g := range ID(groups) {
			b.AddEntry(g, person, Membership{Since: Day(i + 1)}, Place{Line: uint32(i)})
		}
	}
	for i, f := range filters {
		b.AddRule(1, MemberRule{Filter: f, Membership: Membership{Copy: Copy(i)}})
	}
	e, problems := b.Build()
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	for g := range ID(groups) {
		list := e.Entries(g)
		if len(list) != entries {
			t.Fatalf("group %d has %d entries", g, len(list))
		}
		for i, one := range list {
			if one.Since() != Day(i+1) || one.Place.Line != uint32(i) {
				t.Fatalf("entry %d of group %d is %+v", i, g, one)
			}
		}
	}
	if rules := e.Rules(1); len(rules) != 3 || rules[0].Filter != nil || rules[2].Copy != 2 || len(e.Rules(0))+len(e.Rules(2)) > 0 {
		t.Errorf("rules are %+v", e.Rules(1))
	}
	if got := (Membership{Copy: CopyDigest, Invitations: InvitationsNone, Paused: true, Since: 3}); NewEntry(person, got, Place{}).Membership() != got {
		t.Errorf("a membership is %+v in an entry", NewEntry(person, got, Place{}).Membership())
	}
}
