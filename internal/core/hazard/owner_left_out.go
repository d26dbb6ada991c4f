package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var ownerLeftOut = Check{
	Name:     "owner-left-out",
	copies:   true,
	Severity: Low,
	Trap:     "an owner who receives nothing of the group's mail",
	Doc:      `They answer for the group and see nothing of what goes on in it.`,
	Cure:     "Make them a member.",
	Run: func(p *Pass) {
		p.mailed(func(id estate.ID, g *estate.Group) {
			owners := p.R.Owners(id)
			if len(owners) == 0 {
				return
			}
			survey := p.survey(id)
			for i, owner := range owners {
				if !survey.Gets[i] || survey.Outcomes[i] == resolve.Nothing {
					p.report(Finding{Group: id, Address: p.name(owner), Place: where(g, "owners"),
						Says: p.name(owner) + " owns " + p.name(id) + " and receives nothing of its mail.", Fix: "Make them a member."})
				}
			}
		})
	},
}
