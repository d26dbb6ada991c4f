package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var noSuchAddress = Check{
	Name:     "no-such-address",
	Severity: High,
	Trap:     "an inside address that belongs to nobody is listed or named",
	Doc: `A member, owner or moderator, or an address in a selector, is in one of the estate's domains, but
neither a person nor a group has it: a slip of the pen, or somebody who has left. Mail to it bounces, and
whoever registers the address next gets what is meant for somebody else.`,
	Cure: "Mend the address, or take it out.",
	Run: func(p *Pass) {
		for _, u := range p.E.Unknown() {
			if p.concerns != nil && !p.concerns(u.Group) {
				continue
			}
			says := u.Address.String() + " belongs to nobody, and is listed as " + u.Role + " of " + p.name(u.Group) + "."
			switch u.Role {
			case "gate", "voice", "access":
				says = u.Address.String() + " belongs to nobody, and is named in the " + u.Role + " of " + p.name(u.Group) + "."
			}
			p.report(Finding{Group: u.Group, Address: u.Address.String(), Place: u.Place, Says: says, Fix: "Mend the address, or take it out."})
		}
	},
}

var forgeable = Check{
	Name:     "forgeable",
	Severity: High,
	Trap:     "whoever claims the right address gets in where a stranger does not",
	Doc: `Selectors such as members, an address or a domain go by the address that a message claims, proven or
not; real systems do the same. If nothing refuses unproven messages first, a forged sender gets in:

    gate:
      - admit director@kelpmere.example     # or anybody who says so`,
	Cure: "Begin the gate with \"refuse unproven\" or \"hold unproven\", or ask for \"inside and ...\".",
	Run: func(p *Pass) {
		unproven := resolve.Message{Unproven: true}
		p.mailed(func(id estate.ID, g *estate.Group) {
			if p.R.Judge(id, p.R.Strangers().Outside, resolve.Message{}).Verdict == estate.Admit {
				return
			}
			classes := p.posters(id, unproven)
			for rule := 1; rule < len(classes); rule++ {
				if g.Gate[rule-1].Verdict != estate.Admit || classes[rule].IsEmpty() {
					continue
				}
				victim := p.first(classes[rule])
				p.reportForgeable(id, rule, resolve.Sender{Address: p.E.Address(victim)}, int(classes[rule].GetCardinality())-1)
				return
			}
			for _, s := range p.furtherAddresses() {
				if d := p.R.Judge(id, s, unproven); d.Verdict == estate.Admit {
					p.reportForgeable(id, d.Rule, s, 0)
					return
				}
			}
		})
	},
}

func (p *Pass) reportForgeable(id estate.ID, rule int, victim resolve.Sender, others int) {
	says := "Anybody who claims to be " + victim.Address.String()
	if others > 0 {
		says += " (or one of " + count(others, "other", "others") + ")"
	}
	p.report(Finding{Group: id, Place: p.E.Group(id).Gate[rule-1].Place,
		Witness: Witness{From: victim.Address, Message: resolve.Message{Unproven: true}},
		Says:    says + " gets into " + p.name(id) + " without proof; a stranger who says who they are does not.",
		Fix:     "Begin the gate with \"refuse unproven\"."})
}

var twiceAMember = Check{
	Name:     "twice-a-member",
	Severity: Low,
	Trap:     "one person has two entries in one group",
	Doc: `Only the first entry that names somebody counts. What the second says (a copy, a pause) is without
effect, and whoever changes it wonders why.`,
	Cure: "Take the second entry out.",
	Run: func(p *Pass) {
		p.groups(func(id estate.ID, g *estate.Group) {
			first := map[estate.ID]estate.Place{}
			reported := map[estate.ID]bool{}
			for _, entry := range p.E.Entries(id) {
				if !p.E.IsPerson(entry.Member) {
					continue
				}
				place, twice := first[entry.Member]
				if !twice {
					first[entry.Member] = entry.Place
					continue
				}
				if !reported[entry.Member] {
					reported[entry.Member] = true
					p.report(Finding{Group: id, Address: p.name(entry.Member), Place: entry.Place,
						Says: p.name(entry.Member) + " is listed twice in " + p.name(id) + "; what counts is the entry at " + p.E.Settings().Position(place) + ".",
						Fix:  "Take this entry out."})
				}
			}
		})
	},
}
