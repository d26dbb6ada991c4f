package hazard

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

var outsideSendsAs = Check{
	Name:     "outside-sends-as",
	Severity: High,
	Trap:     "somebody outside may send as the group",
	Doc: `A rule of send-as is true for somebody outside: anyone, or members where somebody outside is one. What they
write carries your name, and your people answer it as if it came from you.`,
	Cure: "Ask for inside as well: \"as inside and members\".",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		for i, class := range p.R.Rights(id).Classes() {
			if i == 0 {
				continue
			}
			if people := roaring.And(class, p.outside); !people.IsEmpty() {
				p.reportOutsideSendsAs(id, p.name(estate.ID(people.Minimum())), g.SendAs[i-1])
				return
			}
		}
		for _, s := range p.sendingOthers(id) {
			if _, rule := p.R.Rights(id).SendAs(s); rule > 0 && p.isOutside(s) {
				name := s.Address.String()
				if s.Address == p.R.Strangers().Outside.Address {
					name = "Anyone outside"
				}
				p.reportOutsideSendsAs(id, name, g.SendAs[rule-1])
				return
			}
		}
	},
}

func (p *Pass) reportOutsideSendsAs(id estate.ID, who string, rule estate.SendAsRule) {
	p.report(Finding{Group: id, Place: rule.Place, text: func() (says, fix string) {
		return who + " is outside and may send " + rule.SendAs.String() + " " + p.name(id) + ", by \"" + rule.Text + "\".",
			"Ask for inside as well, as in \"" + rule.SendAs.String() + " inside and (...)\"."
	}})
}
