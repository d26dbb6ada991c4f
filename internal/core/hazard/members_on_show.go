package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var membersOnShow = Check{
	Name:     "members-on-show",
	Severity: Low,
	Trap:     "anyone outside may see the member list",
	Doc:      `The access setting see-members is true for anyone outside, and the group has members.`,
	Cure:     "Set see-members to members or inside.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		rule := g.Access[estate.SeeMembers]
		if p.R.Members(id).IsEmpty() || !p.R.Eval(id, rule.Selector, p.R.Strangers().Outside, resolve.Message{}) {
			return
		}
		p.report(Finding{Group: id, Place: rule.Place, text: func() (says, fix string) {
			return "Anyone outside may see who is in " + p.name(id) + ".",
				"Set see-members to members or inside: " + p.command("group set", id, "access.see-members=members")
		}})
	},
}
