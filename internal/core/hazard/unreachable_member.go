package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var unreachableMember = Check{
	Name:     "unreachable-member",
	Severity: Medium,
	Trap:     "a member who should get copies cannot",
	Doc: `Their mailbox is full, closed or missing, or the membership is paused. The sender gets a bounce at
best; the member hears nothing.`,
	Cure: "Repair the mailbox, or end the pause.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.Kind == estate.Mailbox || g.Kind == estate.Roster && len(p.E.Parents(id)) == 0 {
			return
		}
		for _, m := range p.memberships() {
			if !wantsCopies(m.wish.Written) {
				continue
			}
			paused := m.wish.Muting == resolve.MutedPaused
			if !paused && !p.R.Shut(m.person) {
				continue
			}
			state := p.E.Person(m.person).Mailbox
			p.report(Finding{Group: id, Address: p.name(m.person), Place: m.place, text: func() (says, fix string) {
				says, fix = "mailbox "+state.String(), "Repair the mailbox, or remove them."
				switch {
				case paused:
					says, fix = "membership paused", "End the pause."
				case state == estate.MailboxNone:
					says = "no mailbox"
				}
				return p.name(m.person) + " should get the mail of " + p.name(id) + " and does not: " + says + ".", fix
			}})
		}
	},
}
