package present

import (
	"fmt"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/change/changetest"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/sample"
)

// What would explain something is told in words and as it would stand in the estate.
func TestAsIf(t *testing.T) {
	n := newNamer(sample.Load(t, changetest.Quay))
	find := func(text string) estate.ID {
		id, _ := n.e.Find(address.MustParse(text))
		return id
	}
	desk, crew, ann := find("desk@kelp.example"), find("crew@kelp.example"), find("ann@kelp.example")
	filter := func(text string) selector.Filter {
		f, err := selector.ParseFilter(text)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	member := func(copy estate.Copy) estate.Membership { return estate.Membership{Copy: copy} }
	say := func(setting string, texts ...string) change.Change {
		return change.SetSetting{Group: desk, Setting: setting, Texts: texts}
	}
	today, _ := estate.ParseDay("2026-11-23")
	const head = "groups:\n  - address: desk@kelp.example\n    "
	for _, c := range []struct {
		change     change.Change
		says, yaml string
	}{
		{say("copy", "none"), "copy of desk@kelp.example is none", head + "copy: none\n"},
		{say("kind", "forum"), "desk@kelp.example is a forum", head + "kind: forum\n"},
		{say("gate", "admit inside"), `the gate of desk@kelp.example is just "admit inside"`, head + "gate:\n      - admit inside\n"},
		{change.SetSetting{Group: desk, Setting: "send-as", Texts: []string{}}, "nobody may send as desk@kelp.example", head + "send-as: []\n"},
		{change.RemoveRule{Group: desk, Setting: "gate", At: 1}, `rule 2 of the gate of desk@kelp.example ("admit anyone") does not exist`, head + "gate:\n      - refuse unproven\n"},
		{change.SetRule{Group: desk, Setting: "gate", At: 1, Text: "hold anyone"}, `rule 2 of the gate of desk@kelp.example says "hold anyone"`, head + "gate:\n      - refuse unproven\n      - hold anyone\n"},
		{change.InsertRule{Group: desk, Setting: "gate", At: 0, Text: "hold suspect"}, `the gate of desk@kelp.example begins with "hold suspect"`, ""},
		{change.InsertRule{Group: desk, Setting: "gate", At: 1, Text: "hold suspect"}, `the gate of desk@kelp.example has "hold suspect" before rule 2`, head + "gate:\n      - refuse unproven\n      - hold suspect\n      - admit anyone\n"},
		{change.InsertRule{Group: desk, Setting: "gate", At: 2, Text: "hold suspect"}, `the gate of desk@kelp.example ends with "hold suspect"`, ""},
		{change.InsertRule{Group: desk, Setting: "send-as", At: 0, Text: "as owners"}, `send-as of desk@kelp.example has "as owners"`, head + "send-as:\n      - as owners\n"},
		{change.SetMember{Group: desk, Entry: 1, Membership: member(estate.CopyNone)}, "the copy of bob@kelp.example in desk@kelp.example is none", head + "members:\n      - {address: bob@kelp.example, copy: none}\n"},
		{change.SetMember{Group: desk, Membership: estate.Membership{Paused: true}}, "the membership of ann@kelp.example in desk@kelp.example is paused", head + "members:\n      - {address: ann@kelp.example, paused: true}\n"},
		{change.SetMember{Group: desk, Membership: estate.Membership{Invitations: estate.InvitationsNone}}, "invitations of ann@kelp.example in desk@kelp.example is none", ""},
		{change.SetMember{Group: desk, Membership: estate.Membership{Since: today}}, "ann@kelp.example is new in desk@kelp.example", head + "members:\n      - {address: ann@kelp.example, since: 2026-11-23}\n"},
		{change.SetMember{Group: desk}, "ann@kelp.example is not a newcomer in desk@kelp.example", head + "members:\n      - {address: ann@kelp.example, since}\n"},
		{change.RemoveMember{Group: desk}, "ann@kelp.example is not a member of desk@kelp.example", head + "members: # without ann@kelp.example\n"},
		{change.AddMember{Group: crew, Member: change.Member{Address: address.MustParse("ann@kelp.example"), Membership: member(estate.CopyEvery)}},
			"ann@kelp.example is a member of crew@kelp.example with copy every", "groups:\n  - address: crew@kelp.example\n    members:\n      - {address: ann@kelp.example, copy: every}\n"},
		{change.AddMember{Group: desk, Member: change.Member{Address: address.MustParse("bob@kelp.example"), Membership: member(estate.CopyNone)}},
			"bob@kelp.example has copy none of their own in desk@kelp.example", head + "members:\n      - {address: bob@kelp.example, copy: none}\n"},
		{change.SetMember{Group: crew, Membership: member(estate.CopyNone)}, "the copy of desk@kelp.example in crew@kelp.example is none", "groups:\n  - address: crew@kelp.example\n    members:\n      - {address: desk@kelp.example, copy: none}\n"},
		{change.RemoveMember{Group: crew}, "desk@kelp.example is not nested in crew@kelp.example", "groups:\n  - address: crew@kelp.example\n    members: # without it\n"},
		{change.RemoveMemberRule{Group: desk}, `"where: (base=quay)" is not among the members of desk@kelp.example`, head + "members: # without where: (base=quay)\n"},
		{change.SetMemberRule{Group: desk, Filter: filter("(base=quay)"), Membership: estate.Membership{Copy: estate.CopyDigest}},
			`the members of desk@kelp.example by "where: (base=quay)" have copy digest`, head + "members:\n      - where: (base=quay)\n        copy: digest\n"},
		{change.SetMemberRule{Group: desk, Filter: filter("(&(base=quay)(!(address=bob@kelp.example)))")},
			`bob@kelp.example is not among those in desk@kelp.example by "where: (base=quay)"`, head + "members: # without bob@kelp.example\n"},
		{change.SetList{Group: desk, Setting: "owners", Drop: []string{"ann@kelp.example"}}, "ann@kelp.example is not an owner of desk@kelp.example", head + "owners: []\n"},
		{change.SetList{Group: crew, Setting: "moderators", Add: []string{"ann@kelp.example"}}, "ann@kelp.example is a moderator of crew@kelp.example", ""},
		{change.SetList{Group: desk, Setting: "also", Drop: []string{"found@kelp.example"}}, "the address found@kelp.example is not an alias of desk@kelp.example", "# without the address found@kelp.example\n"},
		{change.RemoveGroup{Group: desk}, "desk@kelp.example does not exist", "# without the address desk@kelp.example\n"},
		{change.RemoveDomain{Name: "spare.example"}, "the domain spare.example is not one of the estate", "# domains: without spare.example\n"},
		{change.SetPerson{Person: ann, Field: "mailbox", Text: "full"}, "the mailbox of ann@kelp.example is full", "people:\n  - {address: ann@kelp.example, mailbox: full}\n"},
		{change.SetNestedGates{Open: true}, "nested-gates is open", "nested-gates: open\n"},
	} {
		got := n.asIf(c.change)
		if got.Says != c.says || c.yaml != "" && got.YAML != c.yaml {
			t.Errorf("%T: %q, %q; want %q, %q", c.change, got.Says, got.YAML, c.says, c.yaml)
		}
	}
	if Says(n.e, change.RemoveGroup{Group: crew}) != "crew@kelp.example does not exist" {
		t.Error("Says tells something else")
	}
}

// A change of any type is told somehow.
func TestEachChangeIsTold(t *testing.T) {
	n := newNamer(sample.Load(t, changetest.Quay))
	for _, a := range changetest.Alterations(n.e) {
		if strings.TrimSpace(Says(n.e, a.Change)) == "" {
			t.Errorf("%s is not told", fmt.Sprintf("%T", a.Change))
		}
	}
}
