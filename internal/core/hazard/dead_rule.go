package hazard

import "yorvet.example/yorvet/internal/core/estate"

var deadRule = Check{
	Name:     "dead-rule",
	Severity: Medium,
	Trap:     "a rule of a gate or of send-as that never decides anything",
	Doc: `Rules are tried from the top. A rule is dead if for everybody the estate knows, and for all
strangers, proven or not, and whatever the message is, an earlier rule decides or this one is false:

    gate:
      - admit anyone
      - hold suspect      # dead: whatever is suspect has been let in already`,
	Cure: "Move the rule up, correct its selector, or take it out.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.Where("gate") != (estate.Place{}) {
			alive := p.aliveRules(id)
			for i, rule := range g.Gate {
				if !alive[i] {
					p.reportDead(id, "gate", i, rule.Text, rule.Place)
				}
			}
		}
		alive := p.aliveSendAs(id)
		for i, rule := range g.SendAs {
			if !alive[i] {
				p.reportDead(id, "send-as", i, rule.Text, rule.Place)
			}
		}
	},
}
