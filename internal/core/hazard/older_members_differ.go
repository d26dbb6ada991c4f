package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var olderMembersDiffer = Check{
	Name:     "older-members-differ",
	Severity: Medium,
	Trap:     "new members get copies, members from before do not",
	Doc: `The group's copy is none or replies, and joiners sets copies for new members. Those who joined before
that, or were added otherwise, have a membership that says nothing: they get no copy.`,
	Cure: "Set copy to what joiners says, or write the copy into the older memberships.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		joiners := g.Joiners
		if joiners == estate.CopyUnset || !wantsCopies(joiners) || g.Kind == estate.Mailbox || g.Kind == estate.Roster {
			return
		}
		var older []estate.ID
		for _, m := range p.memberships() {
			if m.wish.Source == resolve.FromMembership || wantsCopies(m.wish.Written) {
				continue
			}
			switch outcome, _ := p.best(id, m.person); outcome {
			case resolve.Inbox, resolve.Digest, resolve.Undeliverable: // by another path
			default:
				older = append(older, m.person)
			}
		}
		if len(older) > 0 {
			p.report(Finding{Group: id, Place: where(g, "joiners"),
				text: func() (says, fix string) {
					return "New members of " + p.name(id) + " get copies; older members do not: " + p.names(older) + ".",
						"Set copy to " + joiners.String() + ", too: " + p.command("group set", id, "copy="+joiners.String())
				}})
		}
	},
}
