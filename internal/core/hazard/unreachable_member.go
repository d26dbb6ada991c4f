package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

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
