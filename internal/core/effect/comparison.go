package effect

import (
	"cmp"
	"slices"
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// comparison is one run of Compare.
type comparison struct {
	old, new *resolve.Resolver
	a, b     *estate.Estate // theirs
	report   *Report

	toNew []estate.ID     // by ID of the old estate; None: gone
	toOld []estate.ID     // by ID of the new estate; None: added
	runs  []run           // people of the old estate who are in both, those together who stand together in both
	stays *roaring.Bitmap // people and groups of the old estate who are in both

	identical bool // everybody has the same ID in both

	both                 *roaring.Bitmap // people and groups in both, as they are numbered in the new estate
	single               []twin          // senders that one estate alone has, or has by that address
	insideOld, insideNew *roaring.Bitmap
	ranks                []int32 // by ID of the new estate: its place among all addresses, see rank

	seats seats
	kept  []bool // by group of the new estate: written as before, as all people are; nil: not known

	noted  []estate.ID             // scratch for notice: by person of the new estate, 1 + the last group
	posted map[string][]PostChange // by the gates of both, see posts
	alike  map[Pair]bool           // see sameGate
	judged map[gateMessage]bool    // see judgesApart
	// unconcerned are the groups for which nothing can have changed; nil: not known.
	unconcerned []bool
}

// twin is a sender by one address in both estates.
type twin struct {
	Somebody
	old, new resolve.Sender
}

// prepare works out who both estates know.
func (c *comparison) prepare() {
	c.posted, c.alike = map[string][]PostChange{}, map[Pair]bool{}
	c.judged = map[gateMessage]bool{}
	c.both = roaring.New()
	// An address that nobody has in one of the estates is reported once, with the one who brought or took it.
	add := func(a address.Address) {
		if s := c.twin(a); s.old.ID != estate.None && s.new.ID != estate.None {
			c.single = append(c.single, s)
		}
	}
	for id, old := range c.toOld {
		if old == estate.None {
			add(c.b.Address(estate.ID(id)))
			continue
		}
		c.both.Add(uint32(id))
		if was, is := c.a.Address(old), c.b.Address(estate.ID(id)); was.Key() != is.Key() {
			add(was)
			add(is)
		}
	}
	for id, to := range c.toNew {
		if to == estate.None {
			add(c.a.Address(estate.ID(id)))
		}
	}
	for _, further := range [][]resolve.Sender{c.old.FurtherAddresses(), c.new.FurtherAddresses()} {
		for _, s := range further {
			add(s.Address)
		}
	}
	c.insideOld, c.insideNew, c.ranks = insiders(c.a), insiders(c.b), rank(c.b)
}

func insiders(e *estate.Estate) *roaring.Bitmap {
	set := roaring.New()
	for id := range estate.ID(e.Groups() + e.People()) {
		if e.Inside(id) {
			set.Add(uint32(id))
		}
	}
	set.RunOptimize()
	return set
}

func (c *comparison) twin(a address.Address) twin {
	return twin{Somebody{Address: a}, c.old.Sender(a), c.new.Sender(a)}
}

// others returns the senders apart from those that both estates have: the strangers, anyone who
// is named, and those that one estate alone has.
func (c *comparison) others(asks *resolve.Asks, unproven bool) []twin {
	was, is := c.old.Strangers(), c.new.Strangers()
	inside := twin{Somebody{Stranger: "inside"}, was.Inside, is.Inside}
	if unproven {
		inside.Stranger = "forged"
	}
	list := []twin{inside, {Somebody{Stranger: "outside"}, was.Outside, is.Outside}}
	for _, a := range asks.Named {
		if s := c.twin(a); s.old.ID == estate.None && s.new.ID == estate.None {
			list = append(list, s)
		}
	}
	return append(list, c.single...)
}

// match finds who is who: by the main address, wherever the other estate has it.
func (c *comparison) match() {
	c.toNew = make([]estate.ID, c.a.Groups()+c.a.People())
	c.toOld = make([]estate.ID, c.b.Groups()+c.b.People())
	for i := range c.toOld {
		c.toOld[i] = estate.None
	}
	for id := range c.toNew {
		c.toNew[id] = estate.None
	}
	// Whose main address it still is comes first: it may be an alias of somebody else now, to
	// who it was handed over.
	for _, main := range []bool{true, false} {
		for id := range estate.ID(len(c.toNew)) {
			other, ok := c.b.Find(c.a.Address(id))
			if !ok || c.toNew[id] != estate.None || c.b.IsGroup(other) != c.a.IsGroup(id) || c.toOld[other] != estate.None {
				continue
			}
			if c.b.Key(c.b.Address(other)) == c.b.Key(c.a.Address(id)) || !main && c.exact(c.b, other, id) {
				c.toNew[id], c.toOld[other] = other, id
			}
		}
	}
	// Anyone who is not found by the old main address may be by the new one.
	for id := range estate.ID(len(c.toOld)) {
		if c.toOld[id] != estate.None {
			continue
		}
		other, ok := c.a.Find(c.b.Address(id))
		if ok && c.a.IsGroup(other) == c.b.IsGroup(id) && c.toNew[other] == estate.None {
			c.toNew[other], c.toOld[id] = id, other
		}
	}
	c.parties()
	c.identical, c.stays = len(c.toNew) == len(c.toOld), roaring.New()
	for id, to := range c.toNew {
		c.identical = c.identical && to == estate.ID(id)
		if to == estate.None {
			continue
		}
		c.stays.Add(uint32(id))
		if id < c.a.Groups() {
			continue
		}
		shift := int64(to) - int64(id)
		if n := len(c.runs); n > 0 && c.runs[n-1].shift == shift && c.runs[n-1].end == uint64(id) {
			c.runs[n-1].end++
		} else {
			c.runs = append(c.runs, run{uint64(id), uint64(id) + 1, shift})
		}
	}
	c.stays.RunOptimize()
}

// run are people of the old estate, by ID from one to the one before another, whose ID in the new one is greater by
// shift.
type run struct {
	from, end uint64
	shift     int64
}

// manyRuns is how many runs there are at most where a set is moved run by run.
const manyRuns = 64

// exact reports whether other has the very main address of id, rather than one
// that it stands for by subaddress.
func (c *comparison) exact(e *estate.Estate, other, id estate.ID) bool {
	key := e.Key(c.a.Address(id))
	if e.Key(e.Address(other)) == key {
		return true
	}
	also := []string{}
	if e.IsGroup(other) {
		for _, a := range e.Group(other).Also {
			also = append(also, e.Key(a))
		}
	} else {
		for _, a := range e.Person(other).Also {
			also = append(also, e.Key(a))
		}
	}
	return slices.Contains(also, key)
}

// parties notes who comes, goes and is renamed.
func (c *comparison) parties() {
	for id, to := range c.toNew {
		old := estate.ID(id)
		list := &c.report.People
		if c.a.IsGroup(old) {
			list = &c.report.Groups
		}
		switch {
		case to == estate.None:
			list.Removed = append(list.Removed, old)
		case c.a.Address(old).Key() != c.b.Address(to).Key():
			list.Renamed = append(list.Renamed, Pair{old, to})
		}
	}
	for id, from := range c.toOld {
		if from == estate.None {
			if c.b.IsGroup(estate.ID(id)) {
				c.report.Groups.Added = append(c.report.Groups.Added, estate.ID(id))
			} else {
				c.report.People.Added = append(c.report.People.Added, estate.ID(id))
			}
		}
	}
}

// translate returns those of a set of people and groups of the old estate that are in the
// new one, as they are numbered there.
func (c *comparison) translate(set *roaring.Bitmap) *roaring.Bitmap {
	if c.identical {
		return set
	}
	moved := roaring.New()
	it := set.Iterator()
	for it.HasNext() && (len(c.runs) > manyRuns || it.PeekNext() < uint32(c.a.Groups())) {
		if to := c.toNew[it.Next()]; to != estate.None {
			moved.Add(uint32(to))
		}
	}
	if len(c.runs) > manyRuns {
		return moved
	}
	for _, run := range c.runs {
		some := roaring.New()
		some.AddRange(run.from, run.end)
		some.And(set)
		moved.Or(roaring.AddOffset64(some, run.shift))
	}
	return moved
}

// notice notes who is newly a member of a group that welcomes its members. old is
// None for a new group.
func (c *comparison) notice(old, id estate.ID) {
	if c.b.Group(id).NoWelcome {
		return
	}
	if c.noted == nil {
		c.noted = make([]estate.ID, c.b.People())
	}
	mark := id + 1
	if old != estate.None {
		c.old.EachMembership(old, func(person estate.ID, _ resolve.Wish, _ estate.Place) {
			if to := c.toNew[person]; to != estate.None {
				c.noted[c.b.PersonIndex(to)] = mark
			}
		})
	}
	var added []estate.ID
	c.new.EachMembership(id, func(person estate.ID, _ resolve.Wish, _ estate.Place) {
		if c.noted[c.b.PersonIndex(person)] != mark {
			added = append(added, person)
		}
	})
	if len(added) > 0 {
		c.report.Notices = append(c.report.Notices, Notice{id, byAddress(c.b, added)})
	}
}

// addresses returns the addresses of a set of the new estate, sorted as sorted does.
func (c *comparison) addresses(set *roaring.Bitmap) []Somebody {
	ids := set.ToArray()
	slices.SortFunc(ids, func(x, y uint32) int { return int(c.ranks[x]) - int(c.ranks[y]) })
	list := make([]Somebody, len(ids))
	for i, id := range ids {
		list[i].Address = c.b.Address(estate.ID(id))
	}
	return list
}

// rank returns the place of each person and group of an estate among all addresses without case.
func rank(e *estate.Estate) []int32 {
	all := make([]int32, e.Groups()+e.People())
	folded := make([]string, len(all))
	for i := range all {
		all[i], folded[i] = int32(i), strings.ToLower(e.Address(estate.ID(i)).String())
	}
	slices.SortFunc(all, func(x, y int32) int { return strings.Compare(folded[x], folded[y]) })
	ranks := make([]int32, len(all))
	for place, i := range all {
		ranks[i] = int32(place)
	}
	return ranks
}

// with adds others to a sorted list, which stays sorted.
func with(list, others []Somebody) []Somebody {
	if len(others) == 0 {
		return list
	}
	return sorted(append(list, others...))
}

// sorted sorts who a difference is about: strangers first, then by address without case.
// Each is there once.
func sorted(list []Somebody) []Somebody {
	slices.SortFunc(list, func(x, y Somebody) int {
		return cmp.Or(strings.Compare(y.Stranger, x.Stranger), strings.Compare(strings.ToLower(x.Address.String()),
			strings.ToLower(y.Address.String())))
	})
	return slices.Compact(list)
}

func byAddress(e *estate.Estate, list []estate.ID) []estate.ID {
	slices.SortFunc(list, func(x, y estate.ID) int { return e.Rank(x) - e.Rank(y) })
	return list
}
