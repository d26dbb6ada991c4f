package estate

import (
	"strconv"

	"yorvet.example/yorvet/internal/core/selector"
)

// A Use is a rule whose selector names a group by "in".
type Use struct {
	Group ID     // whose rule it is
	Rule  string // which: "rule 2 of the gate", "access.find"
	Place Place
}

// Uses returns the rules that name a group by "in", in the order of the estate: none of
// them could be read without it.
func (e *Estate) Uses(id ID) []Use {
	var uses []Use
	for group := range ID(e.Groups()) {
		note := func(x selector.Expr, rule string, place Place) {
			found := false
			selector.Atoms(x, func(a *selector.Atom) {
				if a.Kind == selector.In {
					other, ok := e.Find(a.Address)
					found = found || ok && other == id
				}
			})
			if found {
				uses = append(uses, Use{group, rule, place})
			}
		}
		g := e.Group(group)
		for i, rule := range g.Gate {
			note(rule.Selector, "rule "+strconv.Itoa(i+1)+" of the gate", rule.Place)
		}
		for i, rule := range g.SendAs {
			note(rule.Selector, "rule "+strconv.Itoa(i+1)+" of send-as", rule.Place)
		}
		for setting, rule := range g.Selectors {
			note(rule.Selector, setting, rule.Place)
		}
	}
	return uses
}
