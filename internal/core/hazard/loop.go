package hazard

import (
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
)

var loop = Check{
	Name:     "loop",
	Severity: High,
	Trap:     "groups nested in a ring",
	Doc: `A group is nested in itself, directly or through others. Yorvet counts each group once; some mail
systems send such mail around until they bounce it.`,
	Cure: "Remove one of the groups from another.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if p.ringed[id] {
			return
		}
		ring := p.R.Ring(id)
		if ring == nil {
			return
		}
		in := map[estate.ID]bool{}
		for _, other := range ring {
			in[other], p.ringed[other] = true, true
		}
		if id != slices.Min(ring) {
			return // told there
		}
		place := g.Place
		for _, child := range p.E.Children(id) {
			if in[child.Group] {
				place = child.Place
				break
			}
		}
		p.report(Finding{Group: id, Place: place, more: &more{detail: p.sortedNames(ring)}, text: func() (says, fix string) {
			fix = "Remove one of the groups from another."
			if len(ring) > 1 {
				return p.names(ring) + " are nested in each other, in a ring.", fix
			}
			return p.name(id) + " is nested in itself.", fix
		}})
	},
}

// sortedNames returns the addresses of some groups, sorted.
func (p *Pass) sortedNames(ids []estate.ID) []string {
	var names []string
	for _, id := range ids {
		names = append(names, p.name(id))
	}
	slices.Sort(names)
	return names
}
