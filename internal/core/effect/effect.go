// Package effect compares two estates by what they do: everything that can be asked about
// a group or a person, which hazards come and go, and which notices the change sends.
//
// What can be asked is the list facets: each looks at one side of a group. Where none of
// them finds a difference and no setting differs, nothing is said of the group.
package effect

import (
	"cmp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
)

// A Report is what changes from one estate to another. Lists are in the order of
// the estates, those of people sorted by address.
type Report struct {
	Estate    []SettingChange // what the estates say of themselves
	Groups    Parties
	People    Parties
	Changes   []GroupChange  // of groups that are in both
	Persons   []PersonChange // of people who are in both
	Appearing []hazard.Finding
	Going     []hazard.Finding
	Notices   []Notice
	Causes    []Cause // what is written otherwise, where that is little
}

// Parties are groups or people that come, go or have another main address.
type Parties struct {
	Added   []estate.ID // of the new estate
	Removed []estate.ID // of the old one
	Renamed []Pair
}

// A Pair is somebody in both estates.
type Pair struct{ Old, New estate.ID }

// A GroupChange is what is different about one group.
type GroupChange struct {
	Group    Pair
	Posts    []PostChange
	Receives []OutcomeChange
	SendsAs  []SendAsChange
	May      []MayChange
	Sees     []SettingChange // what a reader sees otherwise
	Joining  []SettingChange // what a new member gets otherwise
	// Unchecked is set where there are too many kinds of sender to look at what each
	// of them would reach, and nested groups differ.
	Unchecked bool
	Settings  []SettingChange // that differ, and change nothing of the above
}

// facets are everything that can be asked about a group.
var facets = []struct {
	name    string
	compare func(*comparison, *GroupChange)
}{
	{"posts", (*comparison).posts},
	{"receives", (*comparison).receives},
	{"sends-as", (*comparison).sendsAs},
	{"may", (*comparison).may},
	{"sees", (*comparison).sees},
	{"joining", (*comparison).joining},
	{"settings", (*comparison).groupSettings}, // last: it leaves out what shows in the others
}

// HasEffect reports whether any answer but what the group says of itself is another one.
func (c *GroupChange) HasEffect() bool {
	return len(c.Posts)+len(c.Receives)+len(c.SendsAs)+len(c.May)+len(c.Sees)+len(c.Joining) > 0 || c.Unchecked
}

// Somebody is who a difference is about: a person or group by address, or a stranger.
type Somebody struct {
	Address  address.Address
	Stranger string // outside, inside or forged, or ""
}

// A Notice is a welcome notice that goes out to the new members of a group.
type Notice struct {
	Group  estate.ID // of the new estate
	People []estate.ID
}

// Count returns how many notices go out.
func (r *Report) Count() int {
	n := 0
	for _, notice := range r.Notices {
		n += len(notice.People)
	}
	return n
}

// IsEmpty reports whether nothing changes.
func (r *Report) IsEmpty() bool {
	return r.Groups.isEmpty() && r.People.isEmpty() &&
		len(r.Estate)+len(r.Changes)+len(r.Persons)+len(r.Appearing)+len(r.Going)+len(r.Notices)+len(r.Causes) == 0
}

func (p Parties) isEmpty() bool { return len(p.Added)+len(p.Removed)+len(p.Renamed) == 0 }

// Compare returns what changes from one estate to another.
func Compare(older, newer *resolve.Resolver) *Report { return compare(older, newer, true, fewGates) }

// compare is Compare; it may pass over the groups that are written as before.
// few is fewGates.
func compare(older, newer *resolve.Resolver, passOver bool, few int) *Report {
	c := &comparison{
		old:    older,
		new:    newer,
		a:      older.Estate(),
		b:      newer.Estate(),
		report: &Report{},
		few:    few,
	}
	c.seats.c = c
	c.match()
	c.report.Estate = c.estateSettings()
	groups := c.report.Groups
	var unchanged []bool
	if passOver {
		unchanged = c.unchanged()
	}
	if unchanged != nil && !slices.Contains(unchanged, false) && groups.isEmpty() {
		return c.report
	}
	c.unconcerned = unchanged
	c.survey()
	c.prepare()
	if unchanged == nil { // else nothing else is said of anybody
		c.report.Persons = c.persons()
	}
	c.groups(func(id estate.ID) bool { return unchanged == nil || !unchanged[id] })
	c.report.Causes = c.causes(unchanged)
	return c.report
}

// survey looks at all groups of both estates, at once.
func (c *comparison) survey() {
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.old.Survey()
	}()
	c.new.Survey()
	<-done
}

// groupsAtOnce is after how many groups what was worked out about them is let go of.
const groupsAtOnce = 32

// groups compares the groups that are concerned, in several goroutines, and notes the hazards
// that come and go.
func (c *comparison) groups(concerns func(estate.ID) bool) {
	var ids []estate.ID
	for id := range estate.ID(c.b.Groups()) {
		if concerns(id) {
			ids = append(ids, id)
		}
	}
	found := make([]Report, len(ids))
	hazards := make([]differences, len(ids))
	var next atomic.Int64
	var done sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), 4, len(ids)) {
		done.Go(func() {
			w := c.fork()
			old, new := newSide(w.old), newSide(w.new)
			for at, looked := int(next.Add(1))-1, 1; at < len(ids); at, looked = int(next.Add(1))-1, looked+1 {
				w.report = &found[at]
				var was []hazard.Finding
				if before := c.toOld[ids[at]]; before == estate.None {
					w.notice(estate.None, ids[at])
				} else {
					w.group(Pair{before, ids[at]})
					was = old.of(before)
				}
				hazards[at] = w.hazards(was, new.of(ids[at]))
				if looked%groupsAtOnce == 0 {
					clear(w.judged)
					old.pass.ForgetGroups()
					new.pass.ForgetGroups()
				}
			}
		})
	}
	done.Wait()
	for i := range found {
		c.report.Changes = append(c.report.Changes, found[i].Changes...)
		c.report.Notices = append(c.report.Notices, found[i].Notices...)
	}
	c.reportHazards(hazards)
}

// fork returns the comparison for another goroutine: what is remembered on the way is its own.
func (c *comparison) fork() *comparison {
	w := *c
	w.old, w.new = c.old.Fork(), c.new.Fork()
	w.seats, w.results, w.room, w.noted = seats{c: &w}, results{}, nil, nil
	w.posted, w.alike, w.judged = map[string][]PostChange{}, map[Pair]bool{}, map[gateMessage]*roaring.Bitmap{}
	return &w
}

// group compares one group that is in both estates.
func (c *comparison) group(pair Pair) {
	c.notice(pair.Old, pair.New)
	change := GroupChange{Group: pair}
	for _, facet := range facets {
		facet.compare(c, &change)
	}
	if change.HasEffect() || len(change.Settings) > 0 {
		c.report.Changes = append(c.report.Changes, change)
	}
}

// comparison is one run of Compare.
type comparison struct {
	old, new *resolve.Resolver
	a, b     *estate.Estate // theirs
	report   *Report

	toNew []estate.ID // by ID of the old estate; None: gone
	toOld []estate.ID // by ID of the new estate; None: added
	shift int64       // toNew adds this to every ID of a person, if nobody goes and it is uniform
	even  bool        // shift is meaningful

	identical bool // everybody has the same ID in both

	both                 *roaring.Bitmap // people and groups in both, as they are numbered in the new estate
	single               []twin          // senders that one estate alone has, or has by that address
	insideOld, insideNew *roaring.Bitmap

	few     int // see fewGates
	seats   seats
	room    []*gifts // see giftRoom
	results results
	kept    []bool // by group of the new estate: written as before, as all people are; nil: not known

	noted  []estate.ID                     // scratch for notice: by person of the new estate, 1 + the last group
	posted map[string][]PostChange         // by the gates of both, see posts
	alike  map[Pair]bool                   // see sameGate
	judged map[gateMessage]*roaring.Bitmap // see apart
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
	c.judged = map[gateMessage]*roaring.Bitmap{}
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
	c.insideOld, c.insideNew = insiders(c.a), insiders(c.b)
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
	c.even, c.identical = true, len(c.toNew) == len(c.toOld)
	first := true
	for id, to := range c.toNew {
		c.identical = c.identical && to == estate.ID(id)
		if id < c.a.Groups() {
			continue
		}
		shift := int64(to) - int64(id)
		if first {
			c.shift, first = shift, false
		}
		c.even = c.even && to != estate.None && shift == c.shift
	}
}

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
	one := func(id uint32) {
		if to := c.toNew[id]; to != estate.None {
			moved.Add(uint32(to))
		}
	}
	groups := uint32(c.a.Groups())
	it := set.Iterator()
	if !c.even {
		for it.HasNext() {
			one(it.Next())
		}
		return moved
	}
	for it.HasNext() && it.PeekNext() < groups {
		one(it.Next())
	}
	people := set.Clone()
	people.RemoveRange(0, uint64(groups))
	moved.Or(roaring.AddOffset64(people, c.shift))
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

// addresses returns the addresses of a set of the new estate, sorted.
func (c *comparison) addresses(set *roaring.Bitmap) []Somebody {
	list := make([]Somebody, 0, set.GetCardinality())
	for it := set.Iterator(); it.HasNext(); {
		list = append(list, Somebody{Address: c.b.Address(estate.ID(it.Next()))})
	}
	return list
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
