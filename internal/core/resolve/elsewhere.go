package resolve

import (
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
)

// Elsewhere returns everyone who has an outcome of a message to a group by ways that do
// not lead over another one, in no order. Without a sender (nil), all nested gates admit.
// It passes over that groups may send nobody their own message back.
func (r *Resolver) Elsewhere(group, without estate.ID, s *Sender, m Message) []PersonOutcome {
	return r.laid(&Delivery{Group: group, message: m, Ways: r.Ways(group, without, s, m)})
}

// Ways returns the best way of a message to every group that it reaches by ways that do not
// lead over another one, the best ones first. Without a sender (nil), all nested gates admit.
func (r *Resolver) Ways(group, without estate.ID, s *Sender, m Message) []Way {
	return r.WaysOver(group, func(over estate.ID) bool { return over != without }, s, m)
}

// WaysOver is Ways by ways that lead over some groups alone.
func (r *Resolver) WaysOver(group estate.ID, over func(estate.ID) bool, s *Sender, m Message) []Way {
	r.layout.over = over
	ways := r.findWays(group, s, m)
	r.layout.over = nil
	return ways
}

// OwnMessage returns what Elsewhere does without leaving a group out, if everybody were
// the sender themselves and all gates treated them as they treat s.
func (r *Resolver) OwnMessage(group estate.ID, s Sender, m Message) []PersonOutcome {
	return r.laid(&Delivery{Group: group, message: m, Ways: r.findWays(group, &s, m), own: true})
}

// laid returns everyone who has an outcome of a delivery whose ways are found.
func (r *Resolver) laid(d *Delivery) []PersonOutcome {
	t := &r.tally
	t.prepare(r.e.People())
	var nobodies map[estate.ID]int32
	for i := range d.Ways {
		r.layOut(d, int32(i), &nobodies)
	}
	list := make([]PersonOutcome, len(t.touched))
	for i, person := range t.touched {
		list[i] = PersonOutcome{r.e.PersonID(int(person)), r.final(t.best[person])}
	}
	t.clear()
	return list
}

// Nobodies returns the inside addresses that do not exist and that a message to a group
// comes to.
func (r *Resolver) Nobodies(group estate.ID) []estate.ID {
	var list []estate.ID
	for _, way := range r.findWays(group, nil, Message{}) {
		for _, entry := range r.e.Entries(way.Group) {
			if entry.Member.IsNobody() && !slices.Contains(list, entry.Member) {
				list = append(list, entry.Member)
			}
		}
	}
	return list
}
