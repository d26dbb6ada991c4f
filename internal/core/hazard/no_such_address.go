package hazard

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
