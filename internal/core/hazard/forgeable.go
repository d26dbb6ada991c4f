package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
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
      - admit director@kelpmere.example     # or whatever says so

If that takes an unusual message, such as an automatic one, the severity is low.`,
	Cure: "Begin the gate with \"refuse unproven\" or \"hold unproven\", or ask for \"inside and ...\".",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		forged := p.rulings(id).forgery
		if forged == nil {
			return
		}
		far := seldom
		if forged.isUsual() {
			far = usual
		}
		p.reportAs(far, Finding{Group: id, Place: g.Gate[forged.rule-1].Place,
			more: &more{witness: func() *Witness { return &Witness{From: forged.victim.Address, Message: forged.message} }},
			text: func() (says, fix string) {
				says = p.name(id) + " accepts forged mail: a message with " + forged.victim.Address.String()
				if forged.others > 0 {
					says += " (or " + count(forged.others, "other address", "other addresses") + ")"
				}
				traits := forged.message
				traits.Unproven = false
				return says + " in From is admitted without authentication" + like(traits) + ".",
					"Begin the gate with \"refuse unproven\"."
			}})
	},
}
