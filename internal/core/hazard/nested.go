package hazard

import "yorvet.example/yorvet/internal/core/estate"

var nestedStops = Check{
	Name:     "nested-stops",
	Severity: High,
	Trap:     "a nested group's gate refuses somebody whom this group admits",
	Doc: `A nested group asks its own gate again. Whom the outer gate admits and the inner one refuses is told
nothing, and neither are the members of the nested group: they just never see the message.`,
	Cure: "Let the nested group's gate admit those senders, such as by a rule \"admit in\" with the address of a group of theirs.",
	Run: func(p *Pass) {
		p.nested(func(f flow) senders { return f.stopped }, "are refused", "miss it, and nobody is told")
	},
}

var nestedWaits = Check{
	Name:     "nested-waits",
	Severity: Medium,
	Trap:     "a nested group's gate holds somebody whom this group admits",
	Doc: `A nested group asks its own gate again. Whom the outer gate admits and the inner one holds waits for
the nested group's moderators: its members get the message late, or never.`,
	Cure: "Let the nested group's gate admit those senders.",
	Run: func(p *Pass) {
		p.nested(func(f flow) senders { return f.held }, "are held", "get it only once a moderator has looked")
	},
}

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

var loop = Check{
	Name:     "loop",
	Severity: Medium,
	Trap:     "groups nested in a ring",
	Doc: `A group that is nested in itself, over others or not. Yorvet counts each group once; many mail
systems send such mail round until they bounce it.`,
	Cure: "Take one of the groups out of another.",
	Run: func(p *Pass) {
		seen := map[estate.ID]bool{}
		p.groups(func(id estate.ID, g *estate.Group) {
			if seen[id] {
				return
			}
			ring := p.R.Ring(id)
			if ring == nil {
				return
			}
			in := map[estate.ID]bool{}
			for _, other := range ring {
				seen[other], in[other] = true, true
			}
			place := g.Place
			for _, child := range p.E.Children(id) {
				if in[child.Group] {
					place = child.Place
					break
				}
			}
			says := p.name(id) + " is nested in itself."
			if len(ring) > 1 {
				says = p.names(ring) + " are nested in each other, in a ring."
			}
			p.report(Finding{Group: id, Place: place, Says: says, Fix: "Take one of the groups out of another."})
		})
	},
}

var outsideReader = Check{
	Name:     "outside-reader",
	Severity: Medium,
	Trap:     "somebody outside receives what only inside people may post to, by nesting",
	Doc: `A group to which only inside people may post is taken for an internal one. If a group with outside
members is nested in it, they read along.`,
	Cure: "Set outside-copy of the nested group to none, or take it out of this one.",
	Run: func(p *Pass) {
		p.mailed(func(id estate.ID, g *estate.Group) {
			if len(p.E.Children(id)) == 0 || !p.admitsOnlyInside(id) {
				return
			}
			reported := map[estate.ID]bool{}
			for _, f := range p.flow(id) {
				if f.open.isEmpty() {
					continue
				}
				for _, reader := range p.outsideReaders(f.group) {
					if reported[reader] {
						continue
					}
					reported[reader] = true
					p.report(Finding{Group: id, Address: p.name(reader), Place: f.place, Witness: p.witness(f.open),
						Says: p.name(reader) + ", who is outside, receives what inside people write to " + p.name(id) + ", as a member of the nested " + p.name(f.group) + ".",
						Fix:  "Set outside-copy of " + p.name(f.group) + " to none, or take it out of " + p.name(id) + "."})
				}
			}
		})
	},
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
