package resolve

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
)

// An Outcome is what happens for one person and one message. The better ones
// come first, but for Undeliverable, which an inbox copy or digest becomes when
// it cannot be delivered.
type Outcome uint8

// The outcomes.
const (
	Inbox         Outcome = iota
	Digest                // a collection, later
	Waiting               // waiting: a moderator of a nested group decides
	Archive               // kept where they can read it
	Nothing               // no copy, and nowhere to read it
	Stopped               // stopped: a nested group does not let it in
	Undeliverable         // it would be delivered, and cannot be
)

// OutcomeWords returns the words of the outcomes, in the order of their constants.
func OutcomeWords() []string { return slices.Clone(outcomeWords) }

var outcomeWords = []string{"inbox", "digest", "waiting", "archive", "nothing", "stopped", "undeliverable"}

func (o Outcome) String() string { return outcomeWords[o] }

// A Query asks what becomes of a message to a group, as if it were let in there.
type Query struct {
	Group   estate.ID
	Sender  *Sender // nil: all nested gates admit
	Message Message
	Author  Author
	Over    func(group estate.ID) bool // paths lead over these groups alone; nil: over all
}

// An Author is who counts as the author of a message, where groups send nobody their own message back.
type Author uint8

// The authors.
const (
	TheSender Author = iota // nobody where there is no sender
	NoAuthor
	Everybody
)

// isBy reports whether a person counts as the author.
func (q *Query) isBy(person estate.ID) bool {
	return q.Author == Everybody || q.Author == TheSender && q.Sender != nil && q.Sender.ID == person
}

// A Delivery is what becomes of a message to a group.
type Delivery struct {
	Query
	Paths []Path // the best one to every group that it reaches, the best first; the first is that to Group itself

	r          *Resolver
	recipients []Recipient // see Recipients; nil: not yet
	steps      []step
	decisions  map[estate.ID]Decision // of nested gates; see Hindrance
}

// A Recipient is somebody with an outcome of a message.
type Recipient struct {
	ID      estate.ID
	Outcome Outcome

	path   int32 // index into Delivery.Paths: the first group that gives the outcome
	member int32 // their membership there: an entry, a rule as ^index, or inMailbox
}

// inMailbox is the membership of those who read a shared mailbox.
const inMailbox = -1 << 31

// Via returns the chain of groups, the one that the message is sent to first,
// to the first group that gives a recipient the outcome.
func (d *Delivery) Via(recipient Recipient) []estate.ID { return d.Chain(d.Path(recipient)) }

// Path returns the path that gives a recipient the outcome.
func (d *Delivery) Path(recipient Recipient) Path { return d.Paths[recipient.path] }

// Deliver finds what becomes of a message: how it reaches groups at once, and who gets what when that is asked.
func (r *Resolver) Deliver(q Query) *Delivery {
	d := &Delivery{Query: q, r: r}
	d.Paths = r.findPaths(&d.Query)
	d.steps = slices.Clone(r.layout.steps)
	return d
}

// Recipients returns everyone with any outcome, sorted by address without case. They are not to be changed.
func (d *Delivery) Recipients() []Recipient {
	if d.recipients == nil {
		nobodies := d.layAllOut()
		d.recipients = d.r.collect(nobodies)
		d.r.tally.clear()
	}
	return d.recipients
}

// Outcomes returns all people who have an outcome, in no order: in less time than Recipients.
func (d *Delivery) Outcomes() []PersonOutcome {
	d.layAllOut()
	t := &d.r.tally
	list := make([]PersonOutcome, len(t.touched))
	for i, person := range t.touched {
		list[i] = PersonOutcome{d.r.e.PersonID(int(person)), d.r.final(t.best[person])}
	}
	t.clear()
	return list
}

// Nobodies returns the inside addresses that do not exist and that the message comes to.
func (d *Delivery) Nobodies() (list []estate.ID) {
	for _, path := range d.Paths {
		for _, entry := range d.r.e.Entries(path.Group) {
			if entry.Member.IsNobody() && !slices.Contains(list, entry.Member) {
				list = append(list, entry.Member)
			}
		}
	}
	return list
}

// EachMembership calls visit with every person's direct membership in a group:
// what it wants of a default message without a sender, and where it stands.
func (r *Resolver) EachMembership(group estate.ID, visit func(person estate.ID, wish Wish, place estate.Place)) {
	r.eachMembership(&Query{Group: group}, visit)
}

func (r *Resolver) eachMembership(q *Query, visit func(person estate.ID, wish Wish, place estate.Place)) {
	group := q.Group
	g := r.e.Group(group)
	t := &r.tally
	t.prepare(r.e.People())
	t.group++
	first := func(id estate.ID) bool {
		person := r.e.PersonIndex(id)
		if t.counted[person] == t.group {
			return false
		}
		t.counted[person] = t.group
		return true
	}
	for _, entry := range r.e.Entries(group) {
		if r.e.IsPerson(entry.Member) && first(entry.Member) {
			visit(
				entry.Member,
				r.wish(g, entry.Member, entry.Membership(), q),
				entry.Place,
			)
		}
	}
	for _, rule := range r.e.Rules(group) {
		for it := r.picks(rule).Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); first(id) {
				visit(id, r.wish(g, id, rule.Membership, q), rule.Place)
			}
		}
	}
}

// layAllOut counts what the memberships on all paths give. It returns the path of each address that belongs to
// nobody.
func (d *Delivery) layAllOut() (nobodies map[estate.ID]int32) {
	d.r.tally.prepare(d.r.e.People())
	for i := range d.Paths {
		d.r.layOut(d, int32(i), &nobodies)
	}
	return nobodies
}

// final returns the outcome of a person, given whether their mailbox works.
func (r *Resolver) final(recipient Recipient) Outcome {
	if recipient.ID.IsNobody() {
		return recipient.Outcome
	}
	return r.shut(uint32(r.e.PersonIndex(recipient.ID)), recipient.Outcome)
}

// tally holds the best outcome of every person so far. It is used again for the
// next message.
type tally struct {
	best    []Recipient // by person index; only those touched mean anything
	touched []uint32    // person indexes
	known   []bool      // by person index: touched
	counted []uint32    // by person index: the last group that counted them
	group   uint32
}

func (t *tally) prepare(people int) {
	if len(t.best) < people {
		*t = tally{best: make([]Recipient, people), known: make([]bool, people), counted: make([]uint32, people)}
	}
}

func (t *tally) clear() {
	for _, person := range t.touched {
		t.known[person] = false
	}
	t.touched = t.touched[:0]
}

// count notes what one membership gives a person.
func (t *tally) count(person int, candidate Recipient) {
	if !t.known[person] {
		t.known[person] = true
		t.touched = append(t.touched, uint32(person))
	} else if t.best[person].Outcome <= candidate.Outcome {
		return
	}
	t.best[person] = candidate
}

// layOut counts what the memberships of one group give.
func (r *Resolver) layOut(d *Delivery, path int32, nobodies *map[estate.ID]int32) {
	id := d.Paths[path].Group
	over := d.Paths[path].State
	g := r.e.Group(id)
	t := &r.tally
	t.group++
	shared := g.Kind == estate.Mailbox
	for i, entry := range r.e.Entries(id) {
		switch {
		case entry.Member.IsNobody():
			if *nobodies == nil {
				*nobodies = map[estate.ID]int32{}
			}
			if _, listed := (*nobodies)[entry.Member]; !listed {
				(*nobodies)[entry.Member] = path
			}
		case r.e.IsGroup(entry.Member) || shared:
		default:
			person := r.e.PersonIndex(entry.Member)
			if t.counted[person] == t.group {
				continue // an earlier entry counts
			}
			t.counted[person] = t.group
			w := r.wish(g, entry.Member, entry.Membership(), &d.Query)
			t.count(person, Recipient{entry.Member, outcomes(g.Kind, w.Copy, over), path, int32(i)})
		}
	}
	if shared {
		for it := r.Members(id).Iterator(); it.HasNext(); {
			if member := estate.ID(it.Next()); r.e.IsPerson(member) {
				t.count(
					r.e.PersonIndex(member),
					Recipient{member, outcomes(g.Kind, estate.CopyEvery, over), path, inMailbox},
				)
			}
		}
		return
	}
	for i, rule := range r.e.Rules(id) {
		for it := r.picks(rule).Iterator(); it.HasNext(); {
			member := estate.ID(it.Next())
			person := r.e.PersonIndex(member)
			if t.counted[person] == t.group {
				continue
			}
			t.counted[person] = t.group
			w := r.wish(g, member, rule.Membership, &d.Query)
			t.count(person, Recipient{member, outcomes(g.Kind, w.Copy, over), path, ^int32(i)})
		}
	}
}

// outcomes is the table of what a copy gives, by the kind of the group, and
// what that becomes over a path.
func outcomes(kind estate.Kind, copy estate.Copy, over PathState) Outcome {
	var o Outcome
	switch {
	case kind == estate.Mailbox:
		o = Archive
	case copy == estate.CopyEvery:
		o = Inbox
	case copy == estate.CopyDigest:
		o = Digest
	case kind == estate.Forum:
		o = Archive
	default:
		return Nothing
	}
	return o.Over(over)
}

// Over returns what an outcome over an open path becomes over another one.
func (o Outcome) Over(path PathState) Outcome {
	switch {
	case path == PathOpen || o == Nothing:
		return o
	case path == PathWaiting:
		return Waiting
	}
	return Stopped
}

// collect returns the outcomes of all who were counted, and of the addresses
// that belong to nobody, sorted.
func (r *Resolver) collect(nobodies map[estate.ID]int32) []Recipient {
	t := &r.tally
	list := make([]Recipient, 0, len(t.touched)+len(nobodies))
	add := func(person int) {
		recipient := t.best[person]
		recipient.Outcome = r.final(recipient)
		list = append(list, recipient)
	}
	if len(t.touched) > r.e.People()/16 {
		for _, id := range r.e.PeopleByAddress() {
			if person := r.e.PersonIndex(id); t.known[person] {
				add(person)
			}
		}
	} else {
		slices.SortFunc(t.touched, func(a, b uint32) int {
			return r.e.Rank(r.e.PersonID(int(a))) - r.e.Rank(r.e.PersonID(int(b)))
		})
		for _, person := range t.touched {
			add(int(person))
		}
	}
	if len(nobodies) > 0 {
		for id, path := range nobodies {
			list = append(list, Recipient{id, Undeliverable, path, 0})
		}
		slices.SortFunc(list, func(a, b Recipient) int {
			return strings.Compare(
				strings.ToLower(r.e.Address(a.ID).String()),
				strings.ToLower(r.e.Address(b.ID).String()),
			)
		})
	}
	return list
}
