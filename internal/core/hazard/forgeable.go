package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var forgeable = Check{
	Name:     "forgeable",
	mailed:   true,
	Severity: High,
	Trap:     "forged mail that claims the right address gets in, where mail from outside does not",
	Doc: `Selectors such as members, an address or a domain go by the address that a message claims, authenticated
or not; real systems do the same. If no rule refuses unproven messages first, a forged (spoofed) sender
gets in:

    gate:
      - admit director@kelpmere.example     # or whatever says so`,
	Cure: "Begin the gate with \"refuse unproven\" or \"hold unproven\", or ask for \"inside and ...\".",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if p.R.Judge(id, p.R.Strangers().Outside, resolve.Message{}).Verdict == estate.Admit {
			return
		}
		unproven := resolve.Message{Unproven: true}
		for i, class := range p.deciding(id, unproven) {
			if g.Gate[i].Verdict == estate.Admit && !class.IsEmpty() {
				victim := p.first(class)
				p.reportForgeable(id, i+1, resolve.Sender{Address: p.E.Address(victim)}, int(class.GetCardinality())-1)
				return
			}
		}
		for _, s := range p.furtherAddresses() {
			if d := p.R.Judge(id, s, unproven); d.Verdict == estate.Admit {
				p.reportForgeable(id, d.Rule, s, 0)
				return
			}
		}
	},
}

func (p *Pass) reportForgeable(id estate.ID, rule int, victim resolve.Sender, others int) {
	p.report(Finding{Group: id, Place: p.E.Group(id).Gate[rule-1].Place,
		Witness: &Witness{From: victim.Address, Message: resolve.Message{Unproven: true}},
		text: func() (says, fix string) {
			says = p.name(id) + " accepts forged mail: a message with " + victim.Address.String()
			if others > 0 {
				says += " (or " + count(others, "other address", "other addresses") + ")"
			}
			return says + " in From is admitted without authentication.",
				"Begin the gate with \"refuse unproven\"."
		}})
}
