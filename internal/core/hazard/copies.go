package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// membership is what one person wants as a direct member of a group.
type membership struct {
	person estate.ID
	wish   resolve.Wish
	place  estate.Place
}

// memberships returns the direct memberships of a group: one for each person.
func (p *Pass) memberships(id estate.ID) []membership {
	if p.direct == nil {
		p.direct = make([][]membership, p.E.Groups())
	}
	if p.direct[id] != nil {
		return p.direct[id]
	}
	list := make([]membership, 0, len(p.E.Entries(id)))
	p.R.EachMembership(id, func(person estate.ID, wish resolve.Wish, place estate.Place) {
		list = append(list, membership{person, wish, place})
	})
	p.direct[id] = list
	return list
}

// survey returns what becomes of a message to a group, and for its owners in
// particular.
func (p *Pass) survey(id estate.ID) resolve.Survey {
	if p.surveys == nil {
		p.surveys = make([]*resolve.Survey, p.E.Groups())
	}
	if p.surveys[id] == nil {
		survey := p.R.Survey(id, p.R.Owners(id))
		p.surveys[id] = &survey
	}
	return *p.surveys[id]
}

func wantsCopies(copy estate.Copy) bool { return copy == estate.CopyEvery || copy == estate.CopyDigest }

var unreachableMember = Check{
	Name:     "unreachable-member",
	copies:   true,
	Severity: Medium,
	Trap:     "a member who should get copies cannot",
	Doc: `Their mailbox is full, closed or missing, or the membership is paused. The sender gets a bounce at
best; the member hears nothing.`,
	Cure: "Mend the mailbox, or end the pause.",
	Run: func(p *Pass) {
		p.groups(func(id estate.ID, g *estate.Group) {
			if g.Kind == estate.Mailbox || g.Kind == estate.Roster && len(p.E.Parents(id)) == 0 {
				return
			}
			for _, m := range p.memberships(id) {
				if !wantsCopies(m.wish.Written) {
					continue
				}
				state := p.E.Person(m.person).Mailbox
				says, fix := "", "Mend the mailbox, or take them out."
				switch {
				case m.wish.Muting == resolve.MutedPaused:
					says, fix = "the membership is paused", "End the pause."
				case state == estate.MailboxOpen:
					continue
				case state == estate.MailboxNone:
					says = "there is no mailbox"
				default:
					says = "the mailbox is " + state.String()
				}
				p.report(Finding{Group: id, Address: p.name(m.person), Place: m.place,
					Says: p.name(m.person) + " should get the mail of " + p.name(id) + " and cannot: " + says + ".", Fix: fix})
			}
		})
	},
}

var getsNothing = Check{
	Name:     "gets-nothing",
	copies:   true,
	Severity: Medium,
	Trap:     "a member of a list who gets no copies",
	Doc: `Their copy is none or replies. A list keeps nothing, so there is nowhere to read what was written
either. (In a forum or a mailbox there is.)`,
	Cure: "Set their copy to every or digest, or make the list a forum.",
	Run: func(p *Pass) {
		p.groups(func(id estate.ID, g *estate.Group) {
			if g.Kind != estate.List {
				return
			}
			for _, m := range p.memberships(id) {
				if m.wish.Muting == resolve.NotMuted && !wantsCopies(m.wish.Written) {
					p.report(Finding{Group: id, Address: p.name(m.person), Place: m.place,
						Says: p.name(m.person) + " is a member of " + p.name(id) + " and gets nothing of it: copy " + m.wish.Written.String() + ", and a list keeps nothing to read.",
						Fix:  "Set their copy to every or digest, or make the list a forum."})
				}
			}
		})
	},
}

var olderMembersDiffer = Check{
	Name:     "older-members-differ",
	copies:   true,
	Severity: Medium,
	Trap:     "new members get copies, members from before do not",
	Doc: `The group's copy is none or replies, and joiners sets copies for those who come. Whoever joined before
that, or was brought in otherwise, has a membership that says nothing: they get none.`,
	Cure: "Set copy to what joiners says, or write the copy into the older memberships.",
	Run: func(p *Pass) {
		p.groups(func(id estate.ID, g *estate.Group) {
			joiners := g.Joiners
			if joiners == estate.CopyUnset || !wantsCopies(joiners) || g.Kind == estate.Mailbox || g.Kind == estate.Roster {
				return
			}
			var older []estate.ID
			for _, m := range p.memberships(id) {
				if m.wish.Source != resolve.FromMembership && !wantsCopies(m.wish.Written) {
					older = append(older, m.person)
				}
			}
			if len(older) > 0 {
				p.report(Finding{Group: id, Place: where(g, "joiners"),
					Says: "New members of " + p.name(id) + " get copies, but not " + p.names(older) + ", whose memberships say nothing.",
					Fix:  "Set copy to " + joiners.String() + ", too."})
			}
		})
	},
}

var noMembers = Check{
	Name:     "no-members",
	copies:   true,
	Severity: Medium,
	Trap:     "a group that takes mail and reaches nobody",
	Doc:      `No person receives anything of what is sent to the group, in any way: the sender believes that it arrived.`,
	Cure:     "Add members, or let the gate refuse everyone with a word why.",
	Run: func(p *Pass) {
		p.mailed(func(id estate.ID, g *estate.Group) {
			if !p.survey(id).Reaches {
				p.report(Finding{Group: id, Place: where(g, "members"), Says: "Mail to " + p.name(id) + " reaches nobody.", Fix: "Add members, or refuse the mail."})
			}
		})
	},
}

var noOwner = Check{
	Name:     "no-owner",
	copies:   true,
	Severity: Medium,
	Trap:     "nobody answers for the group",
	Doc:      `The group has no owners, or they amount to no person. Nobody is asked when it is to be changed or given up.`,
	Cure:     "Name an owner.",
	Run: func(p *Pass) {
		p.groups(func(id estate.ID, g *estate.Group) {
			if len(p.R.Owners(id)) == 0 {
				p.report(Finding{Group: id, Place: where(g, "owners"), Says: "Nobody answers for " + p.name(id) + ": it has no owner.", Fix: "Name an owner."})
			}
		})
	},
}

var ownerLeftOut = Check{
	Name:     "owner-left-out",
	copies:   true,
	Severity: Low,
	Trap:     "an owner who receives nothing of the group's mail",
	Doc:      `They answer for the group and see nothing of what goes on in it.`,
	Cure:     "Make them a member.",
	Run: func(p *Pass) {
		p.mailed(func(id estate.ID, g *estate.Group) {
			owners := p.R.Owners(id)
			if len(owners) == 0 {
				return
			}
			survey := p.survey(id)
			for i, owner := range owners {
				if !survey.Gets[i] || survey.Outcomes[i] == resolve.Nothing {
					p.report(Finding{Group: id, Address: p.name(owner), Place: where(g, "owners"),
						Says: p.name(owner) + " owns " + p.name(id) + " and receives nothing of its mail.", Fix: "Make them a member."})
				}
			}
		})
	},
}

var sameMembers = Check{
	Name:     "same-members",
	copies:   true,
	Severity: Low,
	Trap:     "two groups with exactly the same people, who get the same in the same ways",
	Doc:      `One of them is likely a leftover. Whoever changes one forgets the other.`,
	Cure:     "Give one up, and keep its address as a further one of the other.",
	Run: func(p *Pass) {
		first := map[resolve.Fingerprint]estate.ID{}
		for id := range estate.ID(p.E.Groups()) {
			survey := p.survey(id)
			other, same := first[survey.Fingerprint]
			if !survey.Reaches {
				continue
			}
			if !same {
				first[survey.Fingerprint] = id
				continue
			}
			p.report(Finding{Group: id, Address: p.name(other), Place: p.E.Group(id).Place,
				Says: p.name(id) + " and " + p.name(other) + " have exactly the same people, who get the same in the same ways.",
				Fix:  "Give one up, and keep its address as a further one of the other."})
		}
	},
}
