package hazard

import "yorvet.example/yorvet/internal/core/estate"

var loop = Check{
	Name:     "loop",
	Severity: Medium,
	Trap:     "groups nested in a ring",
	Doc: `A group that is nested in itself, over others or not. Yorvet counts each group once; many mail
systems send such mail round until they bounce it.`,
	Cure: "Take one of the groups out of another.",
	Run: func(p *Pass) {
		seen := map[estate.ID]bool{}
		p.groups(func(id estate.ID, g *estate.Group) {
			if seen[id] {
				return
			}
			ring := p.R.Ring(id)
			if ring == nil {
				return
			}
			in := map[estate.ID]bool{}
			for _, other := range ring {
				seen[other], in[other] = true, true
			}
			place := g.Place
			for _, child := range p.E.Children(id) {
				if in[child.Group] {
					place = child.Place
					break
				}
			}
			says := p.name(id) + " is nested in itself."
			if len(ring) > 1 {
				says = p.names(ring) + " are nested in each other, in a ring."
			}
			p.report(Finding{Group: id, Place: place, Says: says, Fix: "Take one of the groups out of another."})
		})
	},
}
