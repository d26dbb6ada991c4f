package hazard

import (
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
)

var sameMembers = Check{
	Name:     "same-members",
	Severity: Low,
	Trap:     "two groups have the same people, delivery and rules",
	Doc:      `One of them is likely a leftover, and a change of one is easily forgotten in the other.`,
	Cure:     "Remove one, and make its address an alias of the other.",
	alike: func(p *Pass, id, other estate.ID) {
		p.report(
			Finding{Group: id, Address: p.name(other), Place: p.E.Group(id).Place, text: func() (says, fix string) {
				return p.name(id) + " and " + p.name(other) + " have the same people with the same delivery, and the same rules.",
					"Remove one, and make its address an alias of the other."
			}},
		)
	},
}

// rulesText stands for who may post to a group and send as it.
func rulesText(g *estate.Group) string {
	var b strings.Builder
	for _, rule := range g.Gate {
		b.WriteString(rule.Verdict.String() + " " + rule.Selector.String() + "\n" + rule.Because + "\n")
	}
	b.WriteString("send-as\n")
	for _, rule := range g.SendAs {
		b.WriteString(rule.SendAs.String() + " " + rule.Selector.String() + "\n")
	}
	return b.String()
}
