package effect

import (
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// seats number everybody of both estates who can get something: people of the new one by their
// index, then those who are gone, then addresses that belong to nobody, each once.
type seats struct {
	c      *comparison
	nobody map[string]int // by key
	names  []address.Address
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

// results are what people get of one message in both estates, by seat.
type results struct {
	old, new []outcome
	touched  []int
	met      []bool
}

// clear makes room for so many seats, and forgets what there was.
func (r *results) clear(seats int) {
	for _, seat := range r.touched {
		r.old[seat], r.new[seat], r.met[seat] = outcome{}, outcome{}, false
	}
	r.touched = r.touched[:0]
	for len(r.met) < seats {
		r.old, r.new, r.met = append(r.old, outcome{}), append(r.new, outcome{}), append(r.met, false)
	}
}

func (r *results) set(seat int, is outcome, isOld bool) {
	for seat >= len(r.met) {
		r.old, r.new, r.met = append(r.old, outcome{}), append(r.new, outcome{}), append(r.met, false)
	}
	if !r.met[seat] {
		r.met[seat] = true
		r.touched = append(r.touched, seat)
	}
	if isOld {
		r.old[seat] = is
	} else {
		r.new[seat] = is
	}
}

// flow compares what comes of the mail of many kinds of senders to one group: what its nested
// groups give is laid out once, and of each sender only those recipients are looked at whose
// path or membership differs.
type flow struct {
	c        *comparison
	pair     Pair
	sameWays bool               // but for what gates say
	pairs    []Pair             // groups that mail comes to, where the paths are the same
	asked    []Pair             // those of them whose gates are asked
	reached  map[estate.ID]bool // the groups of pairs in the new estate; nil: not yet
	apart    [2]map[Pair][]int  // seats to which two groups give something else
}

// flows return what the group gives of a message, in both estates.
func (f *flow) flows(m resolve.Message) (old, new *resolve.Flow) {
	return f.c.old.Flow(f.pair.Old, m), f.c.new.Flow(f.pair.New, m)
}

// states are those of the paths of a message in both estates, by group of each.
type states struct {
	old, new map[estate.ID]resolve.PathState
}

// look notes what somebody gets over paths in some states.
func (f *flow) look(seat int, by states, m resolve.Message) {
	best := func(flow *resolve.Flow, person estate.ID, states map[estate.ID]resolve.PathState) (o outcome) {
		o.Outcome, o.any = flow.Among(person, states)
		if !o.any {
			return outcome{}
		}
		return o
	}
	old, new := f.flows(m)
	was, is := outcome{}, outcome{}
	if person, there := f.c.seats.old(seat); there {
		was = best(old, person, by.old)
	}
	if seat < f.c.b.People() {
		is = best(new, f.c.b.PersonID(seat), by.new)
	}
	f.c.results.set(seat, was, true)
	f.c.results.set(seat, is, false)
}

// differing returns the seats to which two groups of the estates give something else.
func (f *flow) differing(pair Pair, m resolve.Message) []int {
	readByNested := f.c.b.Group(pair.New).Kind == estate.Mailbox && len(f.c.b.Children(pair.New)) > 0
	if f.c.kept != nil && f.c.kept[pair.New] && !readByNested {
		return nil // both are written alike, and so are all people
	}
	known := &f.apart[bit(m.Invitation)]
	if *known == nil {
		*known = map[Pair][]int{}
	}
	if list, ok := (*known)[pair]; ok {
		return list
	}
	gives := map[int]outcome{}
	f.c.old.EachGift(pair.Old, m, func(person estate.ID, is resolve.Outcome) bool {
		gives[f.c.seats.person(person, true)] = outcome{is, true}
		return true
	})
	list := []int{}
	f.c.new.EachGift(pair.New, m, func(person estate.ID, is resolve.Outcome) bool {
		seat := f.c.seats.person(person, false)
		old, there := gives[seat]
		delete(gives, seat)
		if !there || old.Outcome != is || f.c.seats.shut(seat, true) != f.c.seats.shut(seat, false) {
			list = append(list, seat)
		}
		return true
	})
	for seat := range gives {
		list = append(list, seat)
	}
	(*known)[pair] = list
	return list
}

// from fills the results with what people get of a message of a sender: those whose mail may differ.
func (f *flow) from(s twin, m resolve.Message) {
	old, new := f.flows(m)
	by := states{old.States(s.old, m, nil), new.States(s.new, m, nil)}
	look := func(r *resolve.Resolver, group estate.ID, isOld bool) {
		r.EachGift(group, m, func(person estate.ID, _ resolve.Outcome) bool {
			f.look(f.c.seats.person(person, isOld), by, m)
			return true
		})
	}
	for group, state := range by.old {
		to := f.c.toNew[group]
		later, there := by.new[to]
		if to == estate.None || !there || later != state {
			look(f.c.old, group, true)
			continue
		}
		for _, seat := range f.differing(Pair{group, to}, m) {
			f.look(seat, by, m)
		}
	}
	for group, state := range by.new {
		from := f.c.toOld[group]
		if before, was := by.old[from]; from == estate.None || !was || before != state {
			look(f.c.new, group, false)
		}
	}
	slices.Sort(f.c.results.touched)
}
