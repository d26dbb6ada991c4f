package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var outsideMemberBarred = Check{
	Name:     "outside-member-barred",
	mailed:   true,
	Severity: High,
	Trap:     "somebody outside receives a group that is to have no outside members",
	Doc: `outside-members: refused is a promise, and changes no delivery. Somebody outside is listed all the same, or
comes in with a nested group, and gets or reads the mail.`,
	Cure: "Remove them, or the nested group that they are in, or set outside-members to allowed.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if !g.NoOutsideMembers || !p.survey.ReachesOutside(id) {
			return
		}
		for _, recipient := range p.R.Deliver(resolve.Query{Group: id}).Recipients() {
			reader := recipient.ID
			if !p.E.IsPerson(reader) || p.E.Inside(reader) {
				continue
			}
			switch recipient.Outcome {
			case resolve.Inbox, resolve.Digest, resolve.Archive:
			default:
				continue
			}
			p.report(Finding{Group: id, Address: p.name(reader), Place: where(g, "outside-members"),
				text: func() (says, fix string) {
					says = p.name(reader) + " is outside and receives " + p.name(id) + ", which is to have no outside members."
					if p.isListedOnly(id, reader) {
						return says, "Remove them: " + p.command("member remove", id, p.name(reader))
					}
					return says, "Remove them from the nested group that includes them, or that group from " + p.name(id) + "."
				}})
		}
	},
}
