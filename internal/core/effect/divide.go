package effect

import (
	"maps"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// crowd are senders that are followed together: people and groups that both estates have, as they are numbered
// in the new one, or others, by their index.
type crowd struct {
	all      *roaring.Bitmap
	others   []twin // nil: people and groups
	was, now func(group estate.ID) resolve.LetIn
}

// crowds returns everybody who may send a message.
func (f *flow) crowds(m resolve.Message, asks *resolve.Asks) [2]crowd {
	c := f.c
	known := crowd{
		all: c.both,
		was: func(group estate.ID) resolve.LetIn { return c.wasLetIn(group, m) },
		now: func(group estate.ID) resolve.LetIn { return c.new.Gate(group).LetIn(m) },
	}
	others := crowd{all: roaring.New(), others: c.others(asks, m.Unproven)}
	others.all.AddRange(0, uint64(len(others.others)))
	var was, now []resolve.Sender
	for _, s := range others.others {
		was, now = append(was, s.old), append(now, s.new)
	}
	others.was = func(group estate.ID) resolve.LetIn { return c.old.Gate(group).LetInOf(was, m) }
	others.now = func(group estate.ID) resolve.LetIn { return c.new.Gate(group).LetInOf(now, m) }
	return [2]crowd{known, others}
}

// wasLetIn returns what the own gate of a group of the old estate says to those that both have, as they are
// numbered in the new one.
func (c *comparison) wasLetIn(group estate.ID, m resolve.Message) resolve.LetIn {
	in := c.old.Gate(group).LetIn(m)
	return resolve.LetIn{Admitted: c.translate(in.Admitted), Held: c.translate(in.Held)}
}

// A divide finds the people who get something else of the mail of a crowd, and the senders whose mail it is.
type divide struct {
	f        *flow
	m        resolve.Message
	crowd    crowd
	old, new *resolve.Detour
	kinds    []kind
	seats    []int // all that are looked at
}

// kind are people with the same outlook, in both estates.
type kind struct {
	seats []int
	from  map[become]*roaring.Bitmap // those from whose mail they get something else
}

// divide finds who gets something else of a message from some senders.
func (f *flow) divide(m resolve.Message, crowd crowd, told map[int]bool) *divide {
	old, new := f.flows(m)
	d := &divide{f: f, m: m, crowd: crowd, old: old.Avoiding(estate.None, m), new: new.Avoiding(estate.None, m)}
	d.old.Send(crowd.all, crowd.was)
	d.new.Send(crowd.all, crowd.now)
	d.find(told)
	kinds := map[outlooks]int{}
	for _, seat := range d.seats {
		o := d.outlooks(seat)
		at, met := kinds[o]
		if !met {
			at = len(d.kinds)
			kinds[o] = at
			d.kinds = append(d.kinds, kind{from: o.from()})
		}
		d.kinds[at].seats = append(d.kinds[at].seats, seat)
	}
	return d
}

// find finds those whose memberships differ, or the paths to them.
func (d *divide) find(told map[int]bool) {
	f := d.f
	met := map[int]bool{}
	add := func(seat int) {
		if !told[seat] && !met[seat] {
			met[seat] = true
			d.seats = append(d.seats, seat)
		}
	}
	all := func(pair Pair) {
		if pair.Old != estate.None {
			f.c.old.EachGift(pair.Old, d.m, func(person estate.ID, _ resolve.Outcome) bool {
				add(f.c.seats.person(person, true))
				return true
			})
		}
		if pair.New != estate.None {
			f.c.new.EachGift(pair.New, d.m, func(person estate.ID, _ resolve.Outcome) bool {
				add(f.c.seats.person(person, false))
				return true
			})
		}
	}
	for _, pair := range f.alone {
		all(pair)
	}
	below := d.below()
	for _, pair := range f.pairs {
		if f.otherEcho(pair) || below[pair.New] && !d.samePaths(pair) {
			all(pair)
			continue
		}
		for _, seat := range f.differing(pair, d.m) {
			add(seat)
		}
	}
	slices.Sort(d.seats)
}

// below returns the groups to which the paths, or the gates on them, may differ: as they are numbered in the new
// estate.
func (d *divide) below() map[estate.ID]bool {
	f := d.f
	below := map[estate.ID]bool{}
	var queue []Pair
	reach := func(pair Pair) {
		if pair.Old != estate.None && pair.New != estate.None && !below[pair.New] {
			below[pair.New] = true
			queue = append(queue, pair)
		}
	}
	for _, pair := range f.pairs {
		if f.moved[pair.New] || f.isAsked(pair) && (d.crowd.others == nil && f.c.judgesApart(pair, d.m) ||
			d.crowd.others != nil && f.c.judgesOthersApart(pair, d.m, d.crowd.others)) {
			reach(pair)
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		for _, child := range f.c.b.Children(queue[0].New) {
			reach(Pair{f.c.toOld[child.Group], child.Group})
		}
		for _, child := range f.c.a.Children(queue[0].Old) {
			reach(Pair{child.Group, f.c.toNew[child.Group]})
		}
	}
	return below
}

// samePaths reports whether mail of everybody comes to a group as it did.
func (d *divide) samePaths(pair Pair) bool {
	openWas, passedWas := d.old.From(pair.Old)
	open, passed := d.new.From(pair.New)
	return openWas.Equals(open) && passedWas.Equals(passed)
}

// people returns who has a seat in each estate, or None.
func (d *divide) people(seat int) (old, new estate.ID) {
	c := d.f.c
	old, new = estate.None, estate.None
	if person, there := c.seats.old(seat); there {
		old = person
	}
	if seat < c.b.People() {
		new = c.b.PersonID(seat)
	}
	return old, new
}

// outlooks are what somebody gets from the senders, in both estates.
type outlooks struct{ was, is *resolve.Outlook }

func (d *divide) outlooks(seat int) (o outlooks) {
	old, new := d.people(seat)
	if old != estate.None {
		o.was = d.old.Outlook(old, estate.None)
	}
	if new != estate.None {
		o.is = d.new.Outlook(new, estate.None)
	}
	return o
}

// from returns the senders of whose mail somebody gets something else, by what.
func (o outlooks) from() map[become]*roaring.Bitmap {
	from := map[become]*roaring.Bitmap{}
	each := func(o *resolve.Outlook, visit func(outcome, *roaring.Bitmap)) {
		if o == nil {
			visit(outcome{}, nil) // from everybody
			return
		}
		for i, set := range o {
			if set != nil {
				visit(outcome{resolve.Outcome(i), true}, set)
			}
		}
	}
	each(o.was, func(was outcome, before *roaring.Bitmap) {
		each(o.is, func(is outcome, later *roaring.Bitmap) {
			set := before
			switch {
			case was == is:
				return
			case before == nil:
				set = later
			case later != nil:
				set = roaring.And(before, later)
			}
			if !set.IsEmpty() {
				from[become{was, is}] = set
			}
		})
	})
	return from
}

// authors returns the senders who get something else of their own message, in a crowd.
func (d *divide) authors() *roaring.Bitmap {
	set := roaring.New()
	for _, seat := range d.seats {
		for _, sender := range d.asSender(seat) {
			if own := d.own(seat, sender); own.old != own.new {
				set.Add(sender)
			}
		}
	}
	return set
}

// asSender returns the numbers of somebody among the senders of the crowd.
func (d *divide) asSender(seat int) (numbers []uint32) {
	old, new := d.people(seat)
	if d.crowd.others == nil {
		if new != estate.None && d.crowd.all.Contains(uint32(new)) {
			numbers = append(numbers, uint32(new))
		}
		return numbers
	}
	for i, s := range d.crowd.others {
		if new != estate.None && (s.new.ID == new || s.old.ID != estate.None && d.f.c.toNew[s.old.ID] == new) ||
			old != estate.None && s.old.ID == old {
			numbers = append(numbers, uint32(i))
		}
	}
	return numbers
}

// own returns what becomes of what somebody gets of their own message.
func (d *divide) own(seat int, sender uint32) (b become) {
	best := func(e *estate.Estate, detour *resolve.Detour, person estate.ID) (o outcome) {
		if person == estate.None {
			return o
		}
		detour.Of(person, func(one *resolve.Gift) {
			if is := one.Own.Over(detour.State(one.Group, sender)); !o.any || is < o.Outcome {
				o = outcome{is, true}
			}
		})
		if o.any && o.Outcome <= resolve.Digest && e.IsShut(person) {
			o.Outcome = resolve.Undeliverable
		}
		return o
	}
	old, new := d.people(seat)
	return become{best(d.f.c.a, d.old, old), best(d.f.c.b, d.new, new)}
}

// A part is senders that all nested gates treat alike, in both estates.
type part struct {
	one    twin            // one of them
	number uint32          // of one of them in the crowd
	known  *roaring.Bitmap // those of them that both estates have; nil: one alone
}

func (p part) size() int {
	if p.known == nil {
		return 1
	}
	return int(p.known.GetCardinality())
}

// parts divides the senders from whose mail somebody gets something else, by what nested gates say to them, and
// reports whether those are all kinds that there are.
func (d *divide) parts() ([]part, bool) {
	affected := roaring.New()
	for _, kind := range d.kinds {
		for _, set := range kind.from {
			affected.Or(set)
		}
	}
	if d.f.echo {
		affected.Or(d.authors())
	}
	var parts []part
	if d.crowd.others != nil {
		for it := affected.Iterator(); it.HasNext(); {
			if len(parts) == mostKinds {
				return parts, false
			}
			number := it.Next()
			parts = append(parts, part{one: d.crowd.others[number], number: number})
		}
		return parts, true
	}
	var gates []resolve.LetIn
	for _, group := range d.f.gates.new {
		gates = append(gates, d.crowd.now(group))
	}
	for _, group := range d.f.gates.old {
		gates = append(gates, d.crowd.was(group))
	}
	c := d.f.c
	sets, all := resolve.Kinds(affected, gates, mostKinds)
	for _, set := range sets {
		if d.f.echo { // some of a kind alone may get something else of their own message
			set = resolve.FirstKind(c.both, gates, set)
		}
		id := estate.ID(set.Maximum()) // rather a person than a group
		a, was := c.b.Address(id), c.a.Address(c.toOld[id])
		one := twin{Somebody{Address: a}, c.old.Sender(was), c.new.Sender(a)}
		parts = append(parts, part{one, set.Maximum(), set})
	}
	return parts, all
}

// changes returns who gets something else of the mail of some senders that gates do not tell apart.
func (d *divide) changes(p part) []OutcomeChange {
	c := d.f.c
	people := map[become][]int{}
	for _, kind := range d.kinds {
		for b, set := range kind.from {
			if set.Contains(p.number) {
				people[b] = append(people[b], kind.seats...)
			}
		}
	}
	isSender := func(seat int) bool {
		return slices.ContainsFunc(d.asSender(seat), func(n uint32) bool { return n == p.number || p.known != nil && p.known.Contains(n) })
	}
	if d.f.echo && p.size() == 1 { // what they get of their own message comes below
		for b, seats := range people {
			if people[b] = slices.DeleteFunc(seats, isSender); len(people[b]) == 0 {
				delete(people, b)
			}
		}
	}
	changes := c.become(d.m, people)
	for i := range changes {
		changes[i].Senders = p.size()
	}
	if !d.f.echo {
		return changes
	}
	own := map[become][]int{}
	for _, seat := range d.seats {
		if isSender(seat) {
			if b := d.own(seat, p.number); b.old != b.new {
				own[b] = append(own[b], seat)
			}
		}
	}
	for _, o := range c.become(d.m, own) {
		o.Own = true
		if o.Senders = len(o.People); !slices.ContainsFunc(changes, o.like) {
			changes = append(changes, o)
		}
	}
	return changes
}

// bySender tells, for each kind of sender, the people who get something else. With too many kinds it returns false.
func (d *divide) bySender(tell func(o OutcomeChange, from ...Somebody)) bool {
	parts, all := d.parts()
	for i := 0; all && i < len(parts); i++ {
		for _, o := range d.changes(parts[i]) {
			tell(o, parts[i].one.Somebody)
		}
	}
	return all
}

// byPeople tells, for each difference, the people with the same senders. Every person stands there once.
func (d *divide) byPeople(tell func(o OutcomeChange, from ...Somebody)) {
	type alike struct {
		from  *roaring.Bitmap
		seats []int
	}
	lists := map[become][]*alike{}
	for _, kind := range d.kinds {
		for b, from := range kind.from {
			i := slices.IndexFunc(lists[b], func(one *alike) bool { return one.from.Equals(from) })
			if i < 0 {
				i = len(lists[b])
				lists[b] = append(lists[b], &alike{from: from})
			}
			lists[b][i].seats = append(lists[b][i].seats, kind.seats...)
		}
	}
	for _, b := range slices.SortedFunc(maps.Keys(lists), byOrder) {
		for _, one := range lists[b] {
			for _, o := range d.f.c.become(d.m, map[become][]int{b: one.seats}) {
				o.Senders = int(one.from.GetCardinality())
				tell(o, d.some(one.from)...)
			}
		}
	}
	if !d.f.echo {
		return
	}
	own := map[become][]int{}
	for _, seat := range d.seats {
		for _, sender := range d.asSender(seat) {
			if b := d.own(seat, sender); b.old != b.new {
				own[b] = append(own[b], seat)
			}
		}
	}
	for _, o := range d.f.c.become(d.m, own) {
		o.Own, o.Senders = true, len(o.People)
		tell(o, o.People...)
	}
}

// some names some senders of the crowd.
func (d *divide) some(senders *roaring.Bitmap) (names []Somebody) {
	for it := senders.ReverseIterator(); it.HasNext() && len(names) < mostFrom; { // rather people than groups
		if number := it.Next(); d.crowd.others != nil {
			names = append(names, d.crowd.others[number].Somebody)
		} else {
			names = append(names, Somebody{Address: d.f.c.b.Address(estate.ID(number))})
		}
	}
	return names
}
