package resolve

import (
	"math/rand/v2"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
)

// What people get of the mail of everybody at once is what the delivery of each one says.
func TestFlow(t *testing.T) {
	compared := 0
	for seed := range 600 {
		random := rand.New(rand.NewPCG(uint64(seed), 33))
		n := randomEstate(random)
		r := New(n.build(t), estate.Day(n.today))
		for group := range estate.ID(len(n.groups)) {
			m := Message{Unproven: random.IntN(4) == 0, Invitation: random.IntN(3) == 0}
			f := r.Flow(group, m)
			d := f.Avoiding(estate.None, m)
			d.Send(r.everyone(), nil)
			s := r.Sender(r.e.Address(r.e.PersonID(random.IntN(r.e.People()))))
			gets := map[estate.ID]Outcome{}
			for _, one := range r.Deliver(Query{Group: group, Sender: &s, Message: m, Author: NoAuthor}).Recipients() {
				gets[one.ID] = one.Outcome
			}
			for i := range r.e.People() {
				person := r.e.PersonID(i)
				want, any := gets[person]
				outlook := d.Outlook(person, estate.None)
				if (outlook != nil) != any || any && (outlook[want] == nil || !outlook[want].Contains(uint32(s.ID))) {
					t.Fatalf("estate %d: %s gets %s, %t of g%d from %s, not with all others: %v", seed, r.e.Address(person), want, any,
						group, s.Address, outlook)
				}
				if !any {
					continue
				}
				for other, set := range outlook {
					if Outcome(other) != want && set != nil && set.Contains(uint32(s.ID)) {
						t.Fatalf("estate %d: %s gets %s and %s of g%d from %s", seed, r.e.Address(person), want, Outcome(other), group,
							s.Address)
					}
				}
				compared++
			}
		}
	}
	if compared < 3_000 {
		t.Errorf("only %d were compared", compared)
	}
}

// Mail of all people and groups at once takes the paths that mail of each of them takes.
func TestDetour(t *testing.T) {
	open, waiting := 0, 0
	for seed := range 400 {
		random := rand.New(rand.NewPCG(uint64(seed), 34))
		n := randomEstate(random)
		r := New(n.build(t), estate.Day(n.today))
		for group := range estate.ID(len(n.groups)) {
			m := Message{Unproven: random.IntN(4) == 0, Suspect: random.IntN(4) == 0}
			avoid := estate.ID(random.IntN(len(n.groups)))
			if avoid == group || random.IntN(2) == 0 {
				avoid = estate.None
			}
			f := r.Flow(group, m)
			d := f.Avoiding(avoid, m)
			d.Send(r.everyone(), nil)
			for id := range estate.ID(r.e.Groups() + r.e.People()) {
				states := d.States(r.Sender(r.e.Address(id)))
				for _, path := range f.Paths {
					state, there := states[path.Group]
					if there != d.Reaches(path.Group) {
						t.Fatalf("estate %d: a path from g%d to g%d without %d: %t", seed, group, path.Group, avoid, there)
					}
					if !there {
						continue
					}
					opened, passed := d.From(path.Group)
					isOpen, isWaiting := opened.Contains(uint32(id)), passed.Contains(uint32(id)) && !opened.Contains(uint32(id))
					if isOpen != (state == PathOpen) || isWaiting != (state == PathWaiting) {
						t.Fatalf("estate %d: from %s by g%d to g%d without %d: %s, of all open %t, waiting %t", seed,
							r.e.Address(id), group, path.Group, avoid, state, isOpen, isWaiting)
					}
					if path.Group != group && isOpen {
						open++
					}
					if isWaiting {
						waiting++
					}
				}
			}
		}
	}
	if open < 1000 || waiting < 100 {
		t.Errorf("only %d paths were open, %d waited", open, waiting)
	}
}
