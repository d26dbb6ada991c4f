package hazard

import "yorvet.example/yorvet/internal/core/estate"

var approverUnreachable = Check{
	Name:     "approver-unreachable",
	mailed:   true,
	Severity: High,
	Trap:     "every approver's mailbox is full, closed or missing",
	Doc: `Those who could release a held message are told by mail. Where none of their mailboxes takes
mail, nobody learns that anything waits.`,
	Cure: "Repair a mailbox, or name a moderator whose mailbox works.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		approvers, _ := p.R.Approvers(id)
		rule, holds := p.holdingRule(id)
		if !holds || len(approvers) == 0 {
			return
		}
		for _, person := range approvers {
			if p.E.Person(person).Mailbox == estate.MailboxOpen {
				return
			}
		}
		p.report(Finding{Group: id, Place: rule.Place,
			text: func() (says, fix string) {
				return "What " + p.name(id) + " holds waits for " + p.names(approvers) +
						", and none of their mailboxes accepts mail.",
					"Name a moderator whose mailbox works."
			}})
	},
}
