package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
)

var nobodyApproves = Check{
	Name:     "nobody-approves",
	mailed:   true,
	Severity: High,
	Trap:     "the gate holds mail, and nobody can release it",
	Doc: `A held message waits for the group's moderators, or for its owners if there are no moderators. If
there are no owners either, it waits forever, and its sender hears nothing more about it.`,
	Cure: "Name a moderator or an owner, or let the gate admit or refuse instead of hold.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if approvers, _ := p.R.Approvers(id); len(approvers) > 0 {
			return
		}
		place, far := p.firstWith(id, estate.Hold)
		if far < seldom {
			return
		}
		p.reportAs(far, Finding{Group: id, Place: place,
			text: func() (says, fix string) {
				return "Mail held by " + p.name(id) + " is stuck: it has no owner or moderator.",
					"Name a moderator or an owner: " + p.command("group set", id, "moderators+=ADDRESS")
			}})
	},
}
