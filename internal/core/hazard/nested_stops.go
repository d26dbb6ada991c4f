package hazard

import "yorvet.example/yorvet/internal/core/estate"

var nestedStops = Check{
	Name:     "nested-stops",
	mailed:   true,
	Severity: High,
	Trap:     "a nested group's gate refuses somebody that this group admits",
	Doc: `A nested group asks its own gate again. Whom the outer gate admits and the inner one refuses is told
nothing, and neither are the members of the nested group: they just never see the message.`,
	Cure: "Let the nested group's gate admit those senders, such as by a rule \"admit in\" with the address of a group " +
		"of theirs.",
	Run: func(p *Pass, id estate.ID, _ *estate.Group) {
		p.nested(id, func(f flow) senders { return f.stopped }, "are refused", "miss it, and nobody is told")
	},
}
