package infer

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// roleChanges make somebody an owner or moderator, or take that from them.
func (x *search) roleChanges(group, person estate.ID) []proposal {
	var list []proposal
	e := x.r.Estate()
	g := e.Group(group)
	for _, role := range []struct {
		setting string
		listed  []estate.Listed
	}{{"moderators", g.Moderators}, {"owners", g.Owners}} {
		who := []string{e.Address(person).String()}
		if slices.ContainsFunc(role.listed, func(l estate.Listed) bool { return l.ID == person }) {
			list = append(list, x.propose(13, change.SetList{Group: group, Setting: role.setting, Drop: who}))
		} else {
			list = append(list, x.propose(15, change.SetList{Group: group, Setting: role.setting, Add: who}))
		}
	}
	return list
}

// membershipChanges change what somebody's membership in a group says, end it, or
// begin one in the group that a message is for.
func (x *search) membershipChanges(group, to, person estate.ID) []proposal {
	e := x.r.Estate()
	entry, rule := x.r.Membership(group, person)
	switch {
	case entry != nil:
		i := slices.IndexFunc(e.Entries(group), func(one estate.Entry) bool { return one.Member == person })
		return x.entryChanges(group, i)
	case rule != nil:
		isRule := func(one estate.MemberRule) bool {
			return one.Place == rule.Place && sameFilter(one.Filter, rule.Filter)
		}
		return x.memberRuleChanges(group, slices.IndexFunc(e.Rules(group), isRule), person)
	}
	var list []proposal
	if group == to {
		usual := x.usualCopy(group, person)
		for copy := estate.CopyUnset; copy <= estate.CopyNone; copy++ {
			if copy == usual {
				continue // as one that says nothing
			}
			m := change.Member{Address: e.Address(person), Membership: estate.Membership{Copy: copy}}
			list = append(list, x.propose(11+min(int(copy), 1), change.AddMember{Group: group, Member: m}))
		}
	}
	return list
}

// usualCopy is what a membership of somebody gets in a group where it says nothing.
func (x *search) usualCopy(group, person estate.ID) estate.Copy {
	g := x.r.Estate().Group(group)
	switch {
	case g.OutsideCopy != estate.CopyUnset && !x.r.Estate().Inside(person):
		return g.OutsideCopy
	case g.Copy != estate.CopyUnset:
		return g.Copy
	}
	return estate.CopyEvery
}

func sameFilter(a, b selector.Filter) bool {
	return a == nil && b == nil || a != nil && b != nil && a.String() == b.String()
}

// entryChanges change what an entry of a group says, or end it.
func (x *search) entryChanges(group estate.ID, i int) []proposal {
	was := x.r.Estate().Entries(group)[i].Membership()
	var list []proposal
	set := func(weight int, alter func(*estate.Membership)) {
		m := was
		alter(&m)
		list = append(list, x.propose(weight, change.SetMember{Group: group, Entry: i, Membership: m}))
	}
	for copy := estate.CopyEvery; copy <= estate.CopyNone; copy++ {
		if copy != was.Copy {
			set(copyWeights[copy], func(m *estate.Membership) { m.Copy = copy })
		}
	}
	set(13, func(m *estate.Membership) { m.Paused = !m.Paused })
	for invitations := estate.InvitationsFollow; invitations <= estate.InvitationsNone; invitations++ {
		if invitations != was.Invitations {
			set(12, func(m *estate.Membership) { m.Invitations = invitations })
		}
	}
	set(14, func(m *estate.Membership) { m.Since = x.r.Today() })
	set(15, func(m *estate.Membership) { m.Since = 0 })
	removal := x.propose(11, change.RemoveMember{Group: group, Entry: i})
	if !x.r.Estate().Inside(x.r.Estate().Entries(group)[i].Member) {
		removal.weight = 9 // anyone who is outside has rarely chosen to be a member without mail
	}
	return append(list, removal)
}

// memberRuleChanges change what a rule among the members of a group says, end it, or
// take somebody out of those that it picks.
func (x *search) memberRuleChanges(group estate.ID, i int, person estate.ID) []proposal {
	e := x.r.Estate()
	rule := e.Rules(group)[i]
	same := change.SetMemberRule{
		Group: group, Rule: i, Filter: rule.Filter, Membership: rule.Membership,
	}
	var list []proposal
	for copy := estate.CopyEvery; copy <= estate.CopyNone; copy++ {
		if copy != rule.Copy {
			c := same
			c.Copy = copy
			list = append(list, x.propose(12, c))
		}
	}
	list = append(list, x.propose(11, change.RemoveMemberRule{Group: group, Rule: i}))
	if filter, err := selector.ParseFilter(without(rule.Filter, e.Address(person).String())); err == nil {
		c := same
		c.Filter = filter
		list = append(list, x.propose(9, c))
	}
	own := change.Member{Address: e.Address(person), Membership: estate.Membership{Copy: estate.CopyNone}}
	return append(list, x.propose(10, change.AddMember{Group: group, Member: own}))
}

// without returns a filter that leaves somebody out.
func without(f selector.Filter, who string) string {
	text := "(!(address=" + strings.NewReplacer("*", `\2a`, "(", `\28`, ")", `\29`, `\`, `\5c`).Replace(who) + "))"
	if f == nil {
		return text
	}
	return "(&" + f.String() + text + ")"
}

// copyWeights are the weights of another copy: replies are rarely meant.
var copyWeights = map[estate.Copy]int{
	estate.CopyEvery:   10,
	estate.CopyDigest:  10,
	estate.CopyNone:    10,
	estate.CopyReplies: 16,
}

// settingChanges change what a group says about copies.
func (x *search) settingChanges(group, person estate.ID) []proposal {
	e := x.r.Estate()
	g := e.Group(group)
	var list []proposal
	add := func(weight int, setting, value string) {
		list = append(list, x.propose(weight, change.SetSetting{Group: group, Setting: setting, Texts: []string{value}}))
	}
	for copy := estate.CopyEvery; copy <= estate.CopyNone; copy++ {
		if copy != g.Copy {
			add(13, "copy", copy.String())
		}
		if copy != g.OutsideCopy && !e.Inside(person) {
			add(copyWeights[copy]-1, "outside-copy", copy.String())
		}
	}
	for invitations := estate.InvitationsFollow; invitations <= estate.InvitationsNone; invitations++ {
		if invitations != g.Invitations {
			add(11, "invitations", invitations.String())
		}
	}
	echo := "false"
	if g.NoEcho {
		echo = "true"
	}
	add(8, "echo", echo)
	for kind := estate.List; kind <= estate.Mailbox; kind++ {
		if kind != g.Kind {
			list = append(list, x.kindChange(group, kind, 14))
		}
	}
	return list
}

func (x *search) kindChange(group estate.ID, kind estate.Kind, weight int) proposal {
	return x.propose(weight, change.SetSetting{Group: group, Setting: "kind", Texts: []string{kind.String()}})
}

// nestingChanges change whether mail passes from a group to one nested in it.
func (x *search) nestingChanges(outer, nested estate.ID) []proposal {
	if outer == estate.None {
		return nil
	}
	entries := x.r.Estate().Entries(outer)
	i := slices.IndexFunc(entries, func(one estate.Entry) bool { return one.Member == nested })
	if i < 0 {
		return nil
	}
	set := change.SetMember{Group: outer, Entry: i, Membership: estate.Membership{Copy: estate.CopyNone}}
	if entries[i].Copy() == estate.CopyNone {
		set.Copy = estate.CopyEvery
		return []proposal{x.propose(8, set)}
	}
	return []proposal{x.propose(8, set), x.propose(9, change.RemoveMember{Group: outer, Entry: i})}
}
