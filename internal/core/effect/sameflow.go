package effect

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// sameFlow reports whether mail to a group takes the same paths in both estates, and finds the
// same memberships there but for those of people who are already listed in full; of gates it
// says nothing.
func (c *comparison) sameFlow(f *flow, told map[int]bool) bool {
	old, new := f.flows(resolve.Message{})
	was, is := old.Paths, new.Paths
	if len(was) != len(is) || c.a.Settings().OpenNestedGates != c.b.Settings().OpenNestedGates {
		return false
	}
	for i := range was {
		x, y := was[i].Group, is[i].Group
		g, h := c.a.Group(x), c.b.Group(y)
		if c.toNew[x] != y || g.Kind != h.Kind || g.NoEcho != h.NoEcho || !c.sameChildren(x, y) {
			return false
		}
		f.pairs = append(f.pairs, Pair{x, y})
		if i > 0 && g.Kind != estate.Roster && !c.a.Settings().OpenNestedGates {
			f.asked = append(f.asked, Pair{x, y})
		}
	}
	f.sameWays = true
	return !slices.ContainsFunc(f.pairs, func(pair Pair) bool { return !c.sameGifts(f, pair, told) })
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

// sameGates reports whether the gates of all nested groups say the same to everybody.
func (f *flow) sameGates() bool {
	return !slices.ContainsFunc(f.asked, func(pair Pair) bool { return !f.c.sameGate(pair) })
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
		same = same && c.apart(pair, m).IsEmpty() &&
			!slices.ContainsFunc(c.others(&asks, m.Unproven), func(s twin) bool { return c.judgesApart(pair, s, m) })
	}
	c.alike[pair] = same
	return same
}

// gateMessage is a message that the own gates of a group in both estates are asked about.
type gateMessage struct {
	pair    Pair
	message resolve.Message
}

// apart returns the people and groups that both estates have, and that the own gates of a group treat
// differently. The set is not to be changed.
func (c *comparison) apart(pair Pair, m resolve.Message) *roaring.Bitmap {
	if c.unconcerned != nil && c.unconcerned[pair.New] {
		return nobody
	}
	key := gateMessage{pair, m}
	set, known := c.judged[key]
	if known {
		return set
	}
	was, is := c.old.Gate(pair.Old).LetIn(m), c.new.Gate(pair.New).LetIn(m)
	set = roaring.Or(roaring.Xor(c.translate(was.Admitted), is.Admitted), roaring.Xor(c.translate(was.Held), is.Held))
	set.And(c.both)
	c.judged[key] = set
	return set
}

var nobody = roaring.New()

// judgesApart reports whether the own gates of a group say something else to somebody.
func (c *comparison) judgesApart(pair Pair, s twin, m resolve.Message) bool {
	if c.unconcerned != nil && c.unconcerned[pair.New] {
		return false
	}
	return resolve.StateOf(c.old.Gate(pair.Old).Judge(s.old, m).Verdict) !=
		resolve.StateOf(c.new.Gate(pair.New).Judge(s.new, m).Verdict)
}

// sameGifts reports whether a group gives everybody the same, of a default message and of an
// invitation, but for those who are already listed in full.
func (c *comparison) sameGifts(f *flow, pair Pair, told map[int]bool) bool {
	for _, m := range []resolve.Message{{}, {Invitation: true}} {
		for _, seat := range f.differing(pair, m) {
			if !told[seat] {
				return false
			}
		}
	}
	return true
}

func sizeText(size int64) string {
	digits := []byte{}
	for ; size > 0; size /= 10 {
		digits = append(digits, byte('0'+size%10))
	}
	return string(digits)
}
