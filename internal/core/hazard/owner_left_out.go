package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var ownerLeftOut = Check{
	Name:     "owner-left-out",
	mailed:   true,
	Severity: Low,
	Trap:     "an owner who receives nothing of the group's mail",
	Doc:      `They answer for the group and see nothing of what goes on in it.`,
	Cure:     "Make them a member.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		for _, owner := range p.R.Owners(id) {
			if outcome, ok := p.R.Receipt(id, owner); !ok || outcome == resolve.Nothing {
				p.report(Finding{Group: id, Address: p.name(owner), Place: where(g, "owners"),
					text: func() (says, fix string) {
						return p.name(owner) + " owns " + p.name(id) + " and receives nothing of its mail.",
							"Make them a member."
					}})
			}
		}
	},
}
