package effect

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// flow compares what comes of the mail of many senders to one group. Senders are compared as sets: only those
// people are looked at whose memberships, or the paths to them, differ.
type flow struct {
	c     *comparison
	pair  Pair
	gates nestedGates
	echo  bool   // a group that mail comes to sends nobody their own message back
	pairs []Pair // groups that mail comes to in both estates
	alone []Pair // in one of them: the other is None
	// moved holds groups of the new estate that other groups pass mail to than before.
	moved map[estate.ID]bool
	apart [2]map[Pair][]int // seats to which two groups give something else
}

// nestedGates are the groups nested in a group whose own gates are asked.
type nestedGates struct{ old, new []estate.ID }

// gateMessage is a message that the own gates of a group in both estates are asked about.
type gateMessage struct {
	pair    Pair
	message resolve.Message
}

func (c *comparison) flow(pair Pair) *flow {
	f := &flow{c: c, pair: pair, moved: map[estate.ID]bool{}}
	old, new := f.flows(resolve.Message{})
	f.gates = nestedGates{old.Gates(), new.Gates()}
	was := map[estate.ID]bool{}
	for _, path := range old.Paths {
		was[path.Group] = true
		f.echo = f.echo || c.a.Group(path.Group).NoEcho
	}
	for _, path := range new.Paths {
		f.echo = f.echo || c.b.Group(path.Group).NoEcho
		if before := c.toOld[path.Group]; before != estate.None && was[before] {
			f.pairs = append(f.pairs, Pair{before, path.Group})
			delete(was, before)
		} else {
			f.alone = append(f.alone, Pair{estate.None, path.Group})
		}
	}
	for id := range was {
		f.alone = append(f.alone, Pair{id, estate.None})
	}
	if len(f.gates.old)+len(f.gates.new) > 0 {
		f.findMoved()
	}
	return f
}

// flows return what the group gives of a message, in both estates.
func (f *flow) flows(m resolve.Message) (old, new *resolve.Flow) {
	return f.c.old.Flow(f.pair.Old, m), f.c.new.Flow(f.pair.New, m)
}

// findMoved finds the groups to which other groups pass mail than before.
func (f *flow) findMoved() {
	c := f.c
	move := func(pair Pair) {
		if pair.Old != estate.None {
			for _, child := range c.a.Children(pair.Old) {
				f.moved[c.toNew[child.Group]] = true
			}
		}
		if pair.New != estate.None {
			for _, child := range c.b.Children(pair.New) {
				f.moved[child.Group] = true
			}
		}
	}
	for _, pair := range f.alone {
		move(pair)
	}
	opened := c.a.Settings().OpenNestedGates != c.b.Settings().OpenNestedGates
	for _, pair := range f.pairs {
		if opened || c.a.Group(pair.Old).Kind != c.b.Group(pair.New).Kind {
			f.moved[pair.New] = true
			move(pair)
		} else if !c.sameChildren(pair.Old, pair.New) {
			move(pair)
		}
	}
	delete(f.moved, estate.None)
}

// sameChildren reports whether mail passes from a group to the same nested groups.
func (c *comparison) sameChildren(old, id estate.ID) bool {
	passing := func(list []estate.Nesting) []estate.Nesting {
		return slices.DeleteFunc(slices.Clone(list), func(n estate.Nesting) bool { return !n.Passes })
	}
	return slices.EqualFunc(passing(c.a.Children(old)), passing(c.b.Children(id)), func(x, y estate.Nesting) bool {
		return c.toNew[x.Group] == y.Group
	})
}

// isSame reports whether the paths, the gates on them and the memberships are the same, but for those of people
// who are already told about in full.
func (f *flow) isSame(told map[int]bool) bool {
	if len(f.moved)+len(f.alone) > 0 {
		return false
	}
	for _, pair := range f.pairs {
		if f.otherEcho(pair) || f.isAsked(pair) && !f.c.sameGate(pair) {
			return false
		}
		for _, m := range []resolve.Message{{}, {Invitation: true}} {
			if slices.ContainsFunc(f.differing(pair, m), func(seat int) bool { return !told[seat] }) {
				return false
			}
		}
	}
	return true
}

// otherEcho reports whether a group gives people something else of their own message, though not of others'.
func (f *flow) otherEcho(pair Pair) bool {
	was, is := f.c.a.Group(pair.Old), f.c.b.Group(pair.New)
	return was.NoEcho != is.NoEcho || is.NoEcho && was.Kind != is.Kind
}

// isAsked reports whether the own gates of a group are asked about mail that comes to it, in either estate.
func (f *flow) isAsked(pair Pair) bool {
	return slices.Contains(f.gates.new, pair.New) || slices.Contains(f.gates.old, pair.Old)
}

// sameGate reports whether the own gates of a group say the same to everybody.
func (c *comparison) sameGate(pair Pair) bool {
	if c.unconcerned != nil && c.unconcerned[pair.New] {
		return true
	}
	same, known := c.alike[pair]
	if known {
		return same
	}
	same = true
	asks := c.new.AsksOf(c.a.Group(pair.Old).Gate, c.b.Group(pair.New).Gate)
	for _, m := range asks.Messages() {
		same = same && !c.judgesApart(pair, m) && !c.judgesOthersApart(pair, m, c.others(&asks, m.Unproven))
	}
	c.alike[pair] = same
	return same
}

// judgesApart reports whether the own gates of a group treat people and groups differently that both estates have.
func (c *comparison) judgesApart(pair Pair, m resolve.Message) bool {
	if c.unconcerned != nil && c.unconcerned[pair.New] {
		return false
	}
	key := gateMessage{pair, m}
	apart, known := c.judged[key]
	if !known {
		was, is := c.old.Gate(pair.Old).LetIn(m), c.new.Gate(pair.New).LetIn(m)
		apart = roaring.Xor(c.translate(was.Admitted), is.Admitted).Intersects(c.both) ||
			roaring.Xor(c.translate(was.Held), is.Held).Intersects(c.both)
		c.judged[key] = apart
	}
	return apart
}

func (c *comparison) judgesOthersApart(pair Pair, m resolve.Message, others []twin) bool {
	if c.unconcerned != nil && c.unconcerned[pair.New] {
		return false
	}
	return slices.ContainsFunc(others, func(s twin) bool {
		return resolve.StateOf(c.old.Gate(pair.Old).Judge(s.old, m).Verdict) !=
			resolve.StateOf(c.new.Gate(pair.New).Judge(s.new, m).Verdict)
	})
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
	gives := map[int]resolve.Outcome{}
	f.c.old.EachGift(pair.Old, m, func(person estate.ID, is resolve.Outcome) bool {
		gives[f.c.seats.person(person, true)] = is
		return true
	})
	list := []int{}
	f.c.new.EachGift(pair.New, m, func(person estate.ID, is resolve.Outcome) bool {
		seat := f.c.seats.person(person, false)
		old, there := gives[seat]
		delete(gives, seat)
		if !there || old != is || f.c.seats.shut(seat, true) != f.c.seats.shut(seat, false) {
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
