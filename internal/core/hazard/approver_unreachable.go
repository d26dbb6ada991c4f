package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
)

var approverUnreachable = Check{
	Name:     "approver-unreachable",
	mailed:   true,
	Severity: High,
	Trap:     "every approver's mailbox is full, closed or missing",
	Doc: `Those who can release a held message are asked by mail. If none of their mailboxes accepts mail,
nobody learns that anything waits.`,
	Cure: "Repair a mailbox, or name a moderator whose mailbox works.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		approvers, _ := p.R.Approvers(id)
		for _, person := range approvers {
			if p.E.Person(person).Mailbox == estate.MailboxOpen {
				return
			}
		}
		place, far := p.firstWith(id, estate.Hold)
		if far < seldom || len(approvers) == 0 {
			return
		}
		p.reportAs(far, Finding{Group: id, Place: place,
			text: func() (says, fix string) {
				return "Mail held by " + p.name(id) + " waits for " + p.names(approvers) + ", " +
						choose(len(approvers), "whose mailbox does", "whose mailboxes do") + " not accept mail.",
					"Name a moderator whose mailbox works: " + p.command("group set", id, "moderators+=ADDRESS")
			}})
	},
}
