package hazard

import "yorvet.example/yorvet/internal/core/estate"

var nobodyApproves = Check{
	Name:     "nobody-approves",
	Severity: High,
	Trap:     "the gate can hold, and nobody exists who could release a held message",
	Doc: `A held message waits for the group's moderators; where there are none, for its owners. Where
there are none either, it waits for ever, and its sender hears nothing more of it.`,
	Cure: "Name a moderator or an owner, or let the gate admit or refuse instead of hold.",
	Run: func(p *Pass) {
		p.mailed(func(id estate.ID, g *estate.Group) {
			rule, holds := p.holdingRule(id)
			if approvers, _ := p.R.Approvers(id); holds && len(approvers) == 0 {
				p.report(Finding{Group: id, Place: rule.Place,
					Says: "What " + p.name(id) + " holds is never released: it has no moderator and no owner.",
					Fix:  "Name a moderator or an owner."})
			}
		})
	},
}

var approverUnreachable = Check{
	Name:     "approver-unreachable",
	Severity: High,
	Trap:     "every approver's mailbox is full, closed or missing",
	Doc: `Those who could release a held message are told by mail. Where none of their mailboxes takes
mail, nobody learns that anything waits.`,
	Cure: "Mend a mailbox, or name a moderator whose mailbox works.",
	Run: func(p *Pass) {
		p.mailed(func(id estate.ID, g *estate.Group) {
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
				Says: "What " + p.name(id) + " holds waits for " + p.names(approvers) + ", and no mailbox of theirs takes mail.",
				Fix:  "Name a moderator whose mailbox works."})
		})
	},
}

// holdingRule returns the first rule of a group's gate that can hold a message.
func (p *Pass) holdingRule(id estate.ID) (estate.GateRule, bool) {
	var alive []bool
	for i, rule := range p.E.Group(id).Gate {
		if rule.Verdict != estate.Hold {
			continue
		}
		if alive == nil {
			alive = p.aliveRules(id)
		}
		if alive[i] {
			return rule, true
		}
	}
	return estate.GateRule{}, false
}
