package resolve

import (
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
)

// Elsewhere returns everyone who has an outcome of a message to a group by paths that do
// not lead over another one, in no order. Without a sender (nil), all nested gates admit.
// It passes over that groups may send nobody their own message back.
func (r *Resolver) Elsewhere(group, without estate.ID, s *Sender, m Message) []PersonOutcome {
	return r.laid(&Delivery{Group: group, message: m, Paths: r.Paths(group, without, s, m)})
}

// Paths returns the best path of a message to every group that it reaches by paths that do not
// lead over another one, the best ones first. Without a sender (nil), all nested gates admit.
func (r *Resolver) Paths(group, without estate.ID, s *Sender, m Message) []Path {
	return r.PathsOver(group, func(over estate.ID) bool { return over != without }, s, m)
}

// PathsOver is Paths by paths that lead over some groups alone.
func (r *Resolver) PathsOver(group estate.ID, over func(estate.ID) bool, s *Sender, m Message) []Path {
	r.layout.over = over
	paths := r.findPaths(group, s, m)
	r.layout.over = nil
	return paths
}

// OwnMessage returns what Elsewhere does without leaving a group out, if everybody were
// the sender themselves and all gates treated them as they treat s.
func (r *Resolver) OwnMessage(group estate.ID, s Sender, m Message) []PersonOutcome {
	return r.laid(&Delivery{Group: group, message: m, Paths: r.findPaths(group, &s, m), own: true})
}

// laid returns everyone who has an outcome of a delivery whose paths are found.
func (r *Resolver) laid(d *Delivery) []PersonOutcome {
	t := &r.tally
	t.prepare(r.e.People())
	var nobodies map[estate.ID]int32
	for i := range d.Paths {
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
	for _, path := range r.findPaths(group, nil, Message{}) {
		for _, entry := range r.e.Entries(path.Group) {
			if entry.Member.IsNobody() && !slices.Contains(list, entry.Member) {
				list = append(list, entry.Member)
			}
		}
	}
	return list
}
