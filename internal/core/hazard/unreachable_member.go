package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var unreachableMember = Check{
	Name:     "unreachable-member",
	Severity: Medium,
	Trap:     "a member who should get copies cannot",
	Doc: `Their mailbox is full, closed or missing, or the membership is paused, and no other way brings them the mail.
The sender gets a bounce at best; the member hears nothing.`,
	Cure: "Repair the mailbox, or end the pause.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.Kind == estate.Mailbox || g.Kind == estate.Roster {
			return
		}
		for _, m := range p.memberships() {
			paused := m.wish.Muting == resolve.MutedPaused
			if !wantsCopies(m.wish.Written) || !paused && !p.E.IsShut(m.person) {
				continue
			}
			if outcome, _ := p.best(id, m.person); outcome != resolve.Nothing && outcome != resolve.Undeliverable {
				continue // by another path
			}
			state := p.E.Person(m.person).Mailbox
			p.report(Finding{Group: id, Address: p.name(m.person), Place: m.place, own: !paused, text: func() (says, fix string) {
				says, fix = "mailbox "+state.String(), "Repair the mailbox; a rule or a nested group includes them."
				if p.isListedOnly(id, m.person) {
					fix = "Repair the mailbox, or remove them: " + p.command("member remove", id, p.name(m.person))
				}
				switch {
				case paused:
					says, fix = "membership paused", "End the pause: "+
						p.command("member set", id, p.name(m.person)+" --paused=false")
				case state == estate.MailboxNone:
					says = "no mailbox"
				}
				return p.name(m.person) + " should get the mail of " + p.name(id) + " and does not: " + says + ".", fix
			}})
		}
	},
}
