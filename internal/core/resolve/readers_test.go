package resolve

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// What readers outside get of a sender's message is what everybody's delivery says of them, by the
// same path and membership.
func TestReaders(t *testing.T) {
	compared := 0
	for seed := range 600 {
		random := rand.New(rand.NewPCG(uint64(seed), 33))
		n := randomEstate(random)
		r := New(n.build(t), estate.Day(n.today))
		var outside []estate.ID
		for i := range r.e.People() {
			if id := r.e.PersonID(i); !r.e.Inside(id) {
				outside = append(outside, id)
			}
		}
		for group := range estate.ID(len(n.groups)) {
			m := Message{Unproven: random.IntN(4) == 0, Invitation: random.IntN(3) == 0}
			x := r.Readers(group, outside, m)
			for range 3 {
				p := n.people[random.IntN(len(n.people))]
				s := r.Sender(address.MustParse(p.addresses[0]))
				if !r.e.Inside(s.ID) {
					continue // whose own message may not come back
				}
				want := r.Deliver(Query{Group: group, Sender: &s, Message: m})
				got := x.Deliver(s)
				said := func(d *Delivery) (list []string) {
					for _, one := range d.Recipients {
						if slices.Contains(outside, one.ID) {
							list = append(list, fmt.Sprint(one.ID, one.Outcome, d.Path(one).Group))
						}
					}
					slices.Sort(list)
					return list
				}
				if !slices.Equal(said(want), said(got)) {
					t.Fatalf("estate %d: %s to g%d, %+v: %v, want %v", seed, p.addresses[0], group, m, said(got), said(want))
				}
				compared += len(said(got))
			}
		}
	}
	if compared < 500 {
		t.Errorf("only %d were compared", compared)
	}
}
