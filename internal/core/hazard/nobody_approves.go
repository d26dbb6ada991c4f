package hazard

import "yorvet.example/yorvet/internal/core/estate"

var nobodyApproves = Check{
	Name:     "nobody-approves",
	mailed:   true,
	Severity: High,
	Trap:     "the gate can hold, and nobody exists who could release a held message",
	Doc: `A held message waits for the group's moderators; where there are none, for its owners. Where
there are none either, it waits for ever, and its sender hears nothing more of it.`,
	Cure: "Name a moderator or an owner, or let the gate admit or refuse instead of hold.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		rule, holds := p.holdingRule(id)
		if approvers, _ := p.R.Approvers(id); holds && len(approvers) == 0 {
			p.report(Finding{Group: id, Place: rule.Place,
				text: func() (says, fix string) {
					return "What " + p.name(id) + " holds is never released: it has no moderator and no owner.",
						"Name a moderator or an owner."
				}})
		}
	},
}
