package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
)

var nestedStops = Check{
	byAddress: true,
	Name:      "nested-stops",
	mailed:    true,
	Severity:  High,
	Trap:      "a nested group's gate refuses somebody that this group admits",
	Doc: `A nested group asks its own gate again. If the outer gate admits a sender and the inner one refuses them,
the members of the nested group do not get the message by this way, and nothing tells them. It is reported where
at least one of them gets it by no other way. If only a suspect, automatic or otherwise unusual message is turned
away, the severity is low.`,
	Cure: "Let the nested group's gate admit those senders, for example with \"admit in\" and the address of a group " +
		"that they are in.",
	Run: func(p *Pass, id estate.ID, _ *estate.Group) { p.nested(id, estate.Refuse, "refuses") },
}
