package hazard

import "yorvet.example/yorvet/internal/core/estate"

var outsideReader = Check{
	Name:     "outside-reader",
	mailed:   true,
	Severity: Medium,
	Trap:     "somebody outside receives what only inside people may post to, by nesting",
	Doc: `A group that only inside people may post to looks internal. If a group with outside members is nested in
it, they read along.`,
	Cure: "Set outside-copy of the nested group to none, or remove it from this one.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if len(p.E.Children(id)) == 0 || !p.admitsOnlyInside(id) {
			return
		}
		reported := map[estate.ID]bool{}
		for _, f := range p.flow(id) {
			if f.open.isEmpty() {
				continue
			}
			for _, reader := range p.outsideReaders(f.group) {
				if reported[reader] {
					continue
				}
				reported[reader] = true
				p.report(Finding{Group: id, Address: p.name(reader), Place: f.place, Witness: p.witness(f.open),
					text: func() (says, fix string) {
						return p.name(reader) + " is outside and gets internal mail of " + p.name(id) + " through " +
								p.name(f.group) + ".",
							"Set outside-copy of " + p.name(f.group) + " to none, or remove it from " + p.name(id) + "."
					}})
			}
		}
	},
}
