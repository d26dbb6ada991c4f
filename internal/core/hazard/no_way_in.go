package hazard

import "yorvet.example/yorvet/internal/core/estate"

var noWayIn = Check{
	Name:     "no-way-in",
	mailed:   true,
	Severity: High,
	Trap:     "a group that accepts mail and admits nobody",
	Doc: `The gate admits no person of the estate and no stranger, whatever they write. Mail to the group is
refused, dropped, or held for approval, one by one.`,
	Cure: "Let the gate admit somebody, or make the group a roster if it only grants access.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if p.admitsNonGroup(id) {
			return
		}
		p.report(Finding{Group: id, Place: where(g, "gate"),
			text: func() (says, fix string) {
				return p.name(id) + " admits nobody.",
					"Let the gate admit somebody, or make the group a roster."
			}})
	},
}
