package hazard

import "yorvet.example/yorvet/internal/core/estate"

var noMembers = Check{
	Name:     "no-members",
	mailed:   true,
	Severity: Medium,
	Trap:     "a group that accepts mail and reaches nobody",
	Doc:      `No person receives or can read the mail of the group, while its senders believe that it arrived.`,
	Cure:     "Add members, or let the gate refuse everyone and say why.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if !p.R.Reaches(id) {
			p.report(Finding{Group: id, Place: where(g, "members"), text: func() (says, fix string) {
				return "Mail to " + p.name(id) + " reaches nobody.",
					"Add members, or refuse the mail."
			}})
		}
	},
}
