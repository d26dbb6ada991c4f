package effect

import (
	"maps"
	"slices"
	"strconv"

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
		people := c.withoutSender(old, id, m)
		if !m.Invitation {
			for _, seats := range people {
				for _, seat := range seats {
					told[seat] = true
				}
			}
		}
		change.Receives = append(change.Receives, c.become(m, people)...)
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

// withoutSender returns who gets something else of a message without a sender in particular: people, and
// addresses that do not exist.
func (c *comparison) withoutSender(old, id estate.ID, m resolve.Message) map[become][]int {
	results := map[int]become{}
	was, is := c.old.Flow(old, m), c.new.Flow(id, m)
	for _, x := range was.Outcomes() {
		results[c.seats.person(x.Person, true)] = become{old: outcome{x.Outcome, true}}
	}
	for _, nobody := range was.Nobodies() {
		results[c.seats.of(nobody, true)] = become{old: outcome{resolve.Undeliverable, true}}
	}
	note := func(seat int, o resolve.Outcome) { results[seat] = become{results[seat].old, outcome{o, true}} }
	for _, x := range is.Outcomes() {
		note(c.seats.person(x.Person, false), x.Outcome)
	}
	for _, nobody := range is.Nobodies() {
		note(c.seats.of(nobody, false), resolve.Undeliverable)
	}
	people := map[become][]int{}
	for seat, b := range results {
		if b.old != b.new {
			people[b] = append(people[b], seat)
		}
	}
	return people
}

// keyOf returns what stands for a person of one of the estates in both.
func (c *comparison) keyOf(e *estate.Estate, person estate.ID, isOld bool) string {
	if isOld && c.toNew[person] != estate.None {
		return c.b.Key(c.b.Address(c.toNew[person]))
	}
	return c.b.Key(e.Address(person))
}

// become returns differences of the outcomes of a message, by what and whose they are.
func (c *comparison) become(m resolve.Message, people map[become][]int) []OutcomeChange {
	var changes []OutcomeChange
	for _, b := range slices.SortedFunc(maps.Keys(people), byOrder) {
		list := people[b]
		change := OutcomeChange{Message: m, Old: b.old.Outcome, New: b.new.Outcome, Before: b.old.any, Later: b.new.any}
		c.seats.sort(list)
		for _, seat := range list {
			change.People = append(change.People, Somebody{Address: c.seats.address(seat)})
		}
		change.People = slices.Compact(change.People)
		changes = append(changes, change)
	}
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

func byOrder(x, y become) int { return x.order() - y.order() }

// order sorts differences: what ends comes first, then what begins, then what becomes something else.
func (b become) order() int {
	order := int(b.old.Outcome)*16 + int(b.new.Outcome)
	if b.old.any && b.new.any {
		order += 1 << 12
	} else if b.new.any {
		order += 1 << 10
	}
	return order
}

// With few nested gates and few kinds of sender, a difference names one kind of sender, and everybody who gets
// something else from it. With more, it names people to whom the same happens, and counts the senders.
const (
	fewGates  = 16
	mostKinds = 100
)

// bySender compares who gets what of particular senders: gates of nested groups may let
// some of them through and not others, and some groups send nobody their own message
// back. told are those already listed as getting something else.
func (c *comparison) bySender(change *GroupChange, told map[int]bool) {
	f := c.flow(change.Group)
	if len(f.gates.old)+len(f.gates.new) == 0 && !f.echo || f.isSame(told) {
		return
	}
	var rules [][]estate.GateRule
	for _, group := range f.gates.old {
		rules = append(rules, c.a.Group(group).Gate)
	}
	for _, group := range f.gates.new {
		rules = append(rules, c.b.Group(group).Gate)
	}
	asks := c.new.AsksOf(rules...)
	messages := asks.Messages()
	if invitation := (resolve.Message{Invitation: true}); !slices.Contains(messages, invitation) {
		messages = append(messages, invitation)
	}
	found := map[string]*OutcomeChange{}
	var order []string
	note := func(o OutcomeChange, from ...Somebody) {
		key := o.key()
		if found[key] == nil {
			found[key] = &o
			order = append(order, key)
		} else {
			found[key].Senders += o.Senders
		}
		list := &found[key].From
		*list = append(*list, from[:min(len(from), mostFrom-len(*list))]...)
	}
	for _, m := range messages {
		for _, crowd := range f.crowds(m, &asks) {
			d := f.divide(m, crowd, told)
			if len(f.gates.new) > fewGates || !d.bySender(note) {
				d.byPeople(note)
			}
		}
	}
	change.Receives = append(change.Receives, withoutRepeats(found, order)...)
}

// withoutRepeats returns differences by sender, in an order of their keys: what is so of
// default messages is not said of others again.
func withoutRepeats(found map[string]*OutcomeChange, order []string) []OutcomeChange {
	list := make([]OutcomeChange, 0, len(order))
	for _, key := range order {
		o := *found[key]
		m := o.Message
		o.Message = resolve.Message{}
		if _, said := found[o.key()]; said && !isDefault(m) {
			continue
		}
		o.Message = m
		list = append(list, o)
	}
	return list
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
	return string(key) + " " + strconv.FormatInt(o.Message.Size, 10)
}

func bit(yes bool) int {
	if yes {
		return 1
	}
	return 0
}
