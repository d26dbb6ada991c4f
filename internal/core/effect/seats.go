package effect

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// seats number everybody of both estates who can get something: people of the new one by their
// index, then those who are gone, then addresses that belong to nobody, each once.
type seats struct {
	c      *comparison
	nobody map[string]int // by key
	names  []address.Address
	folded map[int]string // addresses in lower case
}

func (s *seats) count() int { return s.c.b.People() + s.c.a.People() + len(s.names) }

// of returns the seat of a person, or of an address that belongs to nobody.
func (s *seats) of(id estate.ID, isOld bool) int {
	e := s.c.b
	if isOld {
		e = s.c.a
	}
	if !id.IsNobody() {
		return s.person(id, isOld)
	}
	a := e.Address(id)
	if other, ok := s.c.b.Exact(a); ok && s.c.b.IsPerson(other) {
		return s.person(other, false)
	}
	if other, ok := s.c.a.Exact(a); ok && s.c.a.IsPerson(other) {
		return s.person(other, true)
	}
	key := s.c.b.Key(a)
	seat, ok := s.nobody[key]
	if !ok {
		if s.nobody == nil {
			s.nobody = map[string]int{}
		}
		seat = s.count()
		s.nobody[key] = seat
		s.names = append(s.names, a)
	}
	return seat
}

func (s *seats) person(id estate.ID, isOld bool) int {
	if !isOld {
		return s.c.b.PersonIndex(id)
	}
	if to := s.c.toNew[id]; to != estate.None {
		return s.c.b.PersonIndex(to)
	}
	return s.c.b.People() + s.c.a.PersonIndex(id)
}

// address returns the address of the one who has a seat, as the estates write it.
func (s *seats) address(seat int) address.Address {
	if seat < s.c.b.People() {
		return s.c.b.Address(s.c.b.PersonID(seat))
	}
	if seat -= s.c.b.People(); seat < s.c.a.People() {
		return s.c.a.Address(s.c.a.PersonID(seat)) // though it may be an alias of a successor now
	}
	return s.c.shown(s.names[seat-s.c.a.People()])
}

// shut reports whether the mailbox of a person takes no mail.
func (s *seats) shut(seat int, isOld bool) bool {
	if isOld {
		old, ok := s.old(seat)
		return ok && s.c.a.IsShut(old)
	}
	return seat < s.c.b.People() && s.c.b.IsShut(s.c.b.PersonID(seat))
}

// old returns the person of the old estate who has a seat.
func (s *seats) old(seat int) (estate.ID, bool) {
	if seat < s.c.b.People() {
		id := s.c.toOld[s.c.b.PersonID(seat)]
		return id, id != estate.None
	}
	seat -= s.c.b.People()
	return s.c.a.PersonID(min(seat, s.c.a.People()-1)), seat < s.c.a.People()
}

// sort sorts seats by address without case.
func (s *seats) sort(list []int) {
	if s.folded == nil {
		s.folded = map[int]string{}
	}
	for _, seat := range list {
		if _, known := s.folded[seat]; !known {
			s.folded[seat] = strings.ToLower(s.address(seat).String())
		}
	}
	slices.SortFunc(list, func(x, y int) int { return strings.Compare(s.folded[x], s.folded[y]) })
}
