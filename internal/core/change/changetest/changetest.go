// Package changetest has a change of each type for tests, with what it is to come to, and
// tells whether two estates hold the same.
package changetest

import (
	"fmt"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Quay is the estate that Changes are about.
const Quay = `yorvet: 1
domains: [kelp.example, spare.example]
people:
  - {address: ann@kelp.example, name: Ann, attributes: {base: pier, post: deck}}
  - {address: bob@kelp.example, also: [rob@kelp.example], attributes: {base: quay}}
  - {address: cat@kelp.example}
groups:
  - address: desk@kelp.example
    also: [found@kelp.example]
    owners: [ann@kelp.example]
    members: [ann@kelp.example, {address: bob@kelp.example, copy: digest}, {where: (base=quay)}]
    gate: [refuse unproven, admit anyone]
    access: {find: anyone}
  - address: crew@kelp.example
    owners: [bob@kelp.example, desk@kelp.example]
    members: [desk@kelp.example, cat@kelp.example]
`

// An Alteration is a change of Quay, and what of its text has to be written otherwise,
// in pairs of what stands there and what is to stand there, to come to the same.
type Alteration struct {
	Change  change.Change
	Rewrite []string
}

// Alterations returns changes of Quay, at least one of each type.
func Alterations(e *estate.Estate) []Alteration {
	at := address.MustParse
	id := func(text string) estate.ID {
		found, _ := e.Find(at(text))
		return found
	}
	desk, crew, ann, bob := id("desk@kelp.example"), id("crew@kelp.example"), id("ann@kelp.example"),
		id("bob@kelp.example")
	pier, _ := selector.ParseFilter("(base=pier)")
	quay, _ := selector.ParseFilter("(base=quay)")
	last := "members: [desk@kelp.example, cat@kelp.example]\n"
	return []Alteration{
		{change.SetSetting{Group: desk, Setting: "kind", Texts: []string{"forum"}}, []string{"    gate: [ref",
			"    kind: forum\n    gate: [ref"}},
		{change.SetSetting{Group: desk, Setting: "gate"}, []string{"    gate: [refuse unproven, admit anyone]\n", ""}},
		{change.SetSetting{Group: desk, Setting: "gate", Texts: []string{}}, []string{"[refuse unproven, admit anyone]",
			"[]"}},
		{change.SetSetting{Group: desk, Setting: "access.find"}, []string{"    access: {find: anyone}\n", ""}},
		{change.SetSetting{Group: desk, Setting: "access.join", Texts: []string{"inside"}}, []string{"find: anyone",
			"find: anyone, join: inside"}},
		{change.SetSetting{Group: crew, Setting: "echo", Texts: []string{"false"}}, []string{last, last +
			"    echo: false\n"}},
		{change.SetSetting{Group: crew, Setting: "pause-after", Texts: []string{"4"}}, []string{last, last +
			"    pause-after: 4\n"}},
		{change.SetSetting{Group: crew, Setting: "owners"}, []string{"    owners: [bob@kelp.example, desk@kelp.example]\n",
			""}},
		{change.SetList{Group: desk, Setting: "also", Drop: []string{"found@kelp.example"},
			Add: []string{"lost@kelp.example"}},
			[]string{"also: [found@", "also: [lost@"}},
		{change.SetList{Group: crew, Setting: "owners", Drop: []string{"rob@kelp.example"},
			Add: []string{"cat@kelp.example"}},
			[]string{"[bob@kelp.example, desk@kelp.example]", "[desk@kelp.example, cat@kelp.example]"}},
		{change.SetList{Group: desk, Setting: "owners", Drop: []string{"ann@kelp.example"}},
			[]string{"    owners: [ann@kelp.example]\n", ""}},
		{change.SetList{Group: desk, Setting: "gate", Drop: []string{"admit anyone"}, Add: []string{"hold anyone"}},
			[]string{"admit anyone", "hold anyone"}},
		{change.SetList{Group: crew, Setting: "moderators", Add: []string{"eve@far.example"}}, []string{last, last +
			"    moderators: [eve@far.example]\n"}},
		{change.InsertRule{Group: desk, Setting: "gate", At: 1, Text: "hold suspect"}, []string{"admit anyone",
			"hold suspect, admit anyone"}},
		{change.InsertRule{Group: crew, Setting: "gate", At: 1, Text: "hold anyone"}, []string{last, last +
			"    gate: [admit inside, hold anyone]\n"}},
		{change.InsertRule{Group: crew, Setting: "send-as", Text: "as members"}, []string{last, last +
			"    send-as: [as members]\n"}},
		{change.SetRule{Group: desk, Setting: "gate", At: 0, Text: "drop unproven"}, []string{"refuse unproven",
			"drop unproven"}},
		{change.RemoveRule{Group: desk, Setting: "gate", At: 0}, []string{"refuse unproven, ", ""}},
		{change.AddMember{Group: crew, Member: change.Member{Address: at("bob@kelp.example"),
			Membership: estate.Membership{Copy: estate.CopyNone}}},
			[]string{", cat@kelp.example]", ", cat@kelp.example, {address: bob@kelp.example, copy: none}]"}},
		{change.AddMember{Group: crew, Member: change.Member{Address: at("eve@far.example"), JustNow: true}},
			[]string{", cat@kelp.example]", ", cat@kelp.example, eve@far.example]"}},
		{change.AddMember{Group: crew, Member: change.Member{Filter: pier}}, []string{", cat@kelp.example]",
			", cat@kelp.example, {where: (base=pier)}]"}},
		{change.AddMember{Group: crew, Member: change.Member{}}, []string{", cat@kelp.example]",
			", cat@kelp.example, {everyone: true}]"}},
		{change.SetMember{Group: desk, Entry: 1, Membership: estate.Membership{Copy: estate.CopyEvery, Paused: true}},
			[]string{"bob@kelp.example, copy: digest", "bob@kelp.example, copy: every, paused: true"}},
		{change.RemoveMember{Group: desk, Entry: 0}, []string{"members: [ann@kelp.example, {", "members: [{"}},
		{change.SetMemberRule{Group: desk, Filter: quay, Membership: estate.Membership{Copy: estate.CopyNone}}, []string{"{where: (base=quay)}",
			"{where: (base=quay), copy: none}"}},
		{change.SetMemberRule{Group: desk, Filter: pier}, []string{"{where: (base=quay)}", "{where: (base=pier)}"}},
		{change.RemoveMemberRule{Group: desk}, []string{", {where: (base=quay)}", ""}},
		{change.AddGroup{Address: at("new@kelp.example"), Settings: []change.Said{{Setting: "title", Texts: []string{"New"}},
			{Setting: "owners", Texts: []string{"cat@kelp.example"}}},
			Members: []change.Member{{Address: at("ann@kelp.example")}, {Filter: pier}}},
			[]string{last, last + "  - {address: new@kelp.example, title: New, owners: [cat@kelp.example], members: " +
				"[ann@kelp.example, {where: (base=pier)}]}\n"}},
		{change.RenameGroup{Group: desk, To: at("help@kelp.example")}, []string{"desk@", "help@", "[found@kelp",
			"[found@kelp.example, desk@kelp"}},
		{change.RenameGroup{Group: desk, To: at("found@kelp.example"), Forget: true}, []string{"desk@", "found@",
			"    also: [found@kelp.example]\n", ""}},
		{change.RemoveGroup{Group: crew}, []string{"  - address: crew@kelp.example\n    owners: [bob@kelp.example, " +
			"desk@kelp.example]\n    " + last, ""}},
		{change.AddPerson{Person: estate.Person{Address: at("dan@kelp.example"),
			Also: []address.Address{at("don@kelp.example")}, Name: "Dan", Mailbox: estate.MailboxFull},
			Attributes: []estate.Attribute{{Name: "base", Value: "pier"}}},
			[]string{"groups:", "  - {address: dan@kelp.example, also: [don@kelp.example], name: Dan, mailbox: full, " +
				"attributes: " +
				"{base: pier}}\ngroups:"}},
		{change.SetPerson{Person: ann, Field: "name", Text: "Anna"}, []string{"name: Ann", "name: Anna"}},
		{change.SetPerson{Person: ann, Field: "mailbox", Text: "closed"}, []string{"name: Ann",
			"name: Ann, mailbox: closed"}},
		{change.SetAttribute{Person: ann, Attribute: "Base", Values: []string{"quay", "pier"}}, []string{"base: pier",
			"base: [quay, pier]"}},
		{change.SetAttribute{Person: bob, Attribute: "base"}, []string{", attributes: {base: quay}", ""}},
		{change.SetPersonAlso{Person: ann, Also: []address.Address{at("ana@kelp.example")}}, []string{"name: Ann",
			"name: Ann, also: [ana@kelp.example]"}},
		{change.RenamePerson{Person: ann, To: at("anna@kelp.example")}, []string{"ann@", "anna@"}},
		{change.RemovePerson{Person: bob}, []string{"  - {address: bob@kelp.example, also: [rob@kelp.example], attributes: " +
			"{base: quay}}\n", "",
			"bob@kelp.example, desk", "desk", ", {address: bob@kelp.example, copy: digest}", ""}},
		{change.AddDomain{Name: "more.example"}, []string{"spare.example]", "spare.example, more.example]"}},
		{change.RemoveDomain{Name: "spare.example"}, []string{", spare.example]", "]"}},
		{change.Accept{Acceptance: estate.Acceptance{Hazard: "no-owner", Groups: []string{"d*"}, Because: "Known."}},
			[]string{"people:", "accept:\n  - {hazard: no-owner, groups: [\"d*\"], because: Known.}\npeople:"}},
		{change.SetNestedGates{Open: true}, []string{"people:", "nested-gates: open\npeople:"}},
	}
}

// With returns the change of an alteration, and what goes with it.
func (a Alteration) With(e *estate.Estate) []change.Change {
	all := []change.Change{a.Change}
	switch c := a.Change.(type) {
	case change.RemovePerson:
		all = append(all, change.Cascade(e, []estate.ID{c.Person}, nil)...)
	case change.RemoveGroup:
		all = append(all, change.Cascade(e, []estate.ID{c.Group}, nil)...)
	}
	return all
}

// Tell reports a change for a test: what it is, which group, which person, then all
// that it says.
func Tell(e *estate.Estate, c change.Change) string {
	about := c.About(e)
	name := func(id estate.ID) string {
		if id == estate.None {
			return "-"
		}
		return e.Address(id).String()
	}
	return strings.TrimPrefix(fmt.Sprintf("%T %s %s %+v", c, name(about.Group), name(about.Person), c), "change.")
}
