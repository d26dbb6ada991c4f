package change

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Renamed returns what has to change in the rules of gates, send-as and access that name a
// person by an address: they name another one then.
func Renamed(e *estate.Estate, person estate.ID, to address.Address) []Change {
	return named(e, person, func(text string, x selector.Expr, atoms []*selector.Atom) (string, bool) {
		for _, atom := range slices.Backward(atoms) {
			text = text[:atom.Offset] + to.String() + text[atom.Offset+len(atom.Text):]
		}
		return text, true
	})
}

// Unnamed returns what has to change in the rules of gates, send-as and access that name a
// person, as nobody writes from their addresses any more: they are left out, and rules about
// them alone go.
func Unnamed(e *estate.Estate, person estate.ID) []Change {
	return named(e, person, func(text string, x selector.Expr, atoms []*selector.Atom) (string, bool) {
		kept := selector.Without(x, func(a *selector.Atom) bool { return slices.Contains(atoms, a) })
		if kept == nil {
			return "", false
		}
		first, last := span(x)
		now := kept.String()
		if head, _, _ := strings.Cut(strings.TrimSpace(text[:first]), " "); isWord(head) {
			now = head + " " + now
		}
		if at := strings.Index(text[last:], "because"); at >= 0 {
			now += " " + text[last+at:]
		}
		return now, true
	})
}

// isWord reports whether a text in front of a selector is the head of a rule, and neither a
// bracket nor what negates.
func isWord(text string) bool {
	return text != "" && text != "not" && !strings.HasPrefix(text, "(")
}

// span returns where the atoms of an expression begin and end.
func span(x selector.Expr) (first, last int) {
	first = -1
	selector.Atoms(x, func(a *selector.Atom) {
		if first < 0 || a.Offset < first {
			first = a.Offset
		}
		last = max(last, a.Offset+len(a.Text))
	})
	return first, last
}

// named returns changes of all rules with an atom about a person. rewrite returns what a rule
// says then, or false where it goes.
func named(
	e *estate.Estate, person estate.ID, rewrite func(string, selector.Expr, []*selector.Atom) (string, bool),
) (list []Change) {
	about := func(x selector.Expr) (atoms []*selector.Atom) {
		selector.Atoms(x, func(a *selector.Atom) {
			if a.Kind != selector.Is {
				return
			}
			if id, ok := e.Find(a.Address); ok && id == person {
				atoms = append(atoms, a)
			}
		})
		return atoms
	}
	rules := func(g estate.ID, setting string, texts []string, selectors []selector.Expr) {
		now, differs := []string{}, false
		for i, text := range texts {
			if atoms := about(selectors[i]); len(atoms) > 0 {
				differs = true
				again, ok := rewrite(text, selectors[i], atoms)
				if !ok {
					continue
				}
				text = again
			}
			now = append(now, text)
		}
		if differs {
			list = append(list, SetSetting{g, setting, now})
		}
	}
	for id := range estate.ID(e.Groups()) {
		g := e.Group(id)
		var gate, sendAs []string
		var gates, senders []selector.Expr
		for _, r := range g.Gate {
			gate, gates = append(gate, r.Text), append(gates, r.Selector)
		}
		for _, r := range g.SendAs {
			sendAs, senders = append(sendAs, r.Text), append(senders, r.Selector)
		}
		rules(id, "gate", gate, gates)
		rules(id, "send-as", sendAs, senders)
		for setting, r := range g.Selectors {
			atoms := about(r.Selector)
			if len(atoms) == 0 {
				continue
			}
			now, ok := rewrite(r.Text, r.Selector, atoms)
			if !ok {
				now = "nobody"
			}
			list = append(list, SetSetting{id, setting, []string{now}})
		}
	}
	return list
}

// HandOver returns what has to change where a person is a member, owner or moderator of
// groups, or is named in rules: another one is that instead. today is since when.
func HandOver(e *estate.Estate, person, heir estate.ID, today estate.Day) []Change {
	to := e.Address(heir)
	list := Cascade(e, []estate.ID{person}, nil)
	for i, one := range list {
		set, ok := one.(SetList)
		if !ok {
			continue
		}
		g := e.Group(set.Group)
		there := g.Owners
		if set.Setting == "moderators" {
			there = g.Moderators
		}
		if !slices.ContainsFunc(there, func(l estate.Listed) bool { return l.ID == heir }) {
			set.Add = []string{to.String()}
			list[i] = set
		}
	}
	var joins []Change
	for _, one := range list {
		gone, ok := one.(RemoveMember)
		if !ok {
			continue
		}
		added := slices.ContainsFunc(joins, func(c Change) bool { return c.(AddMember).Group == gone.Group })
		if added || slices.ContainsFunc(e.Entries(gone.Group),
			func(entry estate.Entry) bool { return entry.Member == heir }) {
			continue
		}
		was := e.Entries(gone.Group)[gone.Entry].Membership()
		m := Member{Address: to, JustNow: true, Membership: estate.Membership{Copy: was.Copy, Invitations: was.Invitations,
			Since: today}}
		joins = append(joins, AddMember{gone.Group, m})
	}
	return slices.Concat(list, joins, Renamed(e, person, to))
}
