package hazard

import "yorvet.example/yorvet/internal/core/estate"

var sameMembers = Check{
	Name:     "same-members",
	Severity: Low,
	Trap:     "two groups have the same people with the same delivery",
	Doc:      `One of them is likely a leftover, and a change of one is easily forgotten in the other.`,
	Cure:     "Remove one, and make its address an alias of the other.",
	alike: func(p *Pass, id, other estate.ID) {
		p.report(
			Finding{Group: id, Address: p.name(other), Place: p.E.Group(id).Place, text: func() (says, fix string) {
				return p.name(id) + " and " + p.name(other) + " have the same people with the same delivery.",
					"Remove one, and make its address an alias of the other."
			}},
		)
	},
}
