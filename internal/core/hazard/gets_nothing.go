package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var getsNothing = Check{
	Name:     "gets-nothing",
	Severity: Medium,
	Trap:     "a member of a list who gets no copies",
	Doc: `Their copy is none or replies, and they get the mail by no other way. A list has no archive, so there is
nowhere to read it. (A forum or a shared mailbox has one.)`,
	Cure: "Set their copy to every or digest, or make the list a forum.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.Kind != estate.List {
			return
		}
		for _, m := range p.memberships() {
			if m.wish.Muting != resolve.NotMuted || wantsCopies(m.wish.Written) {
				continue
			}
			if outcome, _ := p.R.Receipt(id, m.person); outcome != resolve.Nothing {
				continue // by another way
			}
			p.report(Finding{Group: id, Address: p.name(m.person), Place: m.place,
				text: func() (says, fix string) {
					return p.name(m.person) + " is a member of " + p.name(id) + " and gets no copy (copy " +
							m.wish.Written.String() + "), and a list has no archive to read.",
						"Set their copy to every or digest, or make the list a forum: " +
							p.command("group set", id, "kind=forum")
				}})
		}
	},
}
