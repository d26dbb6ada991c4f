package hazard

import "yorvet.example/yorvet/internal/core/estate"

var noSuchAddress = Check{
	Name:     "no-such-address",
	Severity: High,
	Trap:     "an inside address that belongs to nobody is listed or named",
	Doc: `A member, owner or moderator, or an address in a selector, is in one of the estate's domains, but
neither a person nor a group has it: a slip of the pen, or somebody who has left. Mail to it bounces, and
whoever registers the address next gets what is meant for somebody else.`,
	Cure: "Correct the address, or take it out.",
	Run: func(p *Pass, id estate.ID, _ *estate.Group) {
		if p.unknown == nil {
			p.unknown = map[estate.ID][]estate.Unknown{}
			for _, u := range p.E.Unknown() {
				p.unknown[u.Group] = append(p.unknown[u.Group], u)
			}
		}
		for _, u := range p.unknown[id] {
			p.report(Finding{Group: id, Address: u.Address.String(), Place: u.Place, text: func() (says, fix string) {
				how := "listed as " + u.Role + " of "
				switch u.Role {
				case "gate", "send-as", "access":
					how = "named in the " + u.Role + " of "
				}
				return u.Address.String() + " belongs to nobody, and is " + how + p.name(id) + ".",
					"Correct the address, or take it out."
			}})
		}
	},
}
