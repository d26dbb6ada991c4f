package hazard

import (
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
)

var noSuchAddress = Check{
	Name:     "no-such-address",
	Severity: High,
	Trap:     "an inside address that does not exist is listed or named",
	Doc: `A member, owner or moderator, or an address in a selector, is in one of the estate's domains, but
neither a person nor a group has it: a typing error, or somebody who has left. Mail to it bounces, and
the next person to get the address gets what is meant for somebody else.`,
	Cure: "Correct the address, or remove it.",
	Run: func(p *Pass, id estate.ID, _ *estate.Group) {
		if p.unknown == nil {
			p.unknown = map[estate.ID][]estate.Unknown{}
			for _, u := range p.E.Unknown() {
				p.unknown[u.Group] = append(p.unknown[u.Group], u)
			}
		}
		for _, u := range p.unknown[id] {
			p.report(Finding{Group: id, Address: u.Address.String(), Place: u.Place, text: func() (says, fix string) {
				says = p.name(id) + " lists " + u.Address.String()
				switch u.Role {
				case "owner", "moderator":
					says += " as " + u.Role
				case "gate", "send-as", "access":
					says = "The " + u.Role + " of " + p.name(id) + " names " + u.Address.String()
				}
				return says + ", which does not exist.", p.meant(u.Address) + "Correct or remove it."
			}})
		}
	},
}

// mostGuesses is for how many unknown addresses of an estate a look is taken at all others.
const mostGuesses = 100

// meant asks whether an address that does not exist was meant to be one that does.
func (p *Pass) meant(a address.Address) string {
	if len(p.E.Unknown()) > mostGuesses {
		return ""
	}
	if near := nearest.Words(a.String(), p.E.Addresses, 1); len(near) > 0 {
		return "Did you mean " + near[0] + "? "
	}
	return ""
}
