package hazard

import "yorvet.example/yorvet/internal/core/estate"

var deadRule = Check{
	Name:     "dead-rule",
	Severity: Medium,
	Trap:     "a rule of a gate or of send-as that never decides anything",
	Doc: `Rules are tried from the top. A rule is dead if for everybody in the estate, and for all strangers,
authenticated or not, and for every sort of message, an earlier rule decides or this one is false:

    gate:
      - admit anyone
      - hold suspect      # dead: suspect mail is admitted already`,
	Cure: "Move the rule up, correct its selector, or remove it.",
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
