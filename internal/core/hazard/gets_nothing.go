package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var getsNothing = Check{
	Name:     "gets-nothing",
	Severity: Medium,
	Trap:     "a member of a list who gets no copies",
	Doc: `Their copy is none or replies, and they get the mail by no other way. A list has no archive, so there is
nowhere to read it. (A forum or a mailbox has one.)`,
	Cure: "Set their copy to every or digest, or make the list a forum.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.Kind != estate.List {
			return
		}
		for _, m := range p.memberships() {
			if m.wish.Muting != resolve.NotMuted || wantsCopies(m.wish.Written) {
				continue
			}
			if outcome, _ := p.best(id, m.person); outcome != resolve.Nothing {
				continue // by another path
			}
			p.report(Finding{Group: id, Address: p.name(m.person), Place: m.place,
				text: func() (says, fix string) {
					return p.name(m.person) + " is a member of " + p.name(id) + " and gets no copy (copy " +
							m.wish.Written.String() + "), and a list has no archive to read.",
						p.copying(id, m.person)
				}})
		}
	},
}

// copying says how somebody gets copies of a group's mail: by their own membership, where that says
// otherwise, or else by the group.
func (p *Pass) copying(id, person estate.ID) string {
	if entry, _ := p.R.Membership(id, person); entry != nil && entry.Copy() != estate.CopyUnset {
		return "Ask them: their own setting says so. To send them copies: " +
			p.command("member set", id, p.name(person)+" --copy every")
	}
	if p.E.Group(id).OutsideCopy != estate.CopyUnset && !p.E.Inside(person) {
		return "Send copies to those outside, too: " + p.command("group set", id, "outside-copy=every")
	}
	return "Send copies to all: " + p.command("group set", id, "copy=every")
}
