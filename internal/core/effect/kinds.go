package effect

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// nestedGates are the groups nested in a group whose own gates are asked.
type nestedGates struct{ old, new []estate.ID }

// nestedGates returns the nested gates of the group in both estates, and whether a group that its mail comes to
// sends nobody their own message back.
func (f *flow) nestedGates() (n nestedGates, echo bool) {
	old, new := f.flows(resolve.Message{})
	echo = sendsNoneBack(f.c.a, old) || sendsNoneBack(f.c.b, new)
	return nestedGates{old.Gates(), new.Gates()}, echo
}

func sendsNoneBack(e *estate.Estate, flow *resolve.Flow) bool {
	return slices.ContainsFunc(flow.Paths, func(path resolve.Path) bool { return e.Group(path.Group).NoEcho })
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
	was, is := f.flows(m)
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
			old: slices.DeleteFunc(slices.Clone(n.old), func(id estate.ID) bool { return !leads[f.c.toNew[id]] }),
		}, m, rest)
		all = all && complete
		for _, part := range parts {
			f.c.results.clear(f.c.seats.count())
			f.look(seat, states{
				old: was.States(part.one.old, m, func(group estate.ID) bool { return leads[f.c.toNew[group]] }),
				new: is.States(part.one.new, m, func(group estate.ID) bool { return leads[group] }),
			}, m)
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
	was, is := f.flows(m)
	if person, there := f.c.seats.old(seat); there {
		was.Of(person, func(one *resolve.Gift) { reach(f.c.toNew[one.Group]) })
	}
	if seat < f.c.b.People() {
		is.Of(f.c.b.PersonID(seat), func(one *resolve.Gift) { reach(one.Group) })
	}
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
	var gates []resolve.LetIn
	for _, group := range n.new {
		gates = append(gates, c.new.Gate(group).LetIn(m))
	}
	for _, group := range n.old {
		in := c.old.Gate(group).LetIn(m)
		gates = append(gates, resolve.LetIn{Admitted: c.translate(in.Admitted), Held: c.translate(in.Held)})
	}
	sets, all := resolve.Kinds(senders.known, gates, mostKinds)
	var parts []part
	for _, set := range sets {
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
