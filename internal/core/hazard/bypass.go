package hazard

import (
	"encoding/binary"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// bypass finds out who gets mail of a group by paths that avoid one nested in it.
type bypass struct {
	*resolve.Detour
	p     *Pass
	t     *turn
	wants []resolve.Path // from the nested group on
}

func (p *Pass) bypass(t *turn) *bypass {
	return &bypass{
		Detour: p.R.Flow(t.outer, t.message).Avoiding(t.group, t.message), p: p, t: t,
		wants: p.R.Deliver(resolve.Query{Group: t.group, Message: t.message}).Paths,
	}
}

// eachWanting visits the people who get or read something of the nested group, until visit
// returns false: some of them several times.
func (b *bypass) eachWanting(visit func(person estate.ID) bool) {
	for _, path := range b.wants {
		more := true
		b.p.R.EachGift(path.Group, b.t.message, func(person estate.ID, outcome resolve.Outcome) bool {
			more = outcome == resolve.Nothing || visit(person)
			return more
		})
		if !more {
			return
		}
	}
}

// of visits what groups give a person by paths that avoid the nested one.
func (b *bypass) of(person estate.ID, visit func(*resolve.Gift)) {
	b.Of(person, func(one *resolve.Gift) {
		if one.Outcome != resolve.Nothing {
			visit(one)
		}
	})
}

// without reports whether a person has nothing by paths that avoid the nested group, even if
// every gate admits.
func (b *bypass) without(person estate.ID) bool {
	nothing := true
	b.of(person, func(*resolve.Gift) { nothing = false })
	return nothing
}

// anyMissesAll reports whether a member of a nested group gets nothing by any other path, even if
// all gates admit: several senders are turned away.
func (b *bypass) anyMissesAll() bool {
	found := false
	b.eachWanting(func(person estate.ID) bool {
		found = b.without(person)
		return !found
	})
	return found
}

// anyMisses reports whether a member of a nested group that turns away what some senders write
// gets it by no other path.
func (b *bypass) anyMisses(from senders) bool {
	found, wanted := false, false
	b.eachWanting(func(person estate.ID) bool {
		wanted = true
		found = b.without(person) && !b.p.isEcho(person, turned{b.t.outer, from, b.t.message})
		return !found
	})
	if found || !wanted {
		return found
	}
	return b.anyMissesFrom(from)
}

// anyMissesFrom is anyMisses where everybody would get something if all gates admitted: it
// depends on who writes.
func (b *bypass) anyMissesFrom(from senders) bool {
	if b.someMissNearby(from.known) {
		return true
	}
	found := false
	b.eachMissing(from.known, func(person estate.ID, known *roaring.Bitmap) bool {
		// One part of the senders is to miss: if it is the person alone, they may be meant to.
		part := senders{known: known}
		found = !b.p.isEcho(person, turned{b.t.outer, part, b.t.message})
		return !found
	})
	for _, s := range from.others {
		if found {
			return true
		}
		part := senders{known: nobody, others: []resolve.Sender{s}}
		paths := b.States(s)
		b.eachWanting(func(person estate.ID) bool {
			found = !b.getsFrom(person, paths) && !b.p.isEcho(person, turned{b.t.outer, part, b.t.message})
			return !found
		})
	}
	return found
}

// someMissNearby reports whether several of some known senders are stopped by the own gates of
// all groups that would give something to one person who wants it: a quick look, that may not
// find what there is.
func (b *bypass) someMissNearby(known *roaring.Bitmap) bool {
	if known.GetCardinality() < 2 {
		return false
	}
	found := false
	tried := 0
	b.eachWanting(func(person estate.ID) bool {
		set := known
		b.of(person, func(gift *resolve.Gift) {
			if !set.IsEmpty() {
				set = b.stopped(gift.Group, set)
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
func (b *bypass) stopped(group estate.ID, set *roaring.Bitmap) *roaring.Bitmap {
	if group == b.t.outer || b.p.E.Group(group).Kind == estate.Roster {
		return nobody
	}
	in := b.p.R.Gate(group).LetIn(b.t.message)
	stopped := roaring.AndNot(set, in.Admitted)
	stopped.AndNot(in.Held)
	return stopped
}

// getsFrom reports whether a person gets something over paths in some states: a copy over an
// open path, or anything over a waiting one.
func (b *bypass) getsFrom(person estate.ID, states map[estate.ID]resolve.PathState) bool {
	gets := false
	b.of(person, func(gift *resolve.Gift) {
		state, there := states[gift.Group]
		gets = gets || there && (state == resolve.PathWaiting || state == resolve.PathOpen && gift.Outcome != resolve.Archive)
	})
	return gets
}

// eachMissing visits the people who miss what some known senders write, and those senders,
// until visit returns false.
func (b *bypass) eachMissing(known *roaring.Bitmap, visit func(person estate.ID, from *roaring.Bitmap) bool) {
	if known.IsEmpty() {
		return
	}
	b.Send(known, nil)
	missing := map[string]*roaring.Bitmap{} // by what the groups that avoid the nested one give
	done := map[estate.ID]bool{}
	b.eachWanting(func(person estate.ID) bool {
		if done[person] {
			return true
		}
		done[person] = true
		var key []byte
		var gifts []*resolve.Gift
		b.of(person, func(gift *resolve.Gift) {
			gifts = append(gifts, gift)
			key = binary.LittleEndian.AppendUint32(key, uint32(gift.Group)<<1|archived(gift.Outcome))
		})
		set, ok := missing[string(key)]
		if !ok {
			set = b.missing(known, gifts)
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

// missing returns those of some senders whose mail comes to somebody by no group.
func (b *bypass) missing(known *roaring.Bitmap, gifts []*resolve.Gift) *roaring.Bitmap {
	set := known.Clone()
	get := func(gift *resolve.Gift) {
		open, passed := b.From(gift.Group)
		if gift.Outcome == resolve.Archive {
			passed = roaring.AndNot(passed, open)
		}
		set.AndNot(passed)
	}
	var far []*resolve.Gift // what is near is often enough
	for _, gift := range gifts {
		if b.Near(gift.Group) {
			get(gift)
		} else {
			far = append(far, gift)
		}
	}
	for _, gift := range far {
		if set.IsEmpty() {
			break
		}
		get(gift)
	}
	return set
}

// shown returns some senders whose message a nested group turns away, and the first of its
// members by address who misses it: senders that no gate that the mail comes to tells apart.
func (p *Pass) shown(t *turn) (senders, estate.ID) {
	a := p.R.AsksOf(p.E.Settings().Edge, p.E.Group(t.outer).Gate, p.E.Group(t.group).Gate)
	from := p.turnedFrom(t, &a)
	b := p.bypass(t)
	if first := b.first(from, func(person estate.ID) bool { return b.without(person) }); first != estate.None {
		return from, first
	}
	missed := roaring.New()
	b.eachMissing(from.known, func(person estate.ID, set *roaring.Bitmap) bool {
		if !p.isEcho(person, turned{t.outer, senders{known: set}, t.message}) {
			missed.Or(set)
		}
		return true
	})
	if !missed.IsEmpty() {
		part := senders{known: resolve.FirstKind(from.known, p.letIn(p.gatesIn(t.outer, t.group), t.message), missed)}
		states := b.States(p.one(part))
		return part, b.first(part, func(person estate.ID) bool { return !b.getsFrom(person, states) })
	}
	for _, s := range from.others {
		part := senders{known: nobody, others: []resolve.Sender{s}}
		states := b.States(s)
		first := b.first(part, func(person estate.ID) bool { return !b.getsFrom(person, states) })
		if first != estate.None {
			return part, first
		}
	}
	return from, estate.None // it was found before
}

// first returns the first person by address who wants mail of a nested group and misses it,
// unless it would be their own message that their groups do not send them back.
func (b *bypass) first(from senders, misses func(estate.ID) bool) estate.ID {
	first := estate.None
	b.eachWanting(func(person estate.ID) bool {
		if (first == estate.None || b.p.E.Rank(person) < b.p.E.Rank(first)) && misses(person) &&
			!b.p.isEcho(person, turned{b.t.outer, from, b.t.message}) {
			first = person
		}
		return true
	})
	return first
}
