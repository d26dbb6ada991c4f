package resolve

import (
	"math/bits"
	"runtime"
	"slices"
	"sync"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// A Survey is what becomes of a message to every group, without a sender in particular: the
// counts, and what the questions about single people need. It looks at all groups at once, a
// block of people after the other, with a bit for each person and outcome: a group has what
// the groups nested in it have and what its own memberships give, so every membership and
// every nesting is looked at once for each block. It agrees with Deliver.
type Survey struct {
	e       *estate.Estate
	members *components // by all nestings
	passing *components // by those over which mail passes
	outer   edges       // by component of members: those that it is nested in
	passers edges       // by component of passing: those that pass mail to it
	of      []reached   // by component of passing
	people  []int       // by component of members: how many are members
	asked   [][]asked   // by group, sorted by person
	twice   []bool      // by group: somebody is listed twice
}

// reached is what becomes of a message to the groups of a component.
type reached struct {
	counts    [Undeliverable + 1]int
	invited   int             // people who get a calendar request in their inbox
	uninvited *roaring.Bitmap // people who get inbox or digest, and no calendar request; nil: nobody
	outside   bool            // somebody outside gets or reads anything
	any       bool            // somebody has an outcome
	nested    bool            // somebody has it, or a better one, by a nested group
	print     uint64          // stands for who gets what, whether or not their mailboxes work
	finally   uint64          // stands for whose mailboxes do not work, and for what invitations come to
	nobodies  *roaring.Bitmap // addresses that belong to nobody; nil: none
}

// asked is the outcome of a person who is asked about.
type asked struct {
	person  uint32 // index
	outcome Outcome
	has     bool // an outcome
}

// Survey looks at all groups of the estate, the first time, in several goroutines. Resolvers
// that are forked later share it.
func (r *Resolver) Survey() *Survey {
	if r.survey != nil {
		return r.survey
	}
	s := &Survey{e: r.e, twice: make([]bool, r.e.Groups()), asked: make([][]asked, r.e.Groups())}
	s.members = findComponents(r.e, func(estate.ID, estate.Nesting) bool { return true })
	s.passing = findComponents(r.e, func(outer estate.ID, nested estate.Nesting) bool {
		return nested.Passes && r.e.Group(outer).Kind != estate.Mailbox
	})
	s.outer = s.members.outer(r.e, func(estate.ID, estate.Nesting) bool { return true })
	s.passers = s.passing.outer(r.e, func(outer estate.ID, nested estate.Nesting) bool {
		return nested.Passes && r.e.Group(outer).Kind != estate.Mailbox
	})
	s.of = make([]reached, s.passing.count())
	s.people = make([]int, s.members.count())
	s.findNobodies()
	owners := r.ownersAsked()
	workers := min(runtime.GOMAXPROCS(0), 4, r.e.People()/blockSize+1)
	parts := make([]*part, workers)
	blocks := (r.e.People() + blockSize - 1) / blockSize
	var done sync.WaitGroup
	for w := range parts {
		from, to := blocks*w/workers*blockSize, min(blocks*(w+1)/workers*blockSize, r.e.People())
		fork := r.Fork()
		done.Go(func() { parts[w] = s.look(fork, from, to, owners) })
	}
	done.Wait()
	for _, p := range parts {
		s.add(p)
	}
	for i := range s.of {
		if s.of[i].nobodies != nil {
			s.of[i].counts[Undeliverable] += int(s.of[i].nobodies.GetCardinality())
		}
	}
	r.survey = s
	return s
}

// ownersAsked returns the people who own each group that takes mail, by group and sorted.
func (r *Resolver) ownersAsked() [][]uint32 {
	owners := make([][]uint32, r.e.Groups())
	for id := range owners {
		if r.e.Group(estate.ID(id)).Kind == estate.Roster {
			continue
		}
		for _, person := range r.Owners(estate.ID(id)) {
			owners[id] = append(owners[id], uint32(r.e.PersonIndex(person)))
		}
		slices.Sort(owners[id])
	}
	return owners
}

// findNobodies finds the addresses that belong to nobody and that a message to each group
// comes to.
func (s *Survey) findNobodies() {
	for c := range int32(s.passing.count()) {
		var set *roaring.Bitmap
		for _, id := range s.passing.in(c) {
			for _, entry := range s.e.Entries(id) {
				if entry.Member.IsNobody() {
					if set == nil {
						set = roaring.New()
					}
					set.Add(uint32(entry.Member))
				}
			}
			s.eachPassed(c, id, func(nested int32) {
				if other := s.of[nested].nobodies; other != nil {
					if set == nil {
						set = roaring.New()
					}
					set.Or(other)
				}
			})
		}
		s.of[c].nobodies = set
	}
}

// eachPassed visits the other components that a message passes to from a group of one.
func (s *Survey) eachPassed(component int32, id estate.ID, visit func(nested int32)) {
	if s.e.Group(id).Kind == estate.Mailbox {
		return
	}
	for _, child := range s.e.Children(id) {
		if nested := s.passing.of[child.Group]; child.Passes && nested != component {
			visit(nested)
		}
	}
}

// Counts returns how many have each outcome of a message to a group, as [Flow.Counts] does.
func (s *Survey) Counts(group estate.ID) [Undeliverable + 1]int { return s.at(group).counts }

func (s *Survey) at(group estate.ID) *reached { return &s.of[s.passing.of[group]] }

// Invited returns how many people get a calendar request to a group in their inbox.
func (s *Survey) Invited(group estate.ID) int { return s.at(group).invited }

// Uninvited returns the people who get a group's mail in their inbox or as a digest, and no
// calendar requests, or nil for nobody. The set is not to be changed.
func (s *Survey) Uninvited(group estate.ID) *roaring.Bitmap { return s.at(group).uninvited }

// ReachesOutside reports whether somebody outside gets or reads any mail of a group.
func (s *Survey) ReachesOutside(group estate.ID) bool { return s.at(group).outside }

// Reaches reports whether a message to a group has an outcome for any person.
func (s *Survey) Reaches(group estate.ID) bool { return s.at(group).any }

// NestedGives reports whether anybody gets something of a group's mail that its own memberships
// do not give.
func (s *Survey) NestedGives(group estate.ID) bool { return s.at(group).nested }

// Print returns what stands for who gets what of a group's mail, by whatever paths: groups with
// the same Fingerprint have the same.
func (s *Survey) Print(group estate.ID) uint64 { return s.at(group).print }

// Same reports whether everybody gets the same of a group's mail as of that of a group of
// another estate that has the same people in the same order: default messages and invitations.
func (s *Survey) Same(group estate.ID, other *Survey, its estate.ID) bool {
	x, y := s.at(group), other.at(its)
	return x.nobodies == nil && y.nobodies == nil && x.any == y.any && x.print == y.print && x.finally == y.finally
}

// People returns how many people are members of a group.
func (s *Survey) People(group estate.ID) int { return s.people[s.members.of[group]] }

// ListsTwice reports whether an entry of a group names somebody that an earlier one names, or
// who a rule picks.
func (s *Survey) ListsTwice(group estate.ID) bool { return s.twice[group] }

// Best returns what somebody has of a message to a group, and false if they have no outcome, as [Flow.Best]
// does: known is set for owners, and for those whose own membership does not simply give them copies.
func (s *Survey) Best(group, person estate.ID) (outcome Outcome, has, known bool) {
	list, index := s.asked[group], uint32(s.e.PersonIndex(person))
	i, known := slices.BinarySearchFunc(list, index, func(a asked, p uint32) int { return int(a.person) - int(p) })
	if !known {
		return Nothing, false, false
	}
	return list[i].outcome, list[i].has, true
}

// add adds what was found in a part of the people, the parts before being added.
func (s *Survey) add(p *part) {
	for c := range s.of {
		to, from := &s.of[c], &p.of[c]
		for o, n := range from.counts {
			to.counts[o] += n
		}
		to.invited += from.invited
		to.outside = to.outside || from.outside
		to.any = to.any || from.any
		to.nested = to.nested || from.nested
		to.print += from.print
		to.finally += from.finally
		switch {
		case to.uninvited == nil:
			to.uninvited = from.uninvited
		case from.uninvited != nil:
			to.uninvited.Or(from.uninvited)
		}
	}
	for c, n := range p.people {
		s.people[c] += n
	}
	for group, list := range p.asked {
		s.asked[group] = append(s.asked[group], list...)
		s.twice[group] = s.twice[group] || p.twice[group]
	}
}

// Blocks of people are worked on one after the other.
const (
	blockWords = 16
	blockSize  = 64 * blockWords
)

// plane has a bit for each person of a block.
type plane [blockWords]uint64

func (p *plane) set(bit uint16)      { p[bit>>6] |= 1 << (bit & 63) }
func (p *plane) has(bit uint16) bool { return p[bit>>6]>>(bit&63)&1 != 0 }

func (p *plane) or(other *plane) {
	for i := range p {
		p[i] |= other[i]
	}
}

// got are those of a block who get something, by outcome without regard to their mailboxes:
// one person may be in several, and has the best of them.
type got struct {
	inbox, digest, archive, anyone plane
	invited                        plane // to whose inbox an invitation goes
	kept                           plane // who can read what is kept, an invitation too
}

// or adds what others get, and reports whether anybody gets something by it, or something
// better.
func (g *got) or(other *got) bool {
	before := [...]plane{g.inbox, g.digest, g.archive, g.anyone}
	g.inbox.or(&other.inbox)
	g.digest.or(&other.digest)
	g.archive.or(&other.archive)
	g.anyone.or(&other.anyone)
	g.invited.or(&other.invited)
	g.kept.or(&other.kept)
	return before != [...]plane{g.inbox, g.digest, g.archive, g.anyone}
}

func (g *got) add(bit uint16, outcome Outcome, flags uint8) {
	g.anyone.set(bit)
	switch outcome {
	case Inbox:
		g.inbox.set(bit)
	case Digest:
		g.digest.set(bit)
	case Archive:
		g.archive.set(bit)
	}
	if flags&cellInvited != 0 {
		g.invited.set(bit)
	}
	if flags&cellKept != 0 {
		g.kept.set(bit)
	}
}

func (g *got) outcome(bit uint16) (Outcome, bool) {
	switch {
	case g.inbox.has(bit):
		return Inbox, true
	case g.digest.has(bit):
		return Digest, true
	case g.archive.has(bit):
		return Archive, true
	}
	return Nothing, g.anyone.has(bit)
}

// cell is what the entry of a person gives them.
type cell struct {
	group   uint32
	bit     uint16 // in the block
	outcome Outcome
	flags   uint8
}

// What is noted of a cell.
const (
	cellInvited  = 1 << iota
	cellAsked    // the outcome of the person is asked for
	cellKept     // the group keeps posts
	cellRepeated // an earlier entry names the same person: it gives nothing
)

// part is a Survey of some of the people.
type part struct {
	s      *Survey
	r      *Resolver
	from   int // person index
	to     int // without
	blocks [][]cell
	owners [][]uint32 // by group
	next   []int32    // by group: the first of owners in the blocks to come
	rules  []estate.ID
	of     []reached
	people []int
	asked  [][]asked
	twice  []bool

	members []plane // by component of Survey.members: who is a member
	got     []got   // by component of Survey.passing
	listing touched // components of members that have any member in the block
	giving  touched // components of passing that give anybody in it anything
	shut    plane
	beyond  plane // people whose main address is outside
}

// touched is a set of components.
type touched []uint64

func (t touched) add(component int32) { t[component>>6] |= 1 << (component & 63) }

// each visits the components from the lowest on, those that are added above the one at hand
// too.
func (t touched) each(visit func(component int32)) {
	for w := range t {
		for done := uint64(0); t[w]&^done != 0; {
			bit := bits.TrailingZeros64(t[w] &^ done)
			done |= 1 << bit
			visit(int32(w*64 + bit))
		}
	}
}
