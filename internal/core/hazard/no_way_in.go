package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
)

var noWayIn = Check{
	Name:     "no-way-in",
	mailed:   true,
	Severity: High,
	Trap:     "a group that accepts mail and admits nobody",
	Doc: `The gate admits nobody of the estate and no stranger, whatever they write, and what it holds nobody can
release. Mail to the group is refused or dropped, one by one.`,
	Cure: "Let the gate admit somebody, or make the group a roster if it only grants access.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		r := p.rulings(id)
		approvers, _ := p.R.Approvers(id)
		if r.reaching(r.anybody, estate.Admit) >= seldom ||
			len(approvers) > 0 && r.reaching(r.anybody, estate.Hold) >= seldom {
			return
		}
		p.report(Finding{Group: id, Place: where(g, "gate"),
			text: func() (says, fix string) {
				says = p.name(id) + " admits nobody, and nobody's mail can be released."
				if len(approvers) == 0 { // neither moderators nor owners
					return says, "Let the gate admit somebody, or make the group a roster if it only grants access."
				}
				return says, "Let the gate admit somebody, for example those who answer for the group: " +
					p.command("group set", id, "'gate^=admit (owners or moderators) and not unproven'")
			}})
	},
}
