package hazard

import (
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
)

var noSuchAddress = Check{
	byAddress: true,
	Name:      "no-such-address",
	Severity:  High,
	Trap:      "an inside address that does not exist is listed or named",
	Doc: `A member, owner or moderator, an address in a selector, in the edge or in replies-to is in one of the estate's
domains, but neither a person nor a group has it: a typing error, or somebody who has left. Mail to it bounces,
and the next person to get the address gets what is meant for somebody else.`,
	Cure: "Correct the address, or remove it.",
	Run:  func(p *Pass, id estate.ID, _ *estate.Group) { p.unknownIn(id) },
	edge: func(p *Pass) { p.unknownIn(estate.None) },
}

// unknownIn reports the inside addresses that do not exist and that a group or the edge
// names, each once.
func (p *Pass) unknownIn(id estate.ID) {
	if p.unknown == nil {
		p.unknown = map[estate.ID][]estate.Unknown{}
		for _, u := range p.E.Unknown() {
			p.unknown[u.Group] = append(p.unknown[u.Group], u)
		}
	}
	reported := map[string]bool{}
	for _, u := range p.unknown[id] {
		if key := p.E.Key(u.Address); reported[key] {
			continue
		} else {
			reported[key] = true
		}
		p.report(Finding{Group: id, Address: u.Address.String(), Place: u.Place, text: func() (says, fix string) {
			switch u.Role {
			case "edge":
				says = "The edge names " + u.Address.String()
			case "gate", "send-as", "access", "replies-to":
				says = "The " + u.Role + " of " + p.name(id) + " names " + u.Address.String()
			case "owner", "moderator":
				says = p.name(id) + " lists " + u.Address.String() + " as " + u.Role
			default:
				says = p.name(id) + " lists " + u.Address.String()
			}
			return says + ", which does not exist.", p.meant(u.Address) + "Correct or remove it."
		}})
	}
}

// mostGuesses is for how many unknown addresses of an estate a look is taken at all others.
const mostGuesses = 100

// meant asks whether an address that does not exist was probably one that does.
func (p *Pass) meant(a address.Address) string {
	if len(p.E.Unknown()) > mostGuesses {
		return ""
	}
	if near := nearest.Words(a.String(), p.E.Addresses, 1); len(near) > 0 {
		return "Did you mean " + near[0] + "? "
	}
	return ""
}
