package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var sameMembers = Check{
	Name:     "same-members",
	copies:   true,
	Severity: Low,
	Trap:     "two groups with exactly the same people, who get the same in the same ways",
	Doc:      `One of them is likely a leftover. Whoever changes one forgets the other.`,
	Cure:     "Give one up, and keep its address as a further one of the other.",
	Run: func(p *Pass) {
		first := map[resolve.Fingerprint]estate.ID{}
		for id := range estate.ID(p.E.Groups()) {
			survey := p.survey(id)
			other, same := first[survey.Fingerprint]
			if !survey.Reaches {
				continue
			}
			if !same {
				first[survey.Fingerprint] = id
				continue
			}
			p.report(Finding{Group: id, Address: p.name(other), Place: p.E.Group(id).Place,
				Says: p.name(id) + " and " + p.name(other) + " have exactly the same people, who get the same in the same ways.",
				Fix:  "Give one up, and keep its address as a further one of the other."})
		}
	},
}
