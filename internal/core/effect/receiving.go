package effect

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// An OutcomeChange is another outcome of a message for some people.
type OutcomeChange struct {
	Message       resolve.Message
	Old, New      resolve.Outcome
	Before, Later bool // whether there is an outcome at all
	People        []Somebody
	// From are some of the senders for whom it is so, and Senders how many they are;
	// nobody where it is so without a sender in particular.
	From    []Somebody
	Senders int
	Own     bool // it is so of everybody's own message
}

// outcome is what somebody gets, or nothing at all.
type outcome struct {
	resolve.Outcome
	any bool
}

// become is a difference of outcomes.
type become struct{ old, new outcome }

// outcomes are who gets what, by address in canonical form.
type outcomes map[string]outcome

// receives compares who gets what: without a sender of a default message and of an
// invitation, and then for every kind of sender.
func (c *comparison) receives(change *Change) {
	old, id := change.Group.Old, change.Group.New
	told := map[string]bool{} // for whom a default message differs without a sender
	for _, m := range []resolve.Message{{}, {Invitation: true}} {
		before := c.outcomesOf(c.old, c.a, old, c.old.Elsewhere(old, estate.None, nil, m), true)
		later := c.outcomesOf(c.new, c.b, id, c.new.Elsewhere(id, estate.None, nil, m), false)
		for _, o := range c.becomes(before, later, m) {
			change.Receives = append(change.Receives, o)
			if !m.Invitation {
				for _, one := range o.People {
					told[c.b.Key(one.Address)] = true
				}
			}
		}
	}
	change.Receives = merged(change.Receives)
	c.bySender(change, told)
}

// merged leaves out of invitations what is so of every message.
func merged(list []OutcomeChange) []OutcomeChange {
	all := slices.Clone(list)
	return slices.DeleteFunc(list, func(x OutcomeChange) bool {
		return x.Message.Invitation && slices.ContainsFunc(all, func(y OutcomeChange) bool {
			return isDefault(y.Message) && x.like(y)
		})
	})
}

// outcomesOf names the outcomes of people, and of addresses that do not exist: those of
// the old estate by the addresses that they have in the new one.
func (c *comparison) outcomesOf(
	r *resolve.Resolver, e *estate.Estate, group estate.ID, list []resolve.PersonOutcome, isOld bool,
) outcomes {
	named := make(outcomes, len(list))
	for _, x := range list {
		named[c.keyOf(e, x.Person, isOld)] = outcome{x.Outcome, true}
	}
	for _, id := range r.Nobodies(group) {
		named[c.b.Key(e.Address(id))] = outcome{resolve.Undeliverable, true}
	}
	return named
}

// keyOf returns what stands for a person of one of the estates in both.
func (c *comparison) keyOf(e *estate.Estate, person estate.ID, isOld bool) string {
	if isOld && c.toNew[person] != estate.None {
		return c.b.Key(c.b.Address(c.toNew[person]))
	}
	return c.b.Key(e.Address(person))
}

// becomes returns the differences of outcomes of a message.
func (c *comparison) becomes(before, later outcomes, m resolve.Message) []OutcomeChange {
	people := map[become][]Somebody{}
	note := func(key string, b become) {
		if a, err := address.Parse(key); err == nil && b.old != b.new {
			people[b] = append(people[b], Somebody{Address: c.shown(a)})
		}
	}
	for key, was := range before {
		note(key, become{was, later[key]})
	}
	for key, is := range later {
		if _, known := before[key]; !known {
			note(key, become{outcome{}, is})
		}
	}
	var changes []OutcomeChange
	for b, list := range people {
		changes = append(changes, OutcomeChange{
			Message: m, Old: b.old.Outcome, New: b.new.Outcome, Before: b.old.any, Later: b.new.any, People: sorted(list),
		})
	}
	slices.SortFunc(changes, func(x, y OutcomeChange) int { return x.order() - y.order() })
	return changes
}

// shown returns an address as the estates write it.
func (c *comparison) shown(a address.Address) address.Address {
	for _, e := range []*estate.Estate{c.b, c.a} {
		if id, ok := e.Exact(a); ok {
			return e.Address(id)
		}
	}
	return a
}

func (o OutcomeChange) order() int {
	order := int(o.Old)*16 + int(o.New)
	if o.Before && o.Later {
		order += 1 << 12
	} else if o.Later {
		order += 1 << 10
	}
	return order
}

// mostKinds is how many kinds of sender are looked at for one message to one group.
const mostKinds = 100

// bySender compares who gets what of particular senders: gates of nested groups may let
// some of them through and not others, and some groups send nobody their own message
// back. told are those of whom it is said already that they get something else.
func (c *comparison) bySender(change *Change, told map[string]bool) {
	old, id := change.Group.Old, change.Group.New
	nested := c.nestedGates(old, id)
	if len(nested.old)+len(nested.new) == 0 && !nested.echo || c.sameFlow(old, id, told) {
		return
	}
	var rules [][]estate.GateRule
	for _, group := range nested.old {
		rules = append(rules, c.a.Group(group).Gate)
	}
	for _, group := range nested.new {
		rules = append(rules, c.b.Group(group).Gate)
	}
	asks := c.new.AsksOf(rules...)
	messages := asks.Messages()
	if invitation := (resolve.Message{Invitation: true}); !slices.Contains(messages, invitation) {
		messages = append(messages, invitation)
	}
	found := map[string]*OutcomeChange{}
	var order []string
	for _, m := range messages {
		parts, all := c.kindsOfSender(nested, m, &asks)
		change.Unchecked = change.Unchecked || !all
		for _, part := range parts {
			for _, o := range c.fromPart(old, id, m, part, nested.echo) {
				if o.People = slices.DeleteFunc(o.People,
					func(s Somebody) bool { return told[c.b.Key(s.Address)] }); len(o.People) == 0 {
					continue
				}
				key := o.key()
				if found[key] == nil {
					found[key] = &o
					order = append(order, key)
				} else {
					found[key].Senders += o.Senders
				}
				if list := &found[key].From; len(*list) < mostFrom {
					*list = append(*list, part.one.Somebody)
				}
			}
		}
	}
	for _, key := range order {
		// What is so of default messages is not said of others again.
		if o := found[key]; isDefault(o.Message) || !slices.ContainsFunc(order, func(other string) bool {
			return isDefault(found[other].Message) && found[other].Own == o.Own && found[other].like(*o)
		}) {
			change.Receives = append(change.Receives, *o)
		}
	}
}

func isDefault(m resolve.Message) bool { return m == resolve.Message{} }

// like reports whether the same people get the same otherwise, of whatever message.
func (o *OutcomeChange) like(other OutcomeChange) bool {
	return o.Old == other.Old && o.New == other.New && o.Before == other.Before && o.Later == other.Later &&
		slices.Equal(o.People, other.People)
}

// mostFrom is how many senders are named.
const mostFrom = 3

// key tells differences by sender apart, but for the sender.
func (o *OutcomeChange) key() string {
	key := make([]byte, 0, 64)
	for _, part := range []int{int(o.Old), int(o.New), bit(o.Before), bit(o.Later), bit(o.Message.Unproven),
		bit(o.Message.Suspect), bit(o.Message.Automatic), bit(o.Message.Invitation), bit(o.Own)} {
		key = append(key, byte('0'+part))
	}
	for _, one := range o.People {
		key = append(key, '\n')
		key = append(key, one.Address.Key()...)
	}
	return string(key) + " " + sizeText(o.Message.Size)
}

func bit(yes bool) int {
	if yes {
		return 1
	}
	return 0
}

// nestedGates are the groups nested in a group whose own gates are asked.
type nestedGates struct {
	old, new []estate.ID
	echo     bool // a group that mail comes to sends nobody their own message back
}

func (c *comparison) nestedGates(old, id estate.ID) nestedGates {
	var n nestedGates
	in := func(r *resolve.Resolver, group estate.ID) (asked []estate.ID) {
		e := r.Estate()
		for i, way := range r.Deliver(group, nil, resolve.Message{}).Ways {
			n.echo = n.echo || e.Group(way.Group).NoEcho
			if i > 0 && !e.Settings().OpenNestedGates && e.Group(way.Group).Kind != estate.Roster {
				asked = append(asked, way.Group)
			}
		}
		return asked
	}
	n.old, n.new = in(c.old, old), in(c.new, id)
	return n
}

// part are senders to whom all nested gates say the same, in both estates.
type part struct {
	one   twin            // one of them
	known *roaring.Bitmap // those of them whom both estates have; nil: one alone
}

func (p part) size() int {
	if p.known == nil {
		return 1
	}
	return int(p.known.GetCardinality())
}

// kindsOfSender divides all senders by what nested gates say to them, and reports whether
// those are all kinds that there are.
func (c *comparison) kindsOfSender(n nestedGates, m resolve.Message, asks *resolve.Asks) ([]part, bool) {
	all := true
	sets := []*roaring.Bitmap{c.both}
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
	for _, other := range c.others(asks, m.Unproven) {
		if len(parts) == 2*mostKinds {
			return parts, false
		}
		parts = append(parts, part{one: other})
	}
	return parts, all
}

// verdictClasses returns those whom a gate admits, and those whom it holds.
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

// fromPart compares who gets what of a message of some senders.
func (c *comparison) fromPart(old, id estate.ID, m resolve.Message, p part, echo bool) []OutcomeChange {
	before := c.outcomesOf(c.old, c.a, old, c.old.Elsewhere(old, estate.None, &p.one.old, m), true)
	later := c.outcomesOf(c.new, c.b, id, c.new.Elsewhere(id, estate.None, &p.one.new, m), false)
	changes := c.becomes(before, later, m)
	for i := range changes {
		changes[i].Senders = p.size()
	}
	if !echo {
		return changes
	}
	if p.size() == 1 { // what they get of their own message comes below
		for i := range changes {
			changes[i].People = slices.DeleteFunc(changes[i].People, func(s Somebody) bool { return p.has(c, s) })
		}
		changes = slices.DeleteFunc(changes, func(o OutcomeChange) bool { return len(o.People) == 0 })
	}
	own := c.becomes(
		c.outcomesOf(c.old, c.a, old, c.old.OwnMessage(old, p.one.old, m), true),
		c.outcomesOf(c.new, c.b, id, c.new.OwnMessage(id, p.one.new, m), false), m)
	for _, o := range own {
		o.Own = true
		o.People = slices.DeleteFunc(o.People, func(s Somebody) bool { return !p.has(c, s) })
		if o.Senders = len(o.People); o.Senders > 0 && !slices.ContainsFunc(changes, o.like) {
			changes = append(changes, o)
		}
	}
	return changes
}

// has reports whether somebody is one of the senders.
func (p part) has(c *comparison, s Somebody) bool {
	id, ok := c.b.Exact(s.Address)
	if p.known == nil {
		old, was := c.a.Exact(s.Address)
		return ok && p.one.new.ID == id || was && p.one.old.ID == old ||
			ok && p.one.old.ID != estate.None && c.toNew[p.one.old.ID] == id
	}
	return ok && p.known.Contains(uint32(id))
}

// sameFlow reports whether mail to a group takes the same ways in both estates, and finds
// the same memberships there but for those of people of whom all is told already.
func (c *comparison) sameFlow(old, id estate.ID, told map[string]bool) bool {
	was, is := c.old.Deliver(old, nil, resolve.Message{}), c.new.Deliver(id, nil, resolve.Message{})
	if len(was.Ways) != len(is.Ways) || c.a.Settings().OpenNestedGates != c.b.Settings().OpenNestedGates {
		return false
	}
	for i := range was.Ways {
		x, y := was.Ways[i].Group, is.Ways[i].Group
		g, h := c.a.Group(x), c.b.Group(y)
		if c.toNew[x] != y || g.Kind != h.Kind || g.NoEcho != h.NoEcho || !c.sameChildren(x, y) ||
			i > 0 && !c.sameGate(x, y) || !c.sameWishes(x, y, told) {
			return false
		}
	}
	return true
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

// sameGate reports whether the own gates of a group say the same to everybody.
func (c *comparison) sameGate(old, id estate.ID) bool {
	pair := Pair{old, id}
	same, known := c.alike[pair]
	if known {
		return same
	}
	same = true
	asks := c.new.AsksOf(c.a.Group(old).Gate, c.b.Group(id).Gate)
	for _, m := range asks.Messages() {
		was, is := verdictClasses(c.old, old, m), verdictClasses(c.new, id, m)
		for i := range was {
			moved := c.translate(was[i]).Clone()
			moved.And(c.both)
			same = same && moved.Equals(roaring.And(is[i], c.both))
		}
		for _, s := range c.others(&asks, m.Unproven) {
			same = same && resolve.StateOf(c.old.Judge(old, s.old, m).Verdict) == resolve.StateOf(c.new.Judge(id, s.new,
				m).Verdict)
		}
		if !same {
			break
		}
	}
	c.alike[pair] = same
	return same
}

// sameWishes reports whether everybody wants the same as a member of a group, but for
// those of whom all is told already.
func (c *comparison) sameWishes(old, id estate.ID, told map[string]bool) bool {
	type want struct {
		copy estate.Copy
		shut estate.MailboxState
	}
	wants := func(r *resolve.Resolver, group estate.ID, isOld bool) map[string][2]want {
		list := map[string][2]want{}
		for i, m := range []resolve.Message{{}, {Invitation: true}} {
			r.EachWish(group, m, func(person estate.ID, wish resolve.Wish) {
				key := c.keyOf(r.Estate(), person, isOld)
				pair := list[key]
				pair[i] = want{wish.Copy, r.Estate().Person(person).Mailbox}
				list[key] = pair
			})
		}
		return list
	}
	was, is := wants(c.old, old, true), wants(c.new, id, false)
	for key, w := range was {
		if v, ok := is[key]; (!ok || v != w) && !told[key] {
			return false
		}
	}
	for key := range is {
		if _, ok := was[key]; !ok && !told[key] {
			return false
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
