package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var noMembers = Check{
	Name:     "no-members",
	mailed:   true,
	Severity: Medium,
	Trap:     "a group that accepts mail and reaches nobody",
	Doc: `No person receives the mail of the group or can read it: it has no members, or all of them have copy none,
or mailboxes that accept no mail. Its senders believe that it arrived.`,
	Cure: "Add members, or let the gate refuse everyone and say why.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		counts := p.survey.Counts(id)
		if counts[resolve.Inbox]+counts[resolve.Digest]+counts[resolve.Archive] > 0 || p.survey.Invited(id) > 0 {
			return
		}
		p.report(Finding{Group: id, Place: where(g, "members"), text: func() (says, fix string) {
			return "Mail to " + p.name(id) + " reaches nobody.",
				"Add members, or refuse the mail: " + p.command("member add", id, "ADDRESS")
		}})
	},
}
