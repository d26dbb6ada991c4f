package resolve

import (
	"yorvet.example/yorvet/internal/core/estate"
)

// A Flow is what a group and those nested in it give everybody, of a message that all nested gates
// admit: it is laid out once, and says then what comes of it for many kinds of senders. It agrees
// with Deliver, but passes over that groups may send nobody their own message back.
type Flow struct {
	*Delivery
	first []int32 // by person index: 1 + the index of a gift; 0: none
	gifts []Gift
	met   []uint32 // person indexes: those with a gift

	marks  []uint32 // by group, see Avoiding
	marked uint32
}

// A Gift is what the own memberships of a group give a person over an open path.
type Gift struct {
	Group   estate.ID
	Outcome Outcome // without regard to whether the mailbox works
	Own     Outcome // of their own message, which the group may not send back

	person uint32 // index
	path   int32
	next   int32 // of the same person: 1 + the index; 0: none
}

// own are what a group's own memberships give over an open path, each person once: the person's
// index, and the outcome in the lowest bits.
type own struct {
	known    bool
	people   []uint32
	nobodies []estate.ID
}

const (
	outcomeBits = 3
	outcomeMask = 1<<outcomeBits - 1
)

// kindOf numbers the messages that memberships tell apart: whether it is an invitation.
func kindOf(m Message) int {
	if m.Invitation {
		return 1
	}
	return 0
}

// Flow lays out what a message to a group gives, that is an invitation or not. It is good until it is asked
// for another group.
func (r *Resolver) Flow(group estate.ID, m Message) *Flow {
	kind := kindOf(m)
	f := r.flows[kind]
	switch {
	case f == nil:
		f = &Flow{first: make([]int32, r.e.People())}
		r.flows[kind] = f
	case f.Delivery != nil && f.Group == group:
		return f
	}
	for _, person := range f.met {
		f.first[person] = 0
	}
	f.gifts, f.met = f.gifts[:0], f.met[:0]
	f.Delivery = r.Deliver(Query{Group: group, Message: Message{Invitation: m.Invitation}})
	for path := range f.Paths {
		id := f.Paths[path].Group
		g := r.e.Group(id)
		echo := g.NoEcho && g.Kind != estate.Mailbox
		for _, packed := range r.own(id, m).people {
			person, outcome := packed>>outcomeBits, Outcome(packed&outcomeMask)
			own := outcome
			if echo {
				own = outcomes(g.Kind, estate.CopyNone, PathOpen)
			}
			if f.first[person] == 0 {
				f.met = append(f.met, person)
			}
			f.gifts = append(f.gifts, Gift{id, outcome, own, person, int32(path), f.first[person]})
			f.first[person] = int32(len(f.gifts))
		}
	}
	return f
}

// own returns what the own memberships of a group give of a message.
func (r *Resolver) own(group estate.ID, m Message) *own {
	list := &r.owns[kindOf(m)]
	if *list == nil {
		*list = make([]own, r.e.Groups())
	}
	x := &(*list)[group]
	if x.known {
		return x
	}
	x.known = true
	kind := r.e.Group(group).Kind
	add := func(person estate.ID, outcome Outcome) {
		x.people = append(x.people, uint32(r.e.PersonIndex(person))<<outcomeBits|uint32(outcome))
	}
	entries := r.e.Entries(group)
	if kind == estate.Mailbox {
		for it := r.Members(group).Iterator(); it.HasNext(); {
			if member := estate.ID(it.Next()); r.e.IsPerson(member) {
				add(member, Archive)
			}
		}
	} else {
		x.people = make([]uint32, 0, len(entries))
		q := &Query{Group: group, Message: Message{Invitation: m.Invitation}}
		r.eachMembership(q, func(person estate.ID, wish Wish, _ estate.Place) {
			add(person, outcomes(kind, wish.Copy, PathOpen))
		})
	}
	for i := range entries {
		if entries[i].Member.IsNobody() {
			x.nobodies = append(x.nobodies, entries[i].Member)
		}
	}
	return x
}

// EachGift visits the people who get something by a group's own memberships, of a message
// that comes to it over an open path, and what, until visit returns false. What it gives does
// not look at whether their mailboxes work.
func (r *Resolver) EachGift(group estate.ID, m Message, visit func(person estate.ID, outcome Outcome) bool) {
	for _, packed := range r.own(group, m).people {
		if !visit(r.e.PersonID(int(packed>>outcomeBits)), Outcome(packed&outcomeMask)) {
			return
		}
	}
}

// Of visits what groups give a person, those that are farther first.
func (f *Flow) Of(person estate.ID, visit func(*Gift)) {
	for at := f.first[f.r.e.PersonIndex(person)]; at > 0; at = f.gifts[at-1].next {
		visit(&f.gifts[at-1])
	}
}

// Best returns what a person has of it in the end, and false if they have no outcome.
func (f *Flow) Best(person estate.ID) (Outcome, bool) {
	index := uint32(f.r.e.PersonIndex(person))
	if f.first[index] == 0 {
		return Nothing, false
	}
	return f.r.shut(index, f.best(index).Outcome), true
}

// best returns the best gift of somebody who has one: among equal ones the nearest.
func (f *Flow) best(person uint32) *Gift {
	best := &f.gifts[f.first[person]-1]
	for at := best.next; at > 0; at = f.gifts[at-1].next {
		if one := &f.gifts[at-1]; one.Outcome <= best.Outcome {
			best = one
		}
	}
	return best
}

// shut returns what becomes of an outcome of a person, by index, whose mailbox may take no mail.
func (r *Resolver) shut(person uint32, outcome Outcome) Outcome {
	if outcome <= Digest && r.e.IsShut(r.e.PersonID(int(person))) {
		return Undeliverable
	}
	return outcome
}

// A PersonOutcome is what a person gets.
type PersonOutcome struct {
	Person  estate.ID
	Outcome Outcome
}

// Outcomes returns everyone who has an outcome, in no order.
func (f *Flow) Outcomes() []PersonOutcome {
	list := make([]PersonOutcome, len(f.met))
	for i, person := range f.met {
		list[i] = PersonOutcome{f.r.e.PersonID(int(person)), f.r.shut(person, f.best(person).Outcome)}
	}
	return list
}

// Counts returns how many have each outcome, by Outcome: people, and addresses that belong to nobody.
func (f *Flow) Counts() [Undeliverable + 1]int {
	var counts [Undeliverable + 1]int
	nobodies := map[estate.ID]bool{}
	for _, path := range f.Paths {
		for _, id := range f.r.own(path.Group, f.Message).nobodies {
			nobodies[id] = true
		}
	}
	counts[Undeliverable] = len(nobodies)
	for _, one := range f.Outcomes() {
		counts[one.Outcome]++
	}
	return counts
}

// A Fingerprint stands for a group's kind and for who gets what of its mail, over
// which nested groups. Groups with the same one are alike in that.
type Fingerprint [2]uint64

// Fingerprint returns what stands for who gets what.
func (f *Flow) Fingerprint() Fingerprint {
	chains := make([]uint64, len(f.steps)) // by step: the groups on the path, but for the first
	for i, s := range f.steps {
		if s.from >= 0 {
			chains[i] = mix(chains[s.from] ^ mix(uint64(s.group)+1))
		}
	}
	print := Fingerprint{uint64(f.r.e.Group(f.Group).Kind)}
	for _, person := range f.met {
		best := f.best(person)
		hash := mix(uint64(person)<<outcomeBits | uint64(best.Outcome) ^ chains[f.Paths[best.path].step])
		print[0] += hash
		print[1] += hash*hash ^ hash>>32
	}
	return print
}

// mix scatters the bits of a number (the finalizer of SplitMix64).
func mix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// Gates returns the groups nested in the one of the flow whose own gates are asked.
func (f *Flow) Gates() []estate.ID {
	var gates []estate.ID
	for _, path := range f.Paths[1:] {
		if f.r.asksGate(path.Group) {
			gates = append(gates, path.Group)
		}
	}
	return gates
}

// A Posting is posters of a group that all gates of nested groups treat alike.
type Posting struct {
	One      Sender // one of them
	People   int    // how many people of the estate they are
	Stranger string // else who it stands for: outside, inside, or what the gate names
}

// mostPostings is how many kinds of poster are kept apart.
const mostPostings = 200

// Postings divides the people that the group admits, and the strangers, by what the gates of
// nested groups say to them. It returns false where there are too many kinds to tell.
func (f *Flow) Postings(m Message) ([]Posting, bool) {
	r := f.r
	gate := r.Gate(f.Group)
	admitted := gate.Posted(m).Admitted.Clone()
	admitted.RemoveRange(0, uint64(r.e.Groups()))
	var gates []LetIn
	for _, id := range f.Gates() {
		gates = append(gates, r.Gate(id).LetIn(m))
	}
	parts, all := Kinds(admitted, gates, mostPostings)
	if !all {
		return nil, false
	}
	var list []Posting
	for _, part := range parts {
		one := r.e.Address(estate.ID(part.Minimum()))
		list = append(list, Posting{One: r.Sender(one), People: int(part.GetCardinality())})
	}
	add := func(s Sender, name string) {
		if gate.Post(s, m).Verdict == estate.Admit {
			list = append(list, Posting{One: s, Stranger: name})
		}
	}
	strangers := r.Strangers()
	add(strangers.Outside, "outside")
	add(strangers.Inside, "inside")
	codes := r.e.Settings().CodeSender
	for _, s := range gate.Claims() {
		if s.ID == estate.None && !(codes.IsValid() && r.e.Key(codes) == s.key) {
			add(s, s.Claimed())
		}
	}
	return list, true
}
