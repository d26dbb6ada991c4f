package directory_test

import (
	"fmt"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
)

// tell tells what sources come to, in short.
func tell(m *directory.Merged) string {
	var parts []string
	texts := func(fields []estatefile.Field) string {
		var list []string
		for _, f := range fields {
			list = append(list, f.Text+strings.Join(f.List, "+"))
		}
		return strings.Join(list, " ")
	}
	for _, p := range m.People {
		text := texts(p.Fields)
		for _, f := range p.Attributes {
			text += " " + f.Name + "=" + f.Value
		}
		parts = append(parts, text)
	}
	for _, g := range m.Groups {
		text := texts(g.Fields) + ":"
		for _, one := range g.Members {
			text += " " + one.Address + one.Where
		}
		parts = append(parts, text)
	}
	for _, c := range m.Conflicts {
		parts = append(parts, "! "+c.String())
	}
	for _, r := range m.Remarks {
		parts = append(parts, mark(r)+r.String())
	}
	return strings.Join(parts, "\n")
}

func members(list ...string) (out []estatefile.Member) {
	out = []estatefile.Member{}
	for _, text := range list {
		out = append(out, estatefile.Member{Address: text})
	}
	return out
}

// Whatever sources say of the same addresses, everybody has one record, and what
// was not taken is told with both places.
func TestMergeClashes(t *testing.T) {
	person := func(address string, also ...string) directory.Person {
		return directory.Person{Line: 1, Address: address, Also: also}
	}
	hint := func(address string, also ...string) directory.Person {
		return directory.Person{Line: 4, Address: address, Also: also, Hinted: true}
	}
	known := func(text string) bool { return text == "eve@k.example" }
	group := func(address string, list []estatefile.Member, also ...string) directory.Group {
		return directory.Group{Line: 2, Address: address, Also: also, Members: list}
	}
	for _, test := range []struct {
		about string
		a, b  directory.Directory
		want  string
	}{
		{"a main address that is an alias", directory.Directory{People: []directory.Person{person("ann@k.example", "a@k.example")}},
			directory.Directory{People: []directory.Person{person("A@k.example", "oake@k.example")}}, "ann@k.example\nA@k.example oake@k.example\n! A@k.example: this is a main address (b:1), not an alias of ann@k.example (a:1)"},
		{"another main address", directory.Directory{People: []directory.Person{person("ann@k.example")}},
			directory.Directory{People: []directory.Person{person("oake@k.example", "ann@k.example")}}, "ann@k.example\noake@k.example\n! ann@k.example: this is a main address (a:1), not an alias of oake@k.example (b:1)"},
		{"an alias of two others", directory.Directory{People: []directory.Person{person("ann@k.example"), person("bob@k.example")}},
			directory.Directory{People: []directory.Person{person("ann@k.example", "bob@k.example")}},
			"ann@k.example\nbob@k.example\n! bob@k.example: this is a main address (a:1), not an alias of ann@k.example (b:1)"},
		{"a group is no person", directory.Directory{Groups: []directory.Group{group("crew@k.example", members("x@o.example"))}},
			directory.Directory{People: []directory.Person{person("crew@k.example")}}, "crew@k.example a: x@o.example\n! crew@k.example: this is a group (a:2), not a person (b:1)"},
		{"a person has an address of a group", directory.Directory{Groups: []directory.Group{group("crew@k.example", nil)}},
			directory.Directory{People: []directory.Person{person("ann@k.example", "crew@k.example")}},
			"ann@k.example\ncrew@k.example a:\n! crew@k.example: the address crew@k.example is its own (a:2), not ann@k.example's (b:1)"},
		{"the first has the members", directory.Directory{Groups: []directory.Group{group("crew@k.example", members("x@o.example", "y@o.example"))}},
			directory.Directory{Groups: []directory.Group{group("crew@k.example", members("y@o.example", "z@o.example"), "gang@k.example")}},
			"crew@k.example gang@k.example a: x@o.example y@o.example\n! crew@k.example: members is 2, only here: x@o.example (a:2), not 2, only here: z@o.example (b:2)"},
		{"settings by their names", directory.Directory{Groups: []directory.Group{{Line: 2, Address: "crew@k.example", Settings: []estatefile.Field{{Name: "title", Text: "Crew"}, {Name: "copy", Text: "every"}}}}},
			directory.Directory{Groups: []directory.Group{{Line: 2, Address: "crew@k.example", Settings: []estatefile.Field{{Name: "about", Text: "Hands"}, {Name: "copy", Text: "every"}, {Name: "title", Text: "Gang"}, {Name: "gate", List: []string{"admit anyone"}}}}}},
			"crew@k.example Crew every Hands admit anyone a:\n! crew@k.example: title is \"Crew\" (a:2), not \"Gang\" (b:2)"},
		{"owners of either", directory.Directory{Groups: []directory.Group{{Line: 2, Address: "crew@k.example", Owners: []string{"x@o.example"}}}},
			directory.Directory{Groups: []directory.Group{{Line: 2, Address: "crew@k.example", Owners: []string{"x@o.example"}, Mods: []string{"y@o.example"}}}},
			"crew@k.example x@o.example y@o.example a:"},
		{"other owners", directory.Directory{Groups: []directory.Group{{Line: 2, Address: "crew@k.example", Owners: []string{"x@o.example"}, Mods: []string{"y@o.example"}}}},
			directory.Directory{Groups: []directory.Group{{Line: 2, Address: "crew@k.example", Owners: []string{"z@o.example"}}}},
			"crew@k.example x@o.example y@o.example a:\n! crew@k.example: owners is 1, only here: x@o.example (a:2), not 1, only here: z@o.example (b:2)"},
		{"members of which many are one source's", directory.Directory{Groups: []directory.Group{group("crew@k.example", members("a@o.example", "b@o.example", "c@o.example", "d@o.example"))}},
			directory.Directory{Groups: []directory.Group{group("crew@k.example", members("d@o.example", "e@o.example", "f@o.example", "g@o.example", "h@o.example"))}},
			"crew@k.example a: a@o.example b@o.example c@o.example d@o.example\n" +
				"! crew@k.example: members is 4, only here: a@o.example, b@o.example, c@o.example (a:2), not 5, of which 4 only here, such as e@o.example, f@o.example, g@o.example (b:2)"},
		{"members by rules", directory.Directory{Groups: []directory.Group{group("crew@k.example", []estatefile.Member{{Everyone: true}, {Where: "(a=b)"}})}},
			directory.Directory{Groups: []directory.Group{group("crew@k.example", members("x@o.example"))}},
			"crew@k.example a:  (a=b)\n! crew@k.example: members is 2, only here: everyone, where (a=b) (a:2), not 1, only here: x@o.example (b:2)"},
		{"what the sources remark", directory.Directory{Remarks: []directory.Remark{{Source: "a", Line: 3, Text: "odd", Harm: true}}},
			directory.Directory{Remarks: []directory.Remark{{Source: "b", Line: 4, Text: "even"}}}, "?! a:3: odd\n? b:4: even"},
		{"the second fills in", directory.Directory{Groups: []directory.Group{group("crew@k.example", nil)}},
			directory.Directory{Groups: []directory.Group{group("crew@k.example", members("z@o.example"))}}, "crew@k.example a: z@o.example"},
		{"members are who they are", directory.Directory{People: []directory.Person{person("ann@k.example", "a@k.example")}, Groups: []directory.Group{group("crew@k.example", members("a@k.example", "ANN@k.example", "x@o.example", "x@o.example"))}},
			directory.Directory{Groups: []directory.Group{group("crew@k.example", members("ann@k.example", "x@o.example"))}}, "ann@k.example a@k.example\ncrew@k.example a: ann@k.example x@o.example"},
		{"outside groups are left out", directory.Directory{Groups: []directory.Group{group("crew@o.example", nil), group("deck@k.example", nil, "deck@o.example", "top@k.example")}}, directory.Directory{},
			"deck@k.example top@k.example a:\n?! a:2: the group crew@o.example is left out: its address is outside k.example\n" +
				"?! a:2: the alias deck@o.example of deck@k.example is left out: it is outside k.example"},
		{"a rule counts once", directory.Directory{Groups: []directory.Group{group("g@k.example", []estatefile.Member{{Where: "(a=b)"}, {Where: "(A=B)"}, {Everyone: true}, {Everyone: true}})}}, directory.Directory{}, "g@k.example a: (a=b) "},
		{"attributes of both", directory.Directory{People: []directory.Person{{Line: 1, Address: "ann@k.example", Name: "Ann", Attributes: []estate.Attribute{{Name: "base", Value: "x"}}}}},
			directory.Directory{People: []directory.Person{{Line: 3, Address: "ann@k.example", Name: "Anna", Mailbox: "full", Attributes: []estate.Attribute{{Name: "Base", Value: "y"}, {Name: "post", Value: "z"}}}}},
			"ann@k.example Ann full base=x post=z\n! ann@k.example: name is \"Ann\" (a:1), not \"Anna\" (b:3)\n! ann@k.example: the attribute Base is \"x\" (a:1), not \"y\" (b:3)"},
		{"the same of both", directory.Directory{People: []directory.Person{{Line: 1, Address: "ann@k.example", Name: "Ann", Mailbox: "full"}}},
			directory.Directory{People: []directory.Person{{Line: 3, Address: "ann@k.example", Name: "Ann", Mailbox: "full"}}}, "ann@k.example Ann full"},
		{"a nested group takes every or none", directory.Directory{Groups: []directory.Group{group("g@k.example", []estatefile.Member{{Address: "h@k.example", Membership: estate.Membership{Copy: estate.CopyDigest, Paused: true}}}), group("h@k.example", nil)}}, directory.Directory{},
			"g@k.example a: h@k.example\nh@k.example a:"},
		{"an alias of somebody", directory.Directory{People: []directory.Person{person("ann@k.example")}},
			directory.Directory{People: []directory.Person{hint("ann@k.example", "post@k.example")}},
			"ann@k.example post@k.example"},
		{"an alias of somebody with a tag", directory.Directory{People: []directory.Person{person("ann@k.example")}},
			directory.Directory{People: []directory.Person{hint("ann+x@k.example", "post@k.example")}},
			"ann@k.example post@k.example"},
		{"an alias of somebody whose tag is theirs",
			directory.Directory{People: []directory.Person{person("ann+x@k.example"), person("ann@k.example")}},
			directory.Directory{People: []directory.Person{hint("ann+x@k.example", "post@k.example")}},
			"ann+x@k.example post@k.example\nann@k.example"},
		{"an alias of nobody", directory.Directory{People: []directory.Person{person("ann@k.example")}},
			directory.Directory{People: []directory.Person{hint("bob+x@k.example", "post@k.example", "off@k.example")}},
			"ann@k.example\n?! b:4: the alias post@k.example leads to nobody: bob+x@k.example is in no other source\n" +
				"?! b:4: the alias off@k.example leads to nobody: bob+x@k.example is in no other source"},
		{"an alias of somebody whom the estate knows", directory.Directory{},
			directory.Directory{People: []directory.Person{hint("eve@k.example", "post@k.example")}},
			"eve@k.example post@k.example"},
		{"a second entry of one address", directory.Directory{People: []directory.Person{
			{Line: 1, Address: "ann@k.example", Name: "Ann"}, {Line: 5, Address: "ANN@k.example", Name: "Anna"}}},
			directory.Directory{}, "ann@k.example Ann\n! ann@k.example: name is \"Ann\" (a:1), not \"Anna\" (a:5)\n" +
				"?! a:5: a second entry has the address of ann@k.example (a:1); where they differ, the first counts"},
		{"a field keeps the place where it was said first", directory.Directory{People: []directory.Person{person("ann@k.example"),
			{Line: 7, Address: "ann@k.example", Mailbox: "full"}}},
			directory.Directory{People: []directory.Person{{Line: 9, Address: "ann@k.example", Mailbox: "closed"}}},
			"ann@k.example full\n! ann@k.example: mailbox is \"full\" (a:7), not \"closed\" (b:9)\n" +
				"?! a:7: a second entry has the address of ann@k.example (a:1); where they differ, the first counts"},
	} {
		test.a.Name, test.a.File, test.b.Name, test.b.File = "a", "a", "b", "b"
		m := directory.Merge([]*directory.Directory{&test.a, &test.b}, directory.MergeOptions{Domains: []string{"k.example"}, Known: known})
		if got := tell(m); got != test.want {
			t.Errorf("%s:\n got %s\nwant %s", test.about, got, test.want)
		}
		if _, err := m.Build(); err != nil {
			t.Errorf("%s: %v", test.about, err)
		}
	}
}

// Which domains are the estate's own is worked out where nobody says.
func TestMergeDomains(t *testing.T) {
	people := func(addresses ...string) (list []directory.Person) {
		for _, a := range addresses {
			list = append(list, directory.Person{Address: a})
		}
		return list
	}
	for want, d := range map[string]directory.Directory{
		"k.example":           {People: people("a@k.example", "b@k.example", "c@o.example")},
		"o.example":           {People: people("a@k.example", "b@k.example"), Groups: []directory.Group{{Address: "g@o.example"}}},
		"s.example o.example": {Domains: []string{"s.example"}, Groups: []directory.Group{{Address: "g@o.example"}}},
		"":                    {},
	} {
		m := directory.Merge([]*directory.Directory{&d}, directory.MergeOptions{})
		if got := strings.Join(m.Domains, " "); got != want {
			t.Errorf("%+v: %s, want %s", d, got, want)
		}
		if told := strings.Contains(fmt.Sprint(m.Remarks), "2 people are taken to be outside"); told != (want == "o.example") {
			t.Errorf("%s: %v", want, m.Remarks)
		}
	}
}

// A map's references go by identifier, key or address, from either side.
func TestReferences(t *testing.T) {
	m, err := directory.ParseMap("m", []byte(`yorvet-map: 1
people:
  - match: (class=person)
    address: mail
    key: [login]
    mailbox: {from: state, open: [ok], full: [big], closed: [off], none: [gone]}
    member-of: [{from: in, copy: digest}]
groups:
  - match: (class=team)
    address: "{name}@{domain}"
    title: name
    owners: [{from: boss, by: key}]
    moderators: [{from: keeper}]
    members: [{from: member}, {from: logins, by: key}, {from: mails, by: address, copy: none}]
`))
	if err != nil {
		t.Fatal(err)
	}
	c := directory.NewCollector("s", "s", m, "k.example", strings.ToLower)
	add := func(id string, pairs ...string) {
		e := &directory.Entry{ID: id, Line: 1}
		for i := 0; i < len(pairs); i += 2 {
			e.Add(pairs[i], pairs[i+1])
		}
		c.Add(e)
	}
	add("T1", "class", "team", "name", "Deck Crew", "boss", "BOB", "keeper", "p1", "member", "P1", "member", "t2", "member", "mailto:x@o.example", "logins", "bob", "logins", "nobody", "mails", "y@o.example")
	add("T2", "class", "team", "name", "Engine/Crew!")
	add("P1", "class", "person", "mail", "smtp:ann@k.example", "state", "OFF", "in", "t2", "in", "T9")
	add("P2", "class", "person", "mail", "bob@k.example", "login", "Bob", "state", "strange")
	add("X", "class", "robot", "mail", "r@k.example")
	d := c.Finish()
	var got []string
	for _, g := range d.Groups {
		text := fmt.Sprint(g.Address, g.Owners, g.Mods)
		for _, one := range g.Members {
			text += " " + one.Address + one.Copy.String()
		}
		got = append(got, text)
	}
	for _, p := range d.People {
		got = append(got, p.Address+" "+p.Mailbox)
	}
	for _, r := range d.Remarks {
		got = append(got, r.Text)
	}
	want := `deck-crew@k.example[bob@k.example] [ann@k.example] ann@k.example engine-crew@k.example x@o.example bob@k.example y@o.examplenone
engine-crew@k.example[] [] ann@k.exampledigest
ann@k.example closed
bob@k.example 
state of bob@k.example is "strange", which the map does not know
the member nobody of deck-crew@k.example is not in this source
the group T9, of which ann@k.example is a member, is not in this source`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("got\n%s\nwant\n%s", text, want)
	}
}

// Two sources that say who may do something differently are a conflict; the first
// counts.
func TestMergeAccess(t *testing.T) {
	source := func(name, find string) *directory.Directory {
		return &directory.Directory{Name: name, File: name, Groups: []directory.Group{{Line: 2, Address: "crew@kelp.example", Members: members("ann@kelp.example"),
			Access: []estatefile.Field{{Name: "find", Text: find}}}}}
	}
	m := directory.Merge([]*directory.Directory{source("a", "inside"), source("b", "anyone"), source("c", "inside")}, directory.MergeOptions{Domains: []string{"kelp.example"}})
	if len(m.Conflicts) != 1 || m.Conflicts[0].What != "access.find" || m.Conflicts[0].Taken.Value != `"inside"` || m.Conflicts[0].Left.Value != `"anyone"` {
		t.Errorf("conflicts: %v", m.Conflicts)
	}
	if got := m.Groups[0].Access; len(got) != 1 || got[0].Text != "inside" {
		t.Errorf("access: %v", got)
	}
}
