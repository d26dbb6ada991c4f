package hazard

import (
	"encoding/binary"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// bypass finds out who gets mail of a group by paths that avoid one nested in it. What each of
// the groups gives that the mail comes to is laid out once, for all nested groups.
type bypass struct {
	p     *Pass
	group estate.ID
	laid  [2]*giving // of a default message and of an invitation; nil: not yet

	stamp   uint32
	avoided []uint32 // by group: the last stamp for which a path avoids the nested one
}

// giving is which groups give people something, by the index of the person.
type giving struct {
	first []int32 // 1 + the index in gifts; 0: none
	gifts []gift
}

// gift is what a group gives a person over an open path.
type gift struct {
	group   estate.ID
	person  int32 // index
	outcome resolve.Outcome
	next    int32 // of the same person: 1 + the index in gifts; 0: none
}

// begin gets ready for a group, if it is not the one at hand.
func (b *bypass) begin(p *Pass, group estate.ID) {
	if b.p == p && b.group == group {
		return
	}
	b.p, b.group = p, group
	for _, g := range b.laid {
		if g != nil {
			g.clear()
		}
	}
	if b.avoided == nil {
		b.avoided = make([]uint32, p.E.Groups())
	}
}

func (g *giving) clear() {
	for i := range g.gifts {
		g.first[g.gifts[i].person] = 0
	}
	g.gifts = g.gifts[:0]
}

// giving returns what the groups give that a message comes to.
func (b *bypass) giving(m resolve.Message) *giving {
	g := &b.laid[0]
	if m.Invitation {
		g = &b.laid[1]
	}
	if *g == nil {
		*g = &giving{first: make([]int32, b.p.E.People())}
	}
	if len((*g).gifts) == 0 {
		b.lay(*g, m)
	}
	return *g
}

func (b *bypass) lay(g *giving, m resolve.Message) {
	for _, path := range b.p.R.Route(resolve.Query{Group: b.group, Message: m}).Paths {
		b.p.R.EachGiven(path.Group, m, func(person estate.ID, outcome resolve.Outcome) bool {
			if outcome != resolve.Nothing {
				index := b.p.E.PersonIndex(person)
				g.gifts = append(g.gifts, gift{path.Group, int32(index), outcome, g.first[index]})
				g.first[index] = int32(len(g.gifts))
			}
			return true
		})
	}
}

// of visits what groups give a person.
func (g *giving) of(index int, visit func(*gift)) {
	for at := g.first[index]; at > 0; at = g.gifts[at-1].next {
		visit(&g.gifts[at-1])
	}
}

// eachWanting visits the people who get or read something of a nested group, until visit
// returns false: some of them several times.
func (b *bypass) eachWanting(nested estate.ID, m resolve.Message, visit func(person estate.ID) bool) {
	for _, path := range b.p.R.Route(resolve.Query{Group: nested, Message: m}).Paths {
		more := true
		b.p.R.EachGiven(path.Group, m, func(person estate.ID, outcome resolve.Outcome) bool {
			more = outcome == resolve.Nothing || visit(person)
			return more
		})
		if !more {
			return
		}
	}
}

// avoid marks the groups that mail comes to by paths that avoid a nested group.
func (b *bypass) avoid(t *turn) {
	b.stamp++
	for _, path := range b.p.R.Route(resolve.Query{Group: b.group, Message: t.message, Over: t.avoids}).Paths {
		b.avoided[path.Group] = b.stamp
	}
}

// without reports whether a person has nothing by paths that avoid the group that was marked
// last, even if every gate admits.
func (b *bypass) without(g *giving, person estate.ID) bool {
	nothing := true
	g.of(b.p.E.PersonIndex(person), func(gift *gift) { nothing = nothing && b.avoided[gift.group] != b.stamp })
	return nothing
}

// anyMissesAll reports whether a member of a nested group gets nothing by any other path, even if
// all gates admit: several senders are turned away.
func (b *bypass) anyMissesAll(t *turn) bool {
	g := b.giving(t.message)
	b.avoid(t)
	found := false
	b.eachWanting(t.group, t.message, func(person estate.ID) bool {
		found = b.without(g, person)
		return !found
	})
	return found
}

// anyMisses reports whether a member of a nested group that turns away what some senders write
// gets it by no other path.
func (b *bypass) anyMisses(t *turn, from senders) bool {
	g := b.giving(t.message)
	b.avoid(t)
	found, wanted := false, false
	b.eachWanting(t.group, t.message, func(person estate.ID) bool {
		wanted = true
		found = b.without(g, person) && !b.p.isEcho(person, turned{t.outer, from, t.message})
		return !found
	})
	if found || !wanted {
		return found
	}
	return b.anyMissesFrom(t, from, g)
}

// anyMissesFrom is anyMisses where everybody would get something if all gates admitted: it
// depends on who writes.
func (b *bypass) anyMissesFrom(t *turn, from senders, g *giving) bool {
	if b.someMissNearby(t, from.known, g) {
		return true
	}
	found := false
	b.eachMissing(t, from.known, g, func(person estate.ID, known *roaring.Bitmap) bool {
		// One part of the senders is to miss: if it is the person alone, they may be meant to.
		part := senders{known: known}
		found = !b.p.isEcho(person, turned{t.outer, part, t.message})
		return !found
	})
	for _, s := range from.others {
		if found {
			return true
		}
		part := senders{known: nobody, others: []resolve.Sender{s}}
		paths := b.states(t, s)
		b.eachWanting(t.group, t.message, func(person estate.ID) bool {
			found = !b.getsFrom(g, person, paths) && !b.p.isEcho(person, turned{t.outer, part, t.message})
			return !found
		})
	}
	return found
}

// someMissNearby reports whether several of some known senders are stopped by the own gates of
// all groups that would give something to one person who wants it: a quick look, that may not
// find what there is.
func (b *bypass) someMissNearby(t *turn, known *roaring.Bitmap, g *giving) bool {
	if known.GetCardinality() < 2 {
		return false
	}
	found := false
	tried := 0
	b.eachWanting(t.group, t.message, func(person estate.ID) bool {
		set := known
		g.of(b.p.E.PersonIndex(person), func(gift *gift) {
			if b.avoided[gift.group] == b.stamp && !set.IsEmpty() {
				set = b.stopped(t, gift.group, set)
			}
		})
		found = set.GetCardinality() > 1
		tried++
		return !found && tried < mostTried
	})
	return found
}

// mostTried is for how many people someMissNearby looks.
const mostTried = 20

// stopped returns those of some senders that the own gate of a group stops.
func (b *bypass) stopped(t *turn, group estate.ID, set *roaring.Bitmap) *roaring.Bitmap {
	if group == t.outer || b.p.E.Group(group).Kind == estate.Roster {
		return nobody
	}
	in := b.p.judged(group, t.message)
	stopped := roaring.AndNot(set, in.admitted)
	stopped.AndNot(in.held)
	return stopped
}

// states returns the state of the path from a sender to each group, by paths that avoid the
// nested one.
func (b *bypass) states(t *turn, s resolve.Sender) map[estate.ID]resolve.PathState {
	states := map[estate.ID]resolve.PathState{}
	for _, path := range b.p.R.Route(resolve.Query{Group: t.outer, Sender: &s, Message: t.message, Over: t.avoids}).Paths {
		states[path.Group] = path.State
	}
	return states
}

// getsFrom reports whether a person gets something over paths in some states: a copy over an
// open path, or anything over a waiting one.
func (b *bypass) getsFrom(g *giving, person estate.ID, states map[estate.ID]resolve.PathState) bool {
	gets := false
	g.of(b.p.E.PersonIndex(person), func(gift *gift) {
		state, there := states[gift.group]
		gets = gets || there && (state == resolve.PathWaiting || state == resolve.PathOpen && gift.outcome != resolve.Archive)
	})
	return gets
}

// eachMissing visits the people who miss what some known senders write, and those senders,
// until visit returns false.
func (b *bypass) eachMissing(
	t *turn, known *roaring.Bitmap, g *giving, visit func(person estate.ID, from *roaring.Bitmap) bool,
) {
	if known.IsEmpty() {
		return
	}
	f := b.flow(t, known)
	missing := map[string]*roaring.Bitmap{} // by what the groups that avoid the nested one give
	done := map[estate.ID]bool{}
	b.eachWanting(t.group, t.message, func(person estate.ID) bool {
		if done[person] {
			return true
		}
		done[person] = true
		var key []byte
		var gifts []*gift
		g.of(b.p.E.PersonIndex(person), func(gift *gift) {
			if b.avoided[gift.group] == b.stamp {
				gifts = append(gifts, gift)
				key = binary.LittleEndian.AppendUint32(key, uint32(gift.group)<<1|archived(gift.outcome))
			}
		})
		set, ok := missing[string(key)]
		if !ok {
			set = f.missing(known, gifts)
			missing[string(key)] = set
		}
		return set.IsEmpty() || visit(person, set)
	})
}

func archived(outcome resolve.Outcome) uint32 {
	if outcome == resolve.Archive {
		return 1
	}
	return 0
}

// flow is those of some known senders whose best path to a group is open, and those whose best path is open
// or waiting, by paths that avoid a nested one. Groups are looked at as they are needed.
type flow struct {
	b            *bypass
	t            *turn
	open, passed map[estate.ID]*roaring.Bitmap
}

// flow returns how mail of some senders flows to the group and to those nested directly in it:
// a longer path there lets through nobody that the direct one stops.
func (b *bypass) flow(t *turn, known *roaring.Bitmap) *flow {
	f := &flow{b: b, t: t, open: map[estate.ID]*roaring.Bitmap{}, passed: map[estate.ID]*roaring.Bitmap{}}
	f.open[t.outer], f.passed[t.outer] = known, known
	f.follow(t.outer, nil, func(estate.ID) {})
	return f
}

// follow passes mail on from a group to those nested directly in it, of some groups (nil:
// all), and visits those to which it comes from more senders than before.
func (f *flow) follow(at estate.ID, some map[estate.ID]bool, visit func(estate.ID)) {
	e := f.b.p.E
	if e.Group(at).Kind == estate.Mailbox {
		return
	}
	for _, child := range e.Children(at) {
		if !child.Passes || child.Group == f.t.group || child.Group == f.t.outer || some != nil && !some[child.Group] {
			continue
		}
		open, passed := f.open[at], f.passed[at]
		if e.Group(child.Group).Kind != estate.Roster {
			in := f.b.p.judged(child.Group, f.t.message)
			open = roaring.And(open, in.admitted)
			passed = roaring.Or(roaring.And(passed, in.admitted), roaring.And(passed, in.held))
		}
		if f.widen(child.Group, open, passed) {
			visit(child.Group)
		}
	}
}

// reach follows mail to a group.
func (f *flow) reach(group estate.ID) {
	if f.open[group] != nil {
		return
	}
	// All groups on the paths there, but for those that are known.
	some := map[estate.ID]bool{group: true}
	var from []estate.ID
	for queue := []estate.ID{group}; len(queue) > 0; queue = queue[1:] {
		for _, parent := range f.b.p.E.Parents(queue[0]) {
			switch {
			case !parent.Passes || f.b.avoided[parent.Group] != f.b.stamp || some[parent.Group]:
			case f.open[parent.Group] != nil:
				from = append(from, parent.Group)
			default:
				some[parent.Group] = true
				queue = append(queue, parent.Group)
			}
		}
	}
	for ; len(from) > 0; from = from[1:] {
		f.follow(from[0], some, func(next estate.ID) { from = append(from, next) })
	}
	for one := range some {
		f.widen(one, nobody, nobody) // also where nobody's mail comes
	}
}

// missing returns those of some senders whose mail comes to somebody by no group.
func (f *flow) missing(known *roaring.Bitmap, gifts []*gift) *roaring.Bitmap {
	set := known.Clone()
	get := func(gift *gift) {
		if gift.outcome != resolve.Archive {
			set.AndNot(f.passed[gift.group])
		} else {
			set.AndNot(roaring.AndNot(f.passed[gift.group], f.open[gift.group]))
		}
	}
	var far []*gift // what is near is often enough
	for _, gift := range gifts {
		if f.open[gift.group] == nil {
			far = append(far, gift)
		} else {
			get(gift)
		}
	}
	for _, gift := range far {
		if set.IsEmpty() {
			break
		}
		f.reach(gift.group)
		get(gift)
	}
	return set
}

// widen adds senders whose mail has a path to a group, and reports whether any is new.
func (f *flow) widen(group estate.ID, open, passed *roaring.Bitmap) bool {
	if f.open[group] == nil {
		f.open[group], f.passed[group] = open.Clone(), passed.Clone()
		return true
	}
	before := f.open[group].GetCardinality() + f.passed[group].GetCardinality()
	f.open[group].Or(open)
	f.passed[group].Or(passed)
	return f.open[group].GetCardinality()+f.passed[group].GetCardinality() > before
}

// shown returns some senders whose message a nested group turns away, and the first of its
// members by address who misses it: senders that no gate that the mail comes to tells apart.
func (p *Pass) shown(t *turn) (senders, estate.ID) {
	a := p.R.AsksOf(p.E.Settings().Edge, p.E.Group(t.outer).Gate, p.E.Group(t.group).Gate)
	from := p.turnedFrom(t, &a)
	p.by.begin(p, t.outer)
	b := &p.by
	g := b.giving(t.message)
	b.avoid(t)
	if first := b.first(t, from, func(person estate.ID) bool { return b.without(g, person) }); first != estate.None {
		return from, first
	}
	missed := roaring.New()
	b.eachMissing(t, from.known, g, func(person estate.ID, set *roaring.Bitmap) bool {
		if !p.isEcho(person, turned{t.outer, senders{known: set}, t.message}) {
			missed.Or(set)
		}
		return true
	})
	if !missed.IsEmpty() {
		part := senders{known: p.firstPart(from.known, missed, p.gatesIn(t.outer, t.group), t.message)}
		states := b.states(t, p.one(part))
		return part, b.first(t, part, func(person estate.ID) bool { return !b.getsFrom(g, person, states) })
	}
	for _, s := range from.others {
		part := senders{known: nobody, others: []resolve.Sender{s}}
		states := b.states(t, s)
		first := b.first(t, part, func(person estate.ID) bool { return !b.getsFrom(g, person, states) })
		if first != estate.None {
			return part, first
		}
	}
	return from, estate.None // it was found before
}

// first returns the first person by address who wants mail of a nested group and misses it,
// unless it would be their own message that their groups do not send them back.
func (b *bypass) first(t *turn, from senders, misses func(estate.ID) bool) estate.ID {
	first := estate.None
	b.eachWanting(t.group, t.message, func(person estate.ID) bool {
		if (first == estate.None || b.p.E.Rank(person) < b.p.E.Rank(first)) && misses(person) &&
			!b.p.isEcho(person, turned{t.outer, from, t.message}) {
			first = person
		}
		return true
	})
	return first
}

// firstPart returns the first part of some senders that is among others, when gates divide
// them one after the other: into those that a gate admits, those that it holds and the rest.
func (p *Pass) firstPart(set, among *roaring.Bitmap, gates []estate.ID, m resolve.Message) *roaring.Bitmap {
	var met []string
	for _, id := range gates {
		key := p.gateKey(id)
		if slices.Contains(met, key) {
			continue
		}
		met = append(met, key)
		in := p.judged(id, m)
		rest := roaring.AndNot(set, in.admitted)
		rest.AndNot(in.held)
		for _, one := range []*roaring.Bitmap{roaring.And(set, in.admitted), roaring.And(set, in.held), rest} {
			if one.Intersects(among) {
				set = one
				break
			}
		}
	}
	return set
}
