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
						"Pass invitations on to everybody: " + p.command("group set", id, "invitations=every")
				}})
		}
	},
}
