package hazard

import "yorvet.example/yorvet/internal/core/estate"

var noOwner = Check{
	Name:     "no-owner",
	Severity: Medium,
	Trap:     "nobody answers for the group",
	Doc: `The group has no owners, or they amount to no person. Nobody is asked when it is to be changed or
given up.`,
	Cure: "Name an owner.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if len(p.R.Owners(id)) == 0 {
			p.report(Finding{Group: id, Place: where(g, "owners"), text: func() (says, fix string) {
				return "Nobody answers for " + p.name(id) + ": it has no owner.",
					"Name an owner."
			}})
		}
	},
}
