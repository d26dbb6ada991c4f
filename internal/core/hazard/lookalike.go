package hazard

import (
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

var lookalike = Check{
	byAddress: true,
	Name:      "lookalike",
	Severity:  Medium,
	Trap:      "an outside address whose domain looks like one of yours, or like none",
	Doc: `A member, owner, moderator or an address in a selector is outside, and its domain has no dot, or is one letter
away from a domain of the estate: a typing error, or somebody who wants to be taken for one of you. Mail to it
goes to strangers, or nowhere.`,
	Cure: "Correct the address, or remove it.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		l := lookalikes{p: p, group: id, reported: map[string]bool{}}
		for _, entry := range p.E.Entries(id) {
			if p.E.IsPerson(entry.Member) && !p.E.Inside(entry.Member) {
				l.look(p.E.Address(entry.Member), entry.Place)
			}
		}
		for _, list := range [][]estate.Listed{g.Owners, g.Moderators} {
			for _, one := range list {
				if p.E.IsPerson(one.ID) {
					l.look(p.E.Address(one.ID), one.Place)
				}
			}
		}
		if g.RepliesToAt.IsValid() {
			l.look(g.RepliesToAt, where(g, "replies-to"))
		}
		p.eachNamed(id, func(a address.Address, place estate.Place) { l.look(a, place) })
	},
	edge: func(p *Pass) {
		l := lookalikes{p: p, group: estate.None, reported: map[string]bool{}}
		p.eachNamed(estate.None, func(a address.Address, place estate.Place) { l.look(a, place) })
	},
}

// eachNamed visits the addresses that the gate, send-as and access of a group name, or the
// edge.
func (p *Pass) eachNamed(id estate.ID, visit func(address.Address, estate.Place)) {
	look := func(x selector.Expr, place estate.Place) {
		selector.Atoms(x, func(a *selector.Atom) {
			if a.Kind == selector.Is {
				visit(a.Address, place)
			}
		})
	}
	if id == estate.None {
		for _, rule := range p.E.Settings().Edge {
			look(rule.Selector, rule.Place)
		}
		return
	}
	for _, rule := range p.E.Group(id).AllSelectors {
		look(rule.Selector, rule.Place)
	}
}

// lookalikes looks at the addresses of one group, or of the edge.
type lookalikes struct {
	p        *Pass
	group    estate.ID
	reported map[string]bool
}

func (l *lookalikes) look(a address.Address, place estate.Place) {
	key := l.p.E.Key(a)
	if l.reported[key] || l.p.E.InsideDomain(a.Domain()) {
		return
	}
	says := l.p.doubt(a.Domain())
	if says == "" {
		return
	}
	l.reported[key] = true
	group := l.group
	l.p.report(Finding{Group: group, Address: a.String(), Place: place, text: func() (string, string) {
		where := "The edge"
		if group != estate.None {
			where = l.p.name(group)
		}
		return where + " names " + a.String() + ", whose domain " + says + ".", "Correct or remove it."
	}})
}

// doubt says what is odd about an outside domain, or "".
func (p *Pass) doubt(domain string) string {
	if known, ok := p.doubts[domain]; ok {
		return known
	}
	says := ""
	if !strings.Contains(domain, ".") {
		says = "has no dot"
	}
	for _, d := range p.E.Settings().Domains {
		own, err := address.ParseDomain(d.Name)
		if says == "" && err == nil && oneEditAway(own, domain) {
			says = "looks like " + d.Name
		}
	}
	p.doubts[domain] = says
	return says
}

// oneEditAway reports whether a letter inserted, deleted or exchanged makes one text of
// another.
func oneEditAway(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 1 || a == b {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	if len(a) == len(b) {
		return a[i+1:] == b[i+1:]
	}
	return a[i:] == b[i+1:]
}
