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
		return ok && s.c.old.Shut(old)
	}
	return seat < s.c.b.People() && s.c.new.Shut(s.c.b.PersonID(seat))
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

// gift is what a group's own memberships give somebody over an open path.
type gift struct {
	group   estate.ID // of the new estate, or past them all for one that is gone
	outcome resolve.Outcome
	seat    int32
	next    int32 // of the same seat: 1 + the index; 0: none
}

// gifts are what all groups that a message comes to give, in one of the estates.
type gifts struct {
	first []int32 // by seat: 1 + the index
	all   []gift
}

// end forgets the gifts, and keeps their room for those of another group.
func (f *flow) end() {
	for _, g := range []*gifts{f.old[0], f.old[1], f.new[0], f.new[1]} {
		if g == nil {
			continue
		}
		for _, one := range g.all {
			g.first[one.seat] = 0
		}
		g.all = g.all[:0]
		f.c.room = append(f.c.room, g)
	}
}

// giftRoom returns room for gifts.
func (c *comparison) giftRoom() *gifts {
	if n := len(c.room); n > 0 {
		g := c.room[n-1]
		c.room = c.room[:n-1]
		return g
	}
	return &gifts{first: make([]int32, c.a.People()+c.b.People())}
}

// of visits what groups give somebody.
func (g *gifts) of(seat int, visit func(*gift)) {
	if seat >= len(g.first) {
		return // nobody gives an address that belongs to nobody anything
	}
	for at := g.first[seat]; at > 0; at = g.all[at-1].next {
		visit(&g.all[at-1])
	}
}

// flow compares what comes of the mail of many kinds of senders to one group: what its nested
// groups give is laid out once, and of each sender only those recipients are looked at whose
// path or membership differs.
type flow struct {
	c        *comparison
	pair     Pair
	old, new [2]*gifts          // of a default message and of an invitation
	sameWays bool               // but for what gates say
	pairs    []Pair             // groups that mail comes to, where the paths are the same
	asked    []Pair             // those of them whose gates are asked
	reached  map[estate.ID]bool // the groups of pairs in the new estate; nil: not yet
	apart    [2]map[Pair][]int  // seats to which two groups give something else
}

func kindOf(m resolve.Message) int {
	if m.Invitation {
		return 1
	}
	return 0
}

// numbered returns what stands for a group of the old estate among those of the new one.
func (f *flow) numbered(old estate.ID) estate.ID {
	if to := f.c.toNew[old]; to != estate.None {
		return to
	}
	return estate.ID(f.c.b.Groups()) + old
}

func (f *flow) gifts(m resolve.Message, isOld bool) *gifts {
	list, r, group := &f.new[kindOf(m)], f.c.new, f.pair.New
	if isOld {
		list, r, group = &f.old[kindOf(m)], f.c.old, f.pair.Old
	}
	if *list != nil {
		return *list
	}
	g := f.c.giftRoom()
	for _, path := range r.Route(resolve.Query{Group: group, Message: m}).Paths {
		id := path.Group
		if isOld {
			id = f.numbered(id)
		}
		r.EachGiven(path.Group, m, func(person estate.ID, is resolve.Outcome) bool {
			seat := int32(f.c.seats.person(person, isOld))
			g.all = append(g.all, gift{id, is, seat, g.first[seat]})
			g.first[seat] = int32(len(g.all))
			return true
		})
	}
	*list = g
	return g
}

// best returns the best that somebody gets over paths in some states, by group.
func (f *flow) best(g *gifts, seat int, states map[estate.ID]resolve.PathState, isOld bool) outcome {
	var best outcome
	g.of(seat, func(one *gift) {
		state, there := states[one.group]
		if is := one.outcome.Over(state); there && (!best.any || is < best.Outcome) {
			best = outcome{is, true}
		}
	})
	if best.any && best.Outcome <= resolve.Digest && f.c.seats.shut(seat, isOld) {
		best.Outcome = resolve.Undeliverable
	}
	return best
}

// differing returns the seats to which two groups of the estates give something else.
func (f *flow) differing(pair Pair, m resolve.Message) []int {
	readByNested := f.c.b.Group(pair.New).Kind == estate.Mailbox && len(f.c.b.Children(pair.New)) > 0
	if f.c.kept != nil && f.c.kept[pair.New] && !readByNested {
		return nil // both are written alike, and so are all people
	}
	known := &f.apart[kindOf(m)]
	if *known == nil {
		*known = map[Pair][]int{}
	}
	if list, ok := (*known)[pair]; ok {
		return list
	}
	gives := map[int]outcome{}
	f.c.old.EachGiven(pair.Old, m, func(person estate.ID, is resolve.Outcome) bool {
		gives[f.c.seats.person(person, true)] = outcome{is, true}
		return true
	})
	list := []int{}
	f.c.new.EachGiven(pair.New, m, func(person estate.ID, is resolve.Outcome) bool {
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

// from fills results with what people get of a message of a sender: those whose mail may differ.
func (f *flow) from(s twin, m resolve.Message, into *results) {
	was, is := map[estate.ID]resolve.PathState{}, map[estate.ID]resolve.PathState{}
	pairs := map[estate.ID]Pair{}
	for _, path := range f.c.old.Route(resolve.Query{Group: f.pair.Old, Sender: &s.old, Message: m}).Paths {
		group := f.numbered(path.Group)
		was[group] = path.State
		pairs[group] = Pair{path.Group, estate.None}
	}
	for _, path := range f.c.new.Route(resolve.Query{Group: f.pair.New, Sender: &s.new, Message: m}).Paths {
		is[path.Group] = path.State
		pair := Pair{estate.None, path.Group}
		if other, there := pairs[path.Group]; there {
			pair.Old = other.Old
		}
		pairs[path.Group] = pair
	}
	old, new := f.gifts(m, true), f.gifts(m, false)
	look := func(seat int) {
		into.set(seat, f.best(old, seat, was, true), true)
		into.set(seat, f.best(new, seat, is, false), false)
	}
	for group, pair := range pairs {
		before, wasThere := was[group]
		later, isThere := is[group]
		if wasThere && isThere && before == later {
			for _, seat := range f.differing(pair, m) {
				look(seat)
			}
			continue
		}
		if wasThere {
			f.c.old.EachGiven(pair.Old, m, func(person estate.ID, _ resolve.Outcome) bool {
				look(f.c.seats.person(person, true))
				return true
			})
		}
		if isThere {
			f.c.new.EachGiven(pair.New, m, func(person estate.ID, _ resolve.Outcome) bool {
				look(f.c.seats.person(person, false))
				return true
			})
		}
	}
	slices.Sort(into.touched)
}
