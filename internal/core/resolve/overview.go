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
	strangers := r.Strangers()
	o := Overview{
		Outside:  r.Post(group, strangers.Outside, Message{}).Verdict,
		Inside:   r.Post(group, strangers.Inside, Message{}).Verdict,
		Forged:   r.Post(group, strangers.Inside, Message{Unproven: true}).Verdict,
		Receives: r.Receives(group),
	}
	o.Posters[estate.Refuse] = r.e.People()
	for _, class := range r.Decided(group, Message{}) {
		people := r.peopleIn(class.Senders.GetCardinality(), class.Senders.Rank)
		o.Posters[estate.Refuse] -= people
		o.Posters[class.Verdict] += people
	}
	o.ForgedKnown = r.ForgedKnown(group)
	o.Invited = r.invited(group)
	if len(r.e.Group(group).SendAs) > 0 {
		none := r.SendAsClasses(group)[0]
		o.SendsAs = r.e.People() - r.peopleIn(none.GetCardinality(), none.Rank)
	}
	people, _ := r.Approvers(group)
	o.Approves = len(people)
	return o
}

// invited returns how many people get a calendar request to a group in their inbox.
func (r *Resolver) invited(group estate.ID) int {
	if r.survey != nil {
		return r.survey.Invited(group)
	}
	invited := 0
	for _, x := range r.Route(Query{Group: group, Message: Message{Invitation: true}}).Outcomes() {
		if x.Outcome == Inbox {
			invited++
		}
	}
	return invited
}

// peopleIn returns how many of a set are people, by its size and by how many of
// it are not above a number: groups come first.
func (r *Resolver) peopleIn(size uint64, rank func(uint32) uint64) int {
	if r.e.Groups() == 0 {
		return int(size)
	}
	return int(size - rank(uint32(r.e.Groups()-1)))
}

// ForgedKnown returns as how many known addresses, main ones and Claims, forged mail is admitted
// by a group.
func (r *Resolver) ForgedKnown(group estate.ID) int {
	m := Message{Unproven: true}
	among, claims := r.Forgeable(group, m)
	known := 0
	for _, class := range r.Decided(group, m) {
		if class.Verdict == estate.Admit {
			known += int(class.Senders.AndCardinality(among))
		}
	}
	for _, s := range claims {
		if r.Post(group, s, m).Verdict == estate.Admit {
			known++
		}
	}
	return known
}
