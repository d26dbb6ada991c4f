package hazard

import (
	"slices"
	"strconv"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

func (p *Pass) reportDead(id estate.ID, list string, index int, text string, place estate.Place) {
	p.report(Finding{Group: id, Place: place, text: func() (says, fix string) {
		says = "Rule " + strconv.Itoa(index+1) + " of the " + list + " of " + p.name(id)
		if p.E.Group(id).Kind == estate.Roster && list == "gate" {
			says += " never applies: a roster accepts no mail."
		} else {
			says += ", \"" + text + "\", decides for none of the senders tried."
		}
		return says, "Move the rule up, correct its selector, or remove it."
	}})
}

// gateSelectors returns the selectors of a gate's rules.
func gateSelectors(g *estate.Group) []selector.Expr {
	selectors := make([]selector.Expr, len(g.Gate))
	for i, rule := range g.Gate {
		selectors[i] = rule.Selector
	}
	return selectors
}

// aliveRules returns for each rule of the gate of the group at hand whether it
// decides anything. Equal gates are looked at once.
func (p *Pass) aliveRules(id estate.ID) []bool {
	if p.alive != nil {
		return p.alive
	}
	if !p.shared(id) {
		p.alive = p.findAlive(id)
		return p.alive
	}
	key := p.gateKey(id)
	alive, ok := p.living[key]
	if !ok {
		alive = p.findAlive(id)
		p.living[key] = alive
	}
	p.alive = alive
	return alive
}

func (p *Pass) findAlive(id estate.ID) []bool {
	g := p.E.Group(id)
	alive := make([]bool, len(g.Gate))
	if g.Kind == estate.Roster {
		return alive
	}
	p.eachDecision(id, func(rule int, _ func() bool) bool {
		alive[rule-1] = true
		return slices.Contains(alive, false)
	})
	return alive
}

// admitsNonGroup reports whether a gate ever admits a person or a stranger.
func (p *Pass) admitsNonGroup(id estate.ID) bool {
	g := p.E.Group(id)
	admits := false
	p.eachDecision(id, func(rule int, nonGroup func() bool) bool {
		admits = admits || g.Gate[rule-1].Verdict == estate.Admit && nonGroup()
		return !admits
	})
	return admits
}

// aliveSendAs returns for each send-as rule of a group whether it decides anything.
func (p *Pass) aliveSendAs(id estate.ID) []bool {
	g := p.E.Group(id)
	alive := make([]bool, len(g.SendAs))
	if len(alive) == 0 {
		return alive
	}
	selectors := make([]selector.Expr, len(g.SendAs))
	for i, rule := range g.SendAs {
		selectors[i] = rule.Selector
	}
	for rule, class := range p.R.SendAsClasses(id) {
		if rule > 0 && !class.IsEmpty() {
			alive[rule-1] = true
		}
	}
	for _, s := range p.otherSenders(selectors) {
		if _, rule := p.R.SendAs(id, s); rule > 0 {
			alive[rule-1] = true
		}
	}
	return alive
}

// otherSenders returns those whom the sets of package resolve do not hold: the
// strangers; whoever is at an address or in a domain that a selector names; and
// people and groups who write from a further address in another domain.
func (p *Pass) otherSenders(rules []selector.Expr) []resolve.Sender {
	strangers := p.R.Strangers()
	list := []resolve.Sender{strangers.Outside, strangers.Inside}
	add := func(a address.Address) { list = append(list, p.R.Sender(a)) }
	for _, x := range rules {
		selector.Atoms(x, func(a *selector.Atom) {
			switch a.Kind {
			case selector.Is:
				add(a.Address)
			case selector.At:
				add(strangerAt(a.Domain))
			case selector.Below:
				add(strangerAt("stranger." + a.Domain))
			}
		})
	}
	return append(list, p.furtherAddresses()...)
}

func strangerAt(domain string) address.Address {
	a, err := address.Parse("no-such-stranger@" + domain)
	if err != nil {
		a, _ = address.Parse("no-such-stranger@outside.example")
	}
	return a
}

// furtherAddresses returns people and groups who write from an address that is in
// another domain than their main one.
func (p *Pass) furtherAddresses() []resolve.Sender {
	if p.further == nil {
		p.further = []resolve.Sender{}
		add := func(main address.Address, also []address.Address) {
			for _, a := range also {
				if p.E.Domain(a.Domain()) != p.E.Domain(main.Domain()) {
					p.further = append(p.further, p.R.Sender(a))
				}
			}
		}
		for id := range estate.ID(p.E.Groups()) {
			g := p.E.Group(id)
			add(g.Address, g.Also)
		}
		for i := range p.E.People() {
			person := p.E.Person(p.E.PersonID(i))
			add(person.Address, person.Also)
		}
	}
	return p.further
}
