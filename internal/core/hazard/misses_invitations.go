package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
)

var missesInvitations = Check{
	Name:     "misses-invitations",
	mailed:   true,
	Severity: Low,
	Trap:     "somebody gets the group's mail, and no calendar requests",
	Doc: `They get copies or a digest, and an invitation (RFC 5546) to the group does not come to their inbox: their
invitations are none, or follow a copy that is not every. They read about the meeting and have no entry for it.`,
	Cure: "Set invitations of the group to every.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		r := p.rulings(id)
		if r.reaching(r.invited, estate.Admit, estate.Hold) < seldom {
			return
		}
		uninvited := p.survey.Uninvited(id)
		if uninvited == nil {
			return
		}
		for _, person := range p.byAddress(uninvited) {
			p.report(Finding{Group: id, Address: p.name(person), Place: where(g, "invitations"),
				text: func() (says, fix string) {
					return p.name(person) + " gets the mail of " + p.name(id) + ", and no calendar requests.",
						p.inviting(id, person)
				}})
		}
	},
}

// inviting says how somebody gets calendar requests to a group: by their own membership, where that
// says otherwise, or else by the group that they are in.
func (p *Pass) inviting(id, person estate.ID) string {
	in := id
	if l, ok := p.R.Lineage(id, person); ok {
		in = l.Groups[len(l.Groups)-1]
	}
	if entry, _ := p.R.Membership(in, person); entry != nil && entry.Invitations() != estate.InvitationsUnset {
		return "Ask them: their own setting says so. To pass invitations on to them: " +
			p.command("member set", in, p.name(person)+" --invitations every")
	}
	return "Pass invitations on to everybody: " + p.command("group set", in, "invitations=every")
}
