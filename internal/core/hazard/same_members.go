package hazard

import "yorvet.example/yorvet/internal/core/estate"

var sameMembers = Check{
	Name:     "same-members",
	Severity: Low,
	Trap:     "two groups with exactly the same people, who get the same in the same ways",
	Doc:      `One of them is likely a leftover. Whoever changes one forgets the other.`,
	Cure:     "Give one up, and keep its address as a further one of the other.",
	alike: func(p *Pass, id, other estate.ID) {
		p.report(
			Finding{Group: id, Address: p.name(other), Place: p.E.Group(id).Place, text: func() (says, fix string) {
				return p.name(id) + " and " + p.name(other) + " have exactly the same people, who get the same in the same ways.",
					"Give one up, and keep its address as a further one of the other."
			}},
		)
	},
}
