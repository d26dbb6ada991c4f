package hazard

import "yorvet.example/yorvet/internal/core/estate"

var nestedWaits = Check{
	Name:     "nested-waits",
	mailed:   true,
	Severity: Medium,
	Trap:     "a nested group's gate holds somebody that this group admits",
	Doc: `A nested group asks its own gate again. Whom the outer gate admits and the inner one holds waits for
the nested group's moderators: its members get the message late, or never.`,
	Cure: "Let the nested group's gate admit those senders.",
	Run: func(p *Pass, id estate.ID, _ *estate.Group) {
		p.nested(id, func(f flow) senders { return f.held }, "are held", "get it only once a moderator has looked")
	},
}
