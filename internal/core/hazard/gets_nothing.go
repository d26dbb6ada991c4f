package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var getsNothing = Check{
	Name:     "gets-nothing",
	Severity: Medium,
	Trap:     "a member of a list who gets no copies",
	Doc: `Their copy is none or replies. A list keeps nothing, so there is nowhere to read what was written
either. (In a forum or a mailbox there is.)`,
	Cure: "Set their copy to every or digest, or make the list a forum.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.Kind != estate.List {
			return
		}
		for _, m := range p.memberships() {
			if m.wish.Muting == resolve.NotMuted && !wantsCopies(m.wish.Written) {
				p.report(Finding{Group: id, Address: p.name(m.person), Place: m.place,
					text: func() (says, fix string) {
						return p.name(m.person) + " is a member of " + p.name(id) + " and gets nothing of it: copy " +
								m.wish.Written.String() + ", and a list keeps nothing to read.",
							"Set their copy to every or digest, or make the list a forum."
					}})
			}
		}
	},
}
