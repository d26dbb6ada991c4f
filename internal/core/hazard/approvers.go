package hazard

import "yorvet.example/yorvet/internal/core/estate"

// holdingRule returns the first rule of a group's gate that can hold a message.
func (p *Pass) holdingRule(id estate.ID) (estate.GateRule, bool) {
	var alive []bool
	for i, rule := range p.E.Group(id).Gate {
		if rule.Verdict != estate.Hold {
			continue
		}
		if alive == nil {
			alive = p.aliveRules(id)
		}
		if alive[i] {
			return rule, true
		}
	}
	return estate.GateRule{}, false
}
