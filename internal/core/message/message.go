// Package message says what becomes of a message: may it be written in a group's
// name, what says the gate, who hears of it, who gets it. It is the one forward model
// that explanations, predictions and what is inferred from them share.
package message

import (
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// An Envelope is a message on its way.
type Envelope struct {
	From    address.Address // claimed (RFC 5322 From)
	By      address.Address // who submits it in the name of the group From, or the zero Address
	To      address.Address // as it is written
	Message resolve.Message
}

// A Reason is what decides about a message.
type Reason uint8

// The reasons, in the order in which they are looked at.
const (
	ByGate        Reason = iota // the group's gate
	NoGroup                     // it is submitted in the name of what is no group
	NoSendAs                    // who submits it may not write in the group's name
	NoProof                     // they may, and cannot show that the name is theirs to use
	Leaves                      // it is for an address outside of the estate
	NoSuchAddress               // it is for an inside address that belongs to nobody (RFC 3463, 5.1.1)
	ToPerson                    // it is for a person: no gate guards it
	ByEdge                      // a rule of the edge
)

// A Fate is what becomes of a message.
type Fate struct {
	Reason  Reason
	Verdict estate.Verdict
	Rule    int // of the gate that decides, from 1; 0: none
	Edge    int // the rule of the edge that decides, from 1; 0: none
	Sender  resolve.Sender
	To      estate.ID // the group or person that it is for, or None

	// Where it is submitted in a group's name: what the group says to that.
	SendAs     estate.SendAs
	SendAsRule int // from 1; 0: none
	Proof      resolve.Proof

	// Gate is what the edge and the group's gate say, also to what does not get there.
	Gate resolve.Decision

	r        *resolve.Resolver
	message  resolve.Message
	delivery *resolve.Delivery
}

// Of returns what becomes of a message by an estate.
func Of(r *resolve.Resolver, e Envelope) *Fate {
	f := &Fate{Sender: r.Sender(e.From), To: estate.None, Verdict: estate.Refuse, r: r, message: e.Message}
	f.address(e.To)
	if e.By.IsValid() {
		f.sendAs(r.Sender(e.By))
	}
	return f
}

// address decides by the recipient of the message.
func (f *Fate) address(to address.Address) {
	e := f.r.Estate()
	id, ok := e.Find(to)
	switch {
	case !ok && e.InsideDomain(to.Domain()):
		f.Reason = NoSuchAddress
	case !ok:
		f.Reason, f.Verdict = Leaves, estate.Admit
	case e.IsPerson(id):
		f.Reason, f.Verdict, f.To = ToPerson, estate.Admit, id
		if edge := f.r.Gate(estate.None).Judge(f.Sender, f.message); edge.Rule > 0 {
			f.Reason, f.Verdict, f.Edge = ByEdge, edge.Verdict, edge.Rule
		}
	default:
		f.Reason, f.To = ByGate, id
		f.Gate = f.r.Gate(id).Post(f.Sender, f.message)
		f.Verdict, f.Rule, f.Edge = f.Gate.Verdict, f.Gate.Rule, f.Gate.Edge
		if f.Edge > 0 {
			f.Reason = ByEdge
		}
	}
}

// sendAs refuses what may not be written in a group's name.
func (f *Fate) sendAs(by resolve.Sender) {
	group := f.Sender.ID
	if group == estate.None || !f.r.Estate().IsGroup(group) {
		f.refuse(NoGroup)
		return
	}
	f.SendAs, f.SendAsRule = f.r.Rights(group).SendAs(by)
	f.Proof = f.r.Rights(group).Proof(by.ID)
	switch {
	case f.SendAs == estate.NoSendAs:
		f.refuse(NoSendAs)
	case f.Proof == resolve.ProofImpossible:
		f.refuse(NoProof)
	}
}

func (f *Fate) refuse(reason Reason) {
	f.Reason, f.Verdict, f.Rule, f.Edge = reason, estate.Refuse, 0, 0
}

// Arrives reports whether the message gets to the one that it is for.
func (f *Fate) Arrives() bool { return f.Reason == ByGate || f.Reason == ToPerson }

// Because returns what the rule that decides says to the sender, or "".
func (f *Fate) Because() string {
	return f.r.Gate(f.To).Because(resolve.Decision{Rule: f.Rule, Edge: f.Edge})
}

// Delivery returns who gets the message of a group, whether or not the gate admits
// it; nil where it is for no group.
func (f *Fate) Delivery() *resolve.Delivery {
	if f.delivery == nil && f.To != estate.None && f.r.Estate().IsGroup(f.To) {
		f.delivery = f.r.Deliver(resolve.Query{Group: f.To, Sender: &f.Sender, Message: f.message})
	}
	return f.delivery
}

// Outcomes returns what people get of the message, as it is: nothing where it is not
// admitted.
func (f *Fate) Outcomes() map[estate.ID]resolve.Outcome {
	outcomes := map[estate.ID]resolve.Outcome{}
	e := f.r.Estate()
	switch {
	case f.Verdict != estate.Admit:
	case f.Reason == ToPerson:
		outcomes[f.To] = f.personal()
	case f.Reason == ByGate:
		for _, recipient := range f.Delivery().Recipients() {
			if e.IsPerson(recipient.ID) {
				outcomes[recipient.ID] = recipient.Outcome
			}
		}
	}
	return outcomes
}

// personal returns what a person gets of a message to their own address.
func (f *Fate) personal() resolve.Outcome {
	if f.r.Estate().Person(f.To).Mailbox != estate.MailboxOpen {
		return resolve.Undeliverable
	}
	return resolve.Inbox
}

// AutoAnswered reports whether the author gets the automatic answer of the group: an
// outside author of an admitted post that no program sent and that is proven (RFC 3834,
// section 2).
func (f *Fate) AutoAnswered() bool {
	return f.Reason == ByGate && f.Verdict == estate.Admit && !f.Sender.Inside && !f.message.Automatic &&
		!f.message.Unproven && f.r.Estate().Group(f.To).AutoAnswer != ""
}

// Heard reports whether the sender is notified that the gate holds or refuses the
// message, as notify-sender says, or that the edge refuses it. A refusal is the answer to the client that
// delivers it. A notice that it is held is a message of its own, which neither a program gets (RFC 3834,
// section 2) nor somebody whose address may be forged.
func (f *Fate) Heard() bool {
	if f.Reason == ByEdge {
		return f.Verdict == estate.Refuse
	}
	if f.Reason != ByGate {
		return false
	}
	return Tells(f.Gate, f.message, func() bool { return Notified(f.r, f.To, f.Sender, f.message) })
}

// Notified reports whether notify-sender of a group names a sender, with the message as it is.
func Notified(r *resolve.Resolver, group estate.ID, s resolve.Sender, m resolve.Message) bool {
	return r.Eval(group, r.Estate().Group(group).NotifySender.Selector, s, m)
}

// Tells reports whether a sender hears what has become of their message: notified asks whether
// notify-sender names them. The edge asks nothing about that.
func Tells(d resolve.Decision, m resolve.Message, notified func() bool) bool {
	switch {
	case d.Edge > 0:
		return d.Verdict == estate.Refuse
	case d.Verdict != estate.Hold && d.Verdict != estate.Refuse, d.Verdict == estate.Hold && (m.Unproven || m.Automatic):
		return false
	}
	return notified()
}
