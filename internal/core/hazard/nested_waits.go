package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
)

var nestedWaits = Check{
	byAddress: true,
	Name:      "nested-waits",
	mailed:    true,
	Severity:  Medium,
	Trap:      "a nested group's gate holds somebody that this group admits",
	Doc: `A nested group asks its own gate again. If the outer gate admits a sender and the inner one holds their
message, it waits for the nested group's moderators: its members get it late, or never. It is reported where at
least one of them gets it by no other way.`,
	Cure: "Let the nested group's gate admit those senders.",
	Run:  func(p *Pass, id estate.ID, _ *estate.Group) { p.nested(id, estate.Hold, "holds") },
}
