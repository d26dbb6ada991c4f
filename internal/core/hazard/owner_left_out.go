package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var ownerLeftOut = Check{
	Name:     "owner-left-out",
	mailed:   true,
	Severity: Low,
	Trap:     "an owner who gets none of the group's mail",
	Doc:      `They answer for the group and do not see what is written to it.`,
	Cure:     "Make them a member.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		for _, owner := range p.R.Owners(id) {
			if outcome, ok := p.best(id, owner); !ok || outcome == resolve.Nothing {
				p.report(Finding{Group: id, Address: p.name(owner), Place: where(g, "owners"),
					text: func() (says, fix string) {
						says = p.name(owner) + " owns " + p.name(id) + " and gets none of its mail."
						switch entry, _ := p.R.Membership(id, owner); {
						case p.E.IsShut(owner):
							return says, "Repair their mailbox, or name another owner."
						case entry != nil && entry.Paused():
							return says, "End the pause: " + p.command("member set", id, p.name(owner)+" --paused=false --copy every")
						case entry != nil:
							return says, "Give them copies: " + p.command("member set", id, p.name(owner)+" --copy every")
						}
						return says, "Make them a member: " + p.command("member add", id, p.name(owner)+" --copy every")
					}})
			}
		}
	},
}
