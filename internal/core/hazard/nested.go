package hazard

import "yorvet.example/yorvet/internal/core/estate"

// nested reports the nested groups that have members and turn senders away.
func (p *Pass) nested(turned func(flow) senders, verb, consequence string) {
	p.mailed(func(id estate.ID, g *estate.Group) {
		if len(p.E.Children(id)) == 0 {
			return
		}
		for _, f := range p.flow(id) {
			away := turned(f)
			if away.isEmpty() {
				continue
			}
			members, total := p.people(p.R.Members(f.group))
			if total == 0 {
				continue
			}
			p.report(Finding{Group: id, Address: p.name(f.group), Place: f.place, Witness: p.witness(away),
				Says: "Senders whom " + p.name(id) + " admits " + verb + " by the nested " + p.name(f.group) + ": " + p.who(away) + ". Its members, " + p.some(members, total) + ", " + consequence + ".",
				Fix:  "Let the gate of " + p.name(f.group) + " admit them."})
		}
	})
}

// admitsOnlyInside reports whether a gate admits somebody, and nobody outside.
func (p *Pass) admitsOnlyInside(id estate.ID) bool {
	admitted := p.verdicts(id)[estate.Admit]
	if admitted.isEmpty() || admitted.strangers[0] {
		return false
	}
	return !admitted.known.Intersects(p.outside)
}

// outsideReaders returns the outside people who get copies as direct members of a
// group that a message comes to.
func (p *Pass) outsideReaders(id estate.ID) []estate.ID {
	var readers []estate.ID
	if p.E.Group(id).Kind == estate.Mailbox {
		return nil
	}
	for _, m := range p.memberships(id) {
		if !p.E.Inside(m.person) && (m.wish.Copy == estate.CopyEvery || m.wish.Copy == estate.CopyDigest) && p.E.Person(m.person).Mailbox == estate.MailboxOpen {
			readers = append(readers, m.person)
		}
	}
	return readers
}
