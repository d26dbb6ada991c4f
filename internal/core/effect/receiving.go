package effect

import (
	"slices"

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
	// From are some of the senders that it is true of, and Senders how many they are;
	// nobody where it is so without a sender in particular.
	From    []Somebody
	Senders int
	Own     bool // it is true of everybody's own message

	seats []int // of People, in no order; see seats
}

// outcome is what somebody gets, or nothing at all.
type outcome struct {
	resolve.Outcome
	any bool
}

// become is a difference of outcomes.
type become struct{ old, new outcome }

// receives compares who gets what: without a sender of a default message and of an
// invitation, and then for every kind of sender.
func (c *comparison) receives(change *GroupChange) {
	old, id := change.Group.Old, change.Group.New
	told := map[int]bool{} // seats of those who get something else of a default message without a sender
	for _, m := range []resolve.Message{{}, {Invitation: true}} {
		if c.sameWithoutSender(old, id) {
			continue
		}
		c.results.clear(c.seats.count())
		was, is := c.old.Flow(old, m), c.new.Flow(id, m)
		c.outcomesOf(was.Outcomes(), was.Nobodies(), true)
		c.outcomesOf(is.Outcomes(), is.Nobodies(), false)
		for _, o := range c.becomes(m) {
			change.Receives = append(change.Receives, o)
			if !m.Invitation {
				for _, seat := range o.seats {
					told[seat] = true
				}
			}
		}
	}
	change.Receives = merged(change.Receives)
	c.bySender(change, told)
}

// sameWithoutSender reports whether everybody gets the same of a message without a sender in
// particular, default or invitation. It may not find that out.
func (c *comparison) sameWithoutSender(old, id estate.ID) bool {
	return c.identical && c.old.Survey().Same(old, c.new.Survey(), id)
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

// outcomesOf notes the outcomes of people, and of addresses that do not exist.
func (c *comparison) outcomesOf(outcomes []resolve.PersonOutcome, nobodies []estate.ID, isOld bool) {
	for _, x := range outcomes {
		c.results.set(c.seats.person(x.Person, isOld), outcome{x.Outcome, true}, isOld)
	}
	for _, id := range nobodies {
		c.results.set(c.seats.of(id, isOld), outcome{resolve.Undeliverable, true}, isOld)
	}
}

// keyOf returns what stands for a person of one of the estates in both.
func (c *comparison) keyOf(e *estate.Estate, person estate.ID, isOld bool) string {
	if isOld && c.toNew[person] != estate.None {
		return c.b.Key(c.b.Address(c.toNew[person]))
	}
	return c.b.Key(e.Address(person))
}

// becomes returns the differences of the outcomes of a message that were noted.
func (c *comparison) becomes(m resolve.Message) []OutcomeChange {
	people := map[become][]int{}
	for _, seat := range c.results.touched {
		if b := (become{c.results.old[seat], c.results.new[seat]}); b.old != b.new {
			people[b] = append(people[b], seat)
		}
	}
	var changes []OutcomeChange
	for b, list := range people {
		change := OutcomeChange{
			Message: m, Old: b.old.Outcome, New: b.new.Outcome, Before: b.old.any, Later: b.new.any, seats: list,
		}
		for _, seat := range list {
			change.People = append(change.People, Somebody{Address: c.seats.address(seat)})
		}
		change.People = sorted(change.People)
		changes = append(changes, change)
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
// back. told are those already listed as getting something else.
func (c *comparison) bySender(change *GroupChange, told map[int]bool) {
	f := &flow{c: c, pair: change.Group}
	nested, echo := f.nestedGates()
	if len(nested.old)+len(nested.new) == 0 && !echo {
		return
	}
	alike := c.sameFlow(f, told)
	if alike && f.sameGates() {
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
	note := func(o OutcomeChange, from Somebody) {
		key := o.key()
		if found[key] == nil {
			found[key] = &o
			order = append(order, key)
		} else {
			found[key].Senders += o.Senders
		}
		if list := &found[key].From; len(*list) < mostFrom {
			*list = append(*list, from)
		}
	}
	wide := !alike && f.sameWays && !echo && len(nested.new) > c.few
	for _, m := range messages {
		parts, all := f.parts(nested, m, &asks, alike || wide)
		if wide {
			all = f.eachApart(nested, m, &asks, told, note) && all
		}
		change.Unchecked = change.Unchecked || !all
		for _, part := range parts {
			for _, o := range c.fromPart(f, m, part, echo) {
				if o.leaveOut(c, told); len(o.People) > 0 {
					note(o, part.one.Somebody)
				}
			}
		}
	}
	change.Receives = append(change.Receives, withoutRepeats(found, order)...)
}

// withoutRepeats returns differences by sender, in an order of their keys: what is so of
// default messages is not said of others again.
func withoutRepeats(found map[string]*OutcomeChange, order []string) []OutcomeChange {
	var list []OutcomeChange
	for _, key := range order {
		if o := found[key]; isDefault(o.Message) || !slices.ContainsFunc(order, func(other string) bool {
			return isDefault(found[other].Message) && found[other].Own == o.Own && found[other].like(*o)
		}) {
			list = append(list, *o)
		}
	}
	return list
}

// leaveOut leaves out people who are already listed.
func (o *OutcomeChange) leaveOut(c *comparison, told map[int]bool) {
	if len(told) == 0 {
		return
	}
	known := map[string]bool{}
	for _, seat := range o.seats {
		if told[seat] {
			known[c.seats.address(seat).Key()] = true
		}
	}
	o.People = slices.DeleteFunc(o.People, func(s Somebody) bool { return known[s.Address.Key()] })
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

// fromPart compares who gets what of a message of some senders.
func (c *comparison) fromPart(f *flow, m resolve.Message, p part, echo bool) []OutcomeChange {
	old, id := f.pair.Old, f.pair.New
	c.results.clear(c.seats.count())
	f.from(p.one, m)
	changes := c.becomes(m)
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
	c.results.clear(c.seats.count())
	was := c.old.Deliver(resolve.Query{Group: old, Sender: &p.one.old, Message: m, Author: resolve.Everybody})
	is := c.new.Deliver(resolve.Query{Group: id, Sender: &p.one.new, Message: m, Author: resolve.Everybody})
	c.outcomesOf(was.Outcomes(), was.Nobodies(), true)
	c.outcomesOf(is.Outcomes(), is.Nobodies(), false)
	for _, o := range c.becomes(m) {
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
