package directory

import (
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
)

// wanted are the members that a source has and a group is to get, as long as they are
// not found in it.
type wanted struct {
	known   map[estate.ID]estatefile.Member
	unknown map[string]estatefile.Member // by key of the address
	rules   map[string]estatefile.Member // by text
}

// members makes the members of a group those that a source has. What they have
// chosen stays, unless the source says otherwise.
func (u *updater) members(id estate.ID, list []estatefile.Member) {
	left := &wanted{
		known:   map[estate.ID]estatefile.Member{},
		unknown: map[string]estatefile.Member{},
		rules:   map[string]estatefile.Member{},
	}
	for _, m := range list {
		switch found, ok := u.id(m.Address); {
		case m.Address == "" || m.Everyone:
			left.rules[ruleText(m.Where)] = m
		case ok:
			left.known[found] = m
		default:
			left.unknown[key(m.Address)] = m
		}
	}
	u.entries(id, left)
	u.rules(id, left)
	u.newMembers(id, list, left)
}

// entries makes the entries of a group what a source says of those members.
func (u *updater) entries(id estate.ID, left *wanted) {
	for i, entry := range u.e.Entries(id) {
		m, ok := left.known[entry.Member]
		if ok {
			delete(left.known, entry.Member)
		} else if k := u.e.Address(entry.Member).Key(); !u.e.IsGroup(entry.Member) {
			if m, ok = left.unknown[k]; ok {
				delete(left.unknown, k)
			}
		}
		if !ok {
			if !u.Partial {
				u.change(change.RemoveMember{Group: id, Entry: i})
				u.removed++
			}
			continue
		}
		if now := overlay(entry.Membership(), m.Membership); now != entry.Membership() {
			u.change(change.SetMember{Group: id, Entry: i, Membership: now})
		}
	}
}

// rules makes the rules among the members of a group those that a source has.
func (u *updater) rules(id estate.ID, left *wanted) {
	for i, rule := range u.e.Rules(id) {
		text := ruleText("")
		if rule.Filter != nil {
			text = ruleText(rule.Filter.String())
		}
		m, ok := left.rules[text]
		if !ok {
			if !u.Partial {
				u.change(change.RemoveMemberRule{Group: id, Rule: i})
			}
			continue
		}
		delete(left.rules, text)
		if now := overlay(rule.Membership, m.Membership); now != rule.Membership {
			u.change(change.SetMemberRule{Group: id, Rule: i, Filter: rule.Filter, Membership: now})
		}
	}
}

// newMembers adds those members who are left, each once, in the order of the source.
func (u *updater) newMembers(id estate.ID, list []estatefile.Member, left *wanted) {
	joiners := u.e.Group(id).Joiners
	for _, m := range list {
		found, known := u.id(m.Address)
		_, isNew := left.known[found]
		if m.Address == "" {
			_, isNew = left.rules[ruleText(m.Where)]
			delete(left.rules, ruleText(m.Where))
		} else if !known {
			_, isNew = left.unknown[key(m.Address)]
		}
		if !isNew {
			continue
		}
		delete(left.known, found)
		delete(left.unknown, key(m.Address))
		if m.Address != "" && !(known && u.e.IsGroup(found)) && !u.isNewGroup(m.Address) {
			if m.Copy == estate.CopyUnset {
				m.Copy = joiners
			}
			if m.Since == 0 {
				m.Since, m.JustNow = u.options.Today, true
			}
		}
		u.change(change.AddMember{Group: id, Member: member(m)})
	}
}

// member returns a membership of a source as one of a change.
func member(m estatefile.Member) change.Member {
	one := change.Member{Membership: m.Membership, JustNow: m.JustNow}
	switch {
	case m.Address != "" && !m.Everyone:
		one.Address = addresses(m.Address)[0]
	case !m.Everyone:
		one.Filter, _ = selector.ParseFilter(m.Where)
	}
	return one
}

// overlay puts what a source says of a membership over what there is.
func overlay(old, m estate.Membership) estate.Membership {
	for _, s := range estate.MembershipSettings() {
		if text := s.Text(m); text != "" {
			_ = s.Set(&old, text) // what it says can be said
		}
	}
	return old
}

// ruleText is what rules are compared by.
func ruleText(where string) string {
	if f, err := selector.ParseFilter(where); err == nil {
		return f.String()
	}
	return "everyone"
}
