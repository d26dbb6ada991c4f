package resolve

import "yorvet.example/yorvet/internal/core/estate"

// receives is what becomes of a default message to a group, without a sender in
// particular. Questions about all groups ask for it once for each group, one
// after the other: it remembers the last group, and what each group's own
// memberships give. It agrees with Deliver.
type receives struct {
	group    estate.ID // of what follows; None at first
	paths    []Path
	chains   []uint64  // by path: stands for the groups on it
	best     []receipt // by person index
	round    uint32
	touched  []uint32 // person indexes
	nobodies int      // addresses that belong to nobody

	own  [2][]ownReceipts // of a default message and of an invitation, by group
	shut []bool           // by person index: the mailbox takes no mail
}

// receipt is the best that a person gets, in a round.
type receipt struct {
	round uint32
	path  int32
	// outcome does not look at whether the mailbox works.
	outcome Outcome
}

// ownReceipts are what a group's own memberships give over an open path, each
// person once: the person's index, and the outcome in the lowest bits.
type ownReceipts struct {
	known    bool
	people   []uint32
	nobodies []estate.ID
}

const (
	outcomeBits = 3
	outcomeMask = 1<<outcomeBits - 1
)

// receivesOf lays a default message to a group out.
func (r *Resolver) receivesOf(group estate.ID) *receives {
	x := &r.receives
	if x.shut == nil {
		r.prepareReceives()
	}
	if x.group == group {
		return x
	}
	x.group, x.paths = group, r.findPaths(&Query{Group: group})
	x.chains = r.chainPrints(x.paths)
	x.round++
	x.touched = x.touched[:0]
	var nobodies []estate.ID
	for i := range x.paths {
		own := r.ownReceipts(x.paths[i].Group, false)
		nobodies = append(nobodies, own.nobodies...)
		for _, packed := range own.people {
			person, outcome := packed>>outcomeBits, Outcome(packed&outcomeMask)
			best := &x.best[person]
			if best.round != x.round {
				x.touched = append(x.touched, person)
			} else if best.outcome <= outcome {
				continue
			}
			*best = receipt{x.round, int32(i), outcome}
		}
	}
	x.nobodies = len(nobodies)
	if len(nobodies) > 1 {
		once := map[estate.ID]bool{}
		for _, id := range nobodies {
			once[id] = true
		}
		x.nobodies = len(once)
	}
	return x
}

func (r *Resolver) prepareReceives() {
	if r.receives.shut != nil {
		return
	}
	r.receives = receives{
		group: estate.None,
		best:  make([]receipt, r.e.People()),
		shut:  make([]bool, r.e.People()),
	}
	for i := range r.receives.shut {
		r.receives.shut[i] = r.e.Person(r.e.PersonID(i)).Mailbox != estate.MailboxOpen
	}
}

func (r *Resolver) ownReceipts(group estate.ID, invitation bool) *ownReceipts {
	list := &r.receives.own[0]
	if invitation {
		list = &r.receives.own[1]
	}
	if *list == nil {
		*list = make([]ownReceipts, r.e.Groups())
	}
	own := &(*list)[group]
	if own.known {
		return own
	}
	own.known = true
	kind := r.e.Group(group).Kind
	add := func(person estate.ID, outcome Outcome) {
		own.people = append(own.people, uint32(r.e.PersonIndex(person))<<outcomeBits|uint32(outcome))
	}
	entries := r.e.Entries(group)
	if kind == estate.Mailbox {
		for it := r.Members(group).Iterator(); it.HasNext(); {
			if member := estate.ID(it.Next()); r.e.IsPerson(member) {
				add(member, Archive)
			}
		}
	} else {
		own.people = make([]uint32, 0, len(entries))
		q := &Query{Group: group, Message: Message{Invitation: invitation}}
		r.eachMembership(q, func(person estate.ID, wish Wish, _ estate.Place) {
			add(person, outcomes(kind, wish.Copy, PathOpen))
		})
	}
	for i := range entries {
		if entries[i].Member.IsNobody() {
			own.nobodies = append(own.nobodies, entries[i].Member)
		}
	}
	return own
}

// EachGiven visits the people who get something by a group's own memberships, of a message
// that comes to it over an open path, and what, until visit returns false. What it gives does
// not look at whether their mailboxes work.
func (r *Resolver) EachGiven(group estate.ID, m Message, visit func(person estate.ID, outcome Outcome) bool) {
	for _, packed := range r.ownReceipts(group, m.Invitation).people {
		if !visit(r.e.PersonID(int(packed>>outcomeBits)), Outcome(packed&outcomeMask)) {
			return
		}
	}
}

// outcome returns the outcome of a person who has been touched, given whether
// their mailbox works.
func (x *receives) outcome(person uint32) Outcome {
	outcome := x.best[person].outcome
	if outcome <= Digest && x.shut[person] {
		return Undeliverable
	}
	return outcome
}

// Receives returns how many have each outcome of a message to a group without a
// sender in particular, by Outcome: people, and addresses that belong to nobody.
func (r *Resolver) Receives(group estate.ID) [Undeliverable + 1]int {
	if r.survey != nil {
		return r.survey.receives(group)
	}
	x := r.receivesOf(group)
	var counts [Undeliverable + 1]int
	counts[Undeliverable] = x.nobodies
	for _, person := range x.touched {
		counts[x.outcome(person)]++
	}
	return counts
}

// A PersonOutcome is what a person gets.
type PersonOutcome struct {
	Person  estate.ID
	Outcome Outcome
}

// Outcomes returns everyone who has an outcome of a message to a group without a
// sender in particular, in no order.
func (r *Resolver) Outcomes(group estate.ID) []PersonOutcome {
	x := r.receivesOf(group)
	list := make([]PersonOutcome, len(x.touched))
	for i, person := range x.touched {
		list[i] = PersonOutcome{r.e.PersonID(int(person)), x.outcome(person)}
	}
	return list
}

// Shut reports whether a person's mailbox takes no mail.
func (r *Resolver) Shut(person estate.ID) bool {
	if r.receives.shut == nil {
		r.prepareReceives()
	}
	return r.receives.shut[r.e.PersonIndex(person)]
}

// Receipt returns what a message to a group without a sender in particular gives
// a person, and false if they have no outcome.
func (r *Resolver) Receipt(group, person estate.ID) (Outcome, bool) {
	index := uint32(r.e.PersonIndex(person))
	if r.survey != nil {
		if a, known := r.survey.receipt(group, index); known {
			return a.outcome, a.has
		}
	}
	x := r.receivesOf(group)
	if x.best[index].round != x.round {
		return Nothing, false
	}
	return x.outcome(index), true
}

// A Fingerprint stands for a group's kind and for who gets what of its mail, over
// which nested groups. Groups with the same one are alike in that.
type Fingerprint [2]uint64

// Fingerprint returns what stands for who gets what of a group's mail.
func (r *Resolver) Fingerprint(group estate.ID) Fingerprint {
	x := r.receivesOf(group)
	f := Fingerprint{uint64(r.e.Group(group).Kind)}
	for _, person := range x.touched {
		best := x.best[person]
		hash := mix(uint64(person)<<outcomeBits | uint64(best.outcome) ^ x.chains[best.path])
		f[0] += hash
		f[1] += hash*hash ^ hash>>32
	}
	return f
}

// chainPrints returns for each of the paths found last what stands for the groups
// on it, but for the first.
func (r *Resolver) chainPrints(paths []Path) []uint64 {
	steps := make([]uint64, len(r.layout.steps))
	for i, s := range r.layout.steps {
		if s.from >= 0 {
			steps[i] = mix(steps[s.from] ^ mix(uint64(s.group)+1))
		}
	}
	chains := make([]uint64, len(paths))
	for i, path := range paths {
		chains[i] = steps[path.step]
	}
	return chains
}

// mix scatters the bits of a number (the finalizer of SplitMix64).
func mix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}
