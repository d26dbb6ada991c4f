package effect

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// nestedGates are the groups nested in a group whose own gates are asked.
type nestedGates struct {
	old, new []estate.ID
	echo     bool // a group that mail comes to sends nobody their own message back
}

func (c *comparison) nestedGates(old, id estate.ID) nestedGates {
	var n nestedGates
	in := func(r *resolve.Resolver, group estate.ID) (asked []estate.ID) {
		e := r.Estate()
		for i, path := range r.Route(resolve.Query{Group: group}).Paths {
			n.echo = n.echo || e.Group(path.Group).NoEcho
			if i > 0 && !e.Settings().OpenNestedGates && e.Group(path.Group).Kind != estate.Roster {
				asked = append(asked, path.Group)
			}
		}
		return asked
	}
	n.old, n.new = in(c.old, old), in(c.new, id)
	return n
}

// A part is senders that all nested gates treat alike, in both estates.
type part struct {
	one   twin            // one of them
	known *roaring.Bitmap // those of them that both estates have; nil: one alone
}

func (p part) size() int {
	if p.known == nil {
		return 1
	}
	return int(p.known.GetCardinality())
}

// somebodies are senders: people and groups that both estates have, as they are numbered in the
// new one, and others.
type somebodies struct {
	known  *roaring.Bitmap
	others []twin
}

// parts divides senders by what nested gates say to them, and reports whether those are all
// kinds that there are. It may leave out those that all gates treat as before.
func (f *flow) parts(n nestedGates, m resolve.Message, asks *resolve.Asks, apartOnly bool) ([]part, bool) {
	if apartOnly {
		return f.c.kindsOfSender(n, m, f.judgedApart(m, asks))
	}
	return f.c.kindsOfSender(n, m, somebodies{f.c.both, f.c.others(asks, m.Unproven)})
}

// fewGates is the number of nested gates up to which senders are kept apart by all of them, and what
// people get is looked at together.
const fewGates = 16

// eachApart visits what becomes of a message for each single person who gets something else from some
// group than in the old estate, from senders that all gates treat as before: for one person only the gates
// on the paths to the groups matter that give them something. It reports whether all kinds of senders were looked at.
func (f *flow) eachApart(
	n nestedGates, m resolve.Message, asks *resolve.Asks, told map[int]bool, visit func(OutcomeChange, Somebody),
) bool {
	var seats []int
	for _, pair := range f.pairs {
		seats = append(seats, f.differing(pair, m)...)
	}
	slices.Sort(seats)
	all := true
	apart := f.judgedApart(m, asks)
	rest := somebodies{known: roaring.AndNot(f.c.both, apart.known)}
	for _, other := range f.c.others(asks, m.Unproven) {
		if !slices.Contains(apart.others, other) {
			rest.others = append(rest.others, other)
		}
	}
	for _, seat := range slices.Compact(seats) {
		if told[seat] {
			continue
		}
		leads := f.leadingTo(seat, m)
		parts, complete := f.c.kindsOfSender(nestedGates{
			new: slices.DeleteFunc(slices.Clone(n.new), func(id estate.ID) bool { return !leads[id] }),
			old: slices.DeleteFunc(slices.Clone(n.old), func(id estate.ID) bool { return !leads[f.numbered(id)] }),
		}, m, rest)
		all = all && complete
		for _, part := range parts {
			f.c.results.clear(f.c.seats.count())
			f.seat(seat, part.one, m, leads)
			for _, o := range f.c.becomes(m) {
				o.Senders = part.size()
				visit(o, part.one.Somebody)
			}
		}
	}
	return all
}

// leadingTo returns the groups on the paths to those that give somebody something.
func (f *flow) leadingTo(seat int, m resolve.Message) map[estate.ID]bool {
	leads := map[estate.ID]bool{}
	var queue []estate.ID
	reach := func(group estate.ID) {
		if !leads[group] {
			leads[group] = true
			queue = append(queue, group)
		}
	}
	f.gifts(m, false).of(seat, func(one *gift) { reach(one.group) })
	f.gifts(m, true).of(seat, func(one *gift) { reach(one.group) })
	if f.reached == nil {
		f.reached = map[estate.ID]bool{}
		for _, pair := range f.pairs {
			f.reached[pair.New] = true
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		for _, parent := range f.c.b.Parents(queue[0]) {
			if f.reached[parent.Group] {
				reach(parent.Group)
			}
		}
	}
	return leads
}

// seat notes what one person gets of a message of a sender, over some groups.
func (f *flow) seat(seat int, s twin, m resolve.Message, over map[estate.ID]bool) {
	was, is := map[estate.ID]resolve.PathState{}, map[estate.ID]resolve.PathState{}
	inOld := func(group estate.ID) bool { return over[f.numbered(group)] }
	for _, path := range f.c.old.Route(resolve.Query{Group: f.pair.Old, Sender: &s.old, Message: m, Over: inOld}).Paths {
		was[f.numbered(path.Group)] = path.State
	}
	inNew := func(group estate.ID) bool { return over[group] }
	for _, path := range f.c.new.Route(resolve.Query{Group: f.pair.New, Sender: &s.new, Message: m, Over: inNew}).Paths {
		is[path.Group] = path.State
	}
	f.c.results.set(seat, f.best(f.gifts(m, true), seat, was, true), true)
	f.c.results.set(seat, f.best(f.gifts(m, false), seat, is, false), false)
}

// judgedApart returns the senders that a gate of a nested group treats differently from the old estate. If
// paths, and what groups give, are the same, nothing else changes for anybody.
func (f *flow) judgedApart(m resolve.Message, asks *resolve.Asks) somebodies {
	s := somebodies{known: roaring.New()}
	for _, pair := range f.asked {
		s.known.Or(f.c.apart(pair, m))
	}
	for _, other := range f.c.others(asks, m.Unproven) {
		if slices.ContainsFunc(f.asked, func(pair Pair) bool { return f.c.judgesApart(pair, other, m) }) {
			s.others = append(s.others, other)
		}
	}
	return s
}

// kindsOfSender divides senders by what nested gates say to them, and reports whether
// those are all kinds that there are.
func (c *comparison) kindsOfSender(n nestedGates, m resolve.Message, senders somebodies) ([]part, bool) {
	all := true
	sets := []*roaring.Bitmap{senders.known}
	split := func(classes []*roaring.Bitmap) {
		var finer []*roaring.Bitmap
		for _, set := range sets {
			rest := set
			for _, class := range classes {
				if some := roaring.And(rest, class); !some.IsEmpty() {
					finer = append(finer, some)
					rest = roaring.AndNot(rest, some)
				}
			}
			if !rest.IsEmpty() {
				finer = append(finer, rest)
			}
		}
		if len(finer) > mostKinds {
			finer, all = finer[:mostKinds], false
		}
		sets = finer
	}
	if senders.known.IsEmpty() {
		n = nestedGates{}
	}
	for _, group := range n.new {
		split(verdictClasses(c.new, group, m))
	}
	for _, group := range n.old {
		classes := verdictClasses(c.old, group, m)
		for i := range classes {
			classes[i] = c.translate(classes[i])
		}
		split(classes)
	}
	var parts []part
	for _, set := range sets {
		if set.IsEmpty() {
			continue
		}
		id := estate.ID(set.Maximum()) // rather a person than a group
		a, was := c.b.Address(id), c.a.Address(c.toOld[id])
		parts = append(parts, part{twin{Somebody{Address: a}, c.old.Sender(was), c.new.Sender(a)}, set})
	}
	for _, other := range senders.others {
		if len(parts) == 2*mostKinds {
			return parts, false
		}
		parts = append(parts, part{one: other})
	}
	return parts, all
}

// verdictClasses returns those that a gate admits, and those that it holds.
func verdictClasses(r *resolve.Resolver, group estate.ID, m resolve.Message) []*roaring.Bitmap {
	admitted, held := roaring.New(), roaring.New()
	gate := r.Estate().Group(group).Gate
	for i, class := range r.Deciding(group, m) {
		switch gate[i].Verdict {
		case estate.Admit:
			admitted.Or(class)
		case estate.Hold:
			held.Or(class)
		}
	}
	return []*roaring.Bitmap{admitted, held}
}
