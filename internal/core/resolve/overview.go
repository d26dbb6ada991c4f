package resolve

import "yorvet.example/yorvet/internal/core/estate"

// An Overview is a group at a glance.
type Overview struct {
	Outside, Inside, Forged estate.Verdict         // for the strangers
	ForgedKnown             int                    // see Resolver.ForgedKnown
	Posters                 [estate.Drop + 1]int   // people, by verdict
	Receives                [Undeliverable + 1]int // by outcome, without a sender
	Invited                 int                    // people who get a calendar request in their inbox
	SendsAs                 int                    // people who may send as it
	Approves                int                    // people who can release a held message
}

// Overview returns a group at a glance.
func (r *Resolver) Overview(group estate.ID) Overview {
	gate := r.Gate(group)
	strangers := r.Strangers()
	o := Overview{
		Outside: gate.Post(strangers.Outside, Message{}).Verdict,
		Inside:  gate.Post(strangers.Inside, Message{}).Verdict,
		Forged:  gate.Post(strangers.Inside, Message{Unproven: true}).Verdict,
	}
	o.Posters[estate.Refuse] = r.e.People()
	for _, class := range gate.Decided(Message{}) {
		people := r.peopleIn(class.Senders.GetCardinality(), class.Senders.Rank)
		o.Posters[estate.Refuse] -= people
		o.Posters[class.Verdict] += people
	}
	o.ForgedKnown = gate.ForgedKnown()
	if s := r.survey; s != nil {
		o.Receives, o.Invited = s.Counts(group), s.Invited(group)
	} else {
		o.Receives, o.Invited = r.Flow(group, Message{}).Counts(), r.Flow(group, Message{Invitation: true}).Counts()[Inbox]
	}
	if len(r.e.Group(group).SendAs) > 0 {
		none := r.Rights(group).Classes()[0]
		o.SendsAs = r.e.People() - r.peopleIn(none.GetCardinality(), none.Rank)
	}
	people, _ := r.Approvers(group)
	o.Approves = len(people)
	return o
}

// peopleIn returns how many of a set are people, by its size and by how many of
// it are not above a number: groups come first.
func (r *Resolver) peopleIn(size uint64, rank func(uint32) uint64) int {
	if r.e.Groups() == 0 {
		return int(size)
	}
	return int(size - rank(uint32(r.e.Groups()-1)))
}
