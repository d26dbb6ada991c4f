package change

import "yorvet.example/yorvet/internal/core/estate"

func (c AddMember) apply(w *work) error {
	w.group(c.Group).add(w, c.Member)
	return nil
}

func (g *group) add(w *work, m Member) {
	g.isRelist = true
	turn := len(g.entries) + len(g.rules)
	if m.IsRule() {
		rule := estate.MemberRule{Filter: m.Filter, Membership: m.Membership, Place: g.Place}
		g.rules = append(g.rules, memberRule{MemberRule: rule, turn: turn})
		return
	}
	known := w.refer(m.Address, g.Place)
	g.entries = append(g.entries, entry{listed: known, Membership: m.Membership, justNow: m.JustNow, turn: turn})
}

func (c SetMember) apply(w *work) error {
	g := w.group(c.Group)
	g.isRelist, g.entries[c.Entry].Membership = true, c.Membership
	return nil
}

func (c RemoveMember) apply(w *work) error {
	g := w.group(c.Group)
	g.isRelist, g.entries[c.Entry].gone = true, true
	return nil
}

func (c SetMemberRule) apply(w *work) error {
	g := w.group(c.Group)
	g.isRelist = true
	rule := &g.rules[c.Rule]
	rule.Filter, rule.Membership = c.Filter, c.Membership
	return nil
}

func (c RemoveMemberRule) apply(w *work) error {
	g := w.group(c.Group)
	g.isRelist, g.rules[c.Rule].gone = true, true
	return nil
}
