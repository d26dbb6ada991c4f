package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// nested reports the groups nested in a group that have members and turn senders
// away.
func (p *Pass) nested(id estate.ID, turned func(flow) senders, verb string) {
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
			text: func() (says, fix string) {
				return p.name(f.group) + " " + verb + " mail that " + p.name(id) + " admits from " + p.who(away) +
						". Members of " + p.name(f.group) + ": " + p.some(members, total) + ".",
					"Let the gate of " + p.name(f.group) + " admit them."
			}})
	}
}

// admitsOnlyInside reports whether a gate admits somebody, and nobody outside.
func (p *Pass) admitsOnlyInside(id estate.ID) bool {
	admitted := p.letIn(id).admitted
	if admitted.isEmpty() || admitted.strangers[0] {
		return false
	}
	return !admitted.known.Intersects(p.outside)
}

// outsideReaders returns the outside people who get copies as direct members of a
// group that a message comes to.
func (p *Pass) outsideReaders(id estate.ID) []estate.ID {
	if p.E.Group(id).Kind == estate.Mailbox || p.outside.IsEmpty() {
		return nil
	}
	if readers, ok := p.readers[id]; ok {
		return readers
	}
	var readers []estate.ID
	p.R.EachMembership(id, func(person estate.ID, wish resolve.Wish, _ estate.Place) {
		if !p.E.Inside(person) && wantsCopies(wish.Copy) && p.E.Person(person).Mailbox == estate.MailboxOpen {
			readers = append(readers, person)
		}
	})
	p.readers[id] = readers
	return readers
}
