package hazard

import "yorvet.example/yorvet/internal/core/estate"

var noMembers = Check{
	Name:     "no-members",
	mailed:   true,
	Severity: Medium,
	Trap:     "a group that takes mail and reaches nobody",
	Doc:      `No person receives anything of what is sent to the group, in any way: the sender believes that it arrived.`,
	Cure:     "Add members, or let the gate refuse everyone with a word why.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if !p.R.Reaches(id) {
			p.report(Finding{Group: id, Place: where(g, "members"), text: func() (says, fix string) {
				return "Mail to " + p.name(id) + " reaches nobody.",
					"Add members, or refuse the mail."
			}})
		}
	},
}
