package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
)

var noOwner = Check{
	Name:     "no-owner",
	Severity: Medium,
	Trap:     "nobody answers for the group",
	Doc: `The group has no owners, or only groups with no person in them. There is nobody to ask before it is changed
or removed.`,
	Cure: "Name an owner.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if len(p.R.Owners(id)) == 0 {
			p.report(Finding{Group: id, Place: where(g, "owners"), text: func() (says, fix string) {
				return "Nobody answers for " + p.name(id) + ": it has no owner.",
					"Name an owner: " + p.command("group set", id, "owners+=ADDRESS")
			}})
		}
	},
}
