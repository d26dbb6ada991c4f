package hazard

import (
	"slices"
	"strconv"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

var deadRule = Check{
	Name:     "dead-rule",
	Severity: Medium,
	Trap:     "a rule of a gate or of send-as that never decides anything",
	Doc: `Rules are tried from the top. A rule is dead if for everybody in the estate, for the strangers, for every
address and domain that the gate names, for the code-sender and for an imagined new member, with every sort of
message that the gate asks about, an earlier rule decides or this one is false. Rules of the edge count as
earlier ones:

    gate:
      - admit anyone
      - hold suspect      # dead: suspect mail is admitted already`,
	Cure: "Move the rule up, correct its selector, or remove it.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.Where("gate") != (estate.Place{}) {
			r := p.rulings(id)
			var imagined []bool
			if g.Kind != estate.Roster && slices.Contains(r.anybody[r.edge:], unused) {
				imagined = p.imagined(id)
			}
			for i, rule := range g.Gate {
				if g.Kind == estate.Roster || r.anybody[r.edge+i] == unused && !imagined[r.edge+i] {
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
	edge: func(p *Pass) {
		r := p.rule(estate.None, nil)
		for i, rule := range r.rules {
			if r.anybody[i] == unused {
				p.reportDead(estate.None, "edge", i, rule.Text, rule.Place)
			}
		}
	},
}

func (p *Pass) reportDead(id estate.ID, list string, index int, text string, place estate.Place) {
	number := strconv.Itoa(index + 1)
	about := &more{detail: []string{list, number}}
	p.report(Finding{Group: id, Place: place, more: about, text: func() (says, fix string) {
		says = "Rule " + number + " of the " + list
		if id != estate.None {
			says += " of " + p.name(id)
		}
		if list == "gate" && p.E.Group(id).Kind == estate.Roster {
			return says + " never applies: a roster accepts no mail.", "Remove the rule."
		}
		says += ", \"" + text + "\", decides for none of the senders tried."
		return says, "Move the rule up, correct its selector, or remove it."
	}})
}

// aliveSendAs returns for each send-as rule of a group whether it decides for anybody
// tried, or for somebody that such a rule names.
func (p *Pass) aliveSendAs(id estate.ID) []bool {
	g := p.E.Group(id)
	alive := make([]bool, len(g.SendAs))
	if len(alive) == 0 {
		return alive
	}
	for rule, class := range p.R.Rights(id).Classes() {
		if rule > 0 && !class.IsEmpty() {
			alive[rule-1] = true
		}
	}
	for _, s := range p.sendingOthers(id) {
		if _, rule := p.R.Rights(id).SendAs(s); rule > 0 {
			alive[rule-1] = true
		}
	}
	imagined := p.imaginedSendAs(id)
	for i := range alive {
		alive[i] = alive[i] || imagined[i]
	}
	return alive
}

// sendingOthers returns those who may send as a group and are no main addresses of the
// estate.
func (p *Pass) sendingOthers(id estate.ID) []resolve.Sender {
	var rules []estate.GateRule
	for _, rule := range p.E.Group(id).SendAs {
		rules = append(rules, estate.GateRule{Selector: rule.Selector})
	}
	a := p.R.AsksOf(rules)
	list := p.others(&a, false)
	if codes := p.E.Settings().CodeSender; codes.IsValid() {
		list = append(list, p.R.Sender(codes))
	}
	return list
}

// imaginedSendAs returns for each send-as rule of a group whether it decides for a member
// who is new today.
func (p *Pass) imaginedSendAs(id estate.ID) []bool {
	rules := p.E.Group(id).SendAs
	alive := make([]bool, len(rules))
	left := p.R.Gate(id).AsNewcomers(&selector.Atom{Kind: selector.Anyone}, resolve.Message{})
	strangers := p.R.Strangers()
	others := []resolve.Sender{strangers.Inside, strangers.Outside}
	for i, rule := range rules {
		class := p.R.Gate(id).AsNewcomers(rule.Selector, resolve.Message{})
		alive[i] = left.Intersects(class)
		left = roaring.AndNot(left, class)
		others = slices.DeleteFunc(others, func(s resolve.Sender) bool {
			decides := p.R.Gate(id).EvalAsNewcomer(rule.Selector, s, resolve.Message{})
			alive[i] = alive[i] || decides
			return decides
		})
	}
	return alive
}
