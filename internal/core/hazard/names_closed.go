package hazard

import (
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

var namesClosed = Check{
	byAddress: true,
	Name:      "names-closed",
	Severity:  Medium,
	Trap:      "a rule names a person whose mailbox is closed or missing",
	Doc: `A gate, send-as or access names a person by address, and their mailbox is closed or there is none: somebody
who has left. The right is left over, and the next to get the address has it.`,
	Cure: "Remove the address from the rule, or name the person who does the work now.",
	Run:  func(p *Pass, id estate.ID, _ *estate.Group) { p.closedIn(id) },
	edge: func(p *Pass) { p.closedIn(estate.None) },
}

// closedIn reports the people that the rules of a group or the edge name and whose
// mailbox is closed or none.
func (p *Pass) closedIn(id estate.ID) {
	reported := map[estate.ID]bool{}
	p.eachNamed(id, func(a address.Address, place estate.Place) {
		person, ok := p.E.Find(a)
		if !ok || !p.E.IsPerson(person) || reported[person] {
			return
		}
		state := p.E.Person(person).Mailbox
		if state != estate.MailboxClosed && state != estate.MailboxNone {
			return
		}
		reported[person] = true
		p.report(Finding{Group: id, Address: p.name(person), Place: place, text: func() (says, fix string) {
			says = "A rule of the edge"
			if id != estate.None {
				says = "A rule of " + p.name(id)
			}
			says += " names " + p.name(person) + ", whose mailbox is closed."
			if state == estate.MailboxNone {
				says = says[:len(says)-len("whose mailbox is closed.")] + "who has no mailbox."
			}
			return says, "Remove the address from the rule."
		}})
	})
}
