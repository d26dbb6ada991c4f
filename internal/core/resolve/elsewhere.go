package resolve

import "yorvet.example/yorvet/internal/core/estate"

// Elsewhere returns everyone who has an outcome of a message to a group by ways that do
// not lead over another one, in no order. Without a sender (nil), all nested gates admit.
// It passes over that groups may send nobody their own message back.
func (r *Resolver) Elsewhere(group, without estate.ID, s *Sender, m Message) []PersonOutcome {
	r.layout.without, r.layout.leaveOut = without, true
	d := &Delivery{Group: group, message: m}
	d.Ways = r.findWays(group, s, m)
	r.layout.leaveOut = false
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
