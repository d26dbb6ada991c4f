package resolve

import (
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// A Posting is posters of a group that all gates of nested groups treat alike.
type Posting struct {
	One      Sender // one of them
	People   int    // how many people of the estate they are
	Stranger string // else who it stands for: outside, inside, or what the gate names
}

// mostPostings is how many kinds of poster are kept apart.
const mostPostings = 200

// Postings divides the people that a group admits, and the strangers, by what the gates of
// nested groups say to them. It returns false where there are too many kinds to tell.
func (r *Resolver) Postings(group estate.ID, m Message) ([]Posting, bool) {
	admitted := roaring.New()
	for _, class := range r.Decided(group, m) {
		if class.Verdict == estate.Admit {
			admitted.Or(class.Senders)
		}
	}
	admitted.RemoveRange(0, uint64(r.e.Groups()))
	parts := []*roaring.Bitmap{}
	if !admitted.IsEmpty() {
		parts = append(parts, admitted)
	}
	for _, path := range r.Route(Query{Group: group, Message: m}).Paths[1:] {
		if r.e.Group(path.Group).Kind == estate.Roster || r.e.Settings().OpenNestedGates {
			continue
		}
		var finer []*roaring.Bitmap
		for _, part := range parts {
			finer = append(finer, r.split(path.Group, part, m)...)
		}
		if parts = finer; len(parts) > mostPostings {
			return nil, false
		}
	}
	var list []Posting
	for _, part := range parts {
		one := r.e.Address(estate.ID(part.Minimum()))
		list = append(list, Posting{One: r.Sender(one), People: int(part.GetCardinality())})
	}
	strangers := r.Strangers()
	add := func(s Sender, name string) {
		if r.Post(group, s, m).Verdict == estate.Admit {
			list = append(list, Posting{One: s, Stranger: name})
		}
	}
	add(strangers.Outside, "outside")
	add(strangers.Inside, "inside")
	codes := r.e.Settings().CodeSender
	for _, s := range r.Claims(group) {
		if s.ID == estate.None && !(codes.IsValid() && r.e.Key(codes) == s.key) {
			add(s, s.Claimed())
		}
	}
	return list, true
}

// Claimed is what a sender claims: for one that Claims makes up, the domain as selectors
// write it.
func (s Sender) Claimed() string {
	domain, made := strings.CutPrefix(s.Address.String(), MadeUp+"@")
	if !made || s.ID != estate.None {
		return s.Address.String()
	}
	if below, ok := strings.CutPrefix(domain, Below); ok {
		return "@*." + below
	}
	return "@" + domain
}

// split divides a set of senders by whether a group's gate admits, holds or stops them.
func (r *Resolver) split(group estate.ID, set *roaring.Bitmap, m Message) []*roaring.Bitmap {
	sets := [PathStopped + 1]*roaring.Bitmap{roaring.New(), roaring.New(), roaring.New()}
	rest := set.Clone()
	for i, class := range r.Deciding(group, m) {
		some := roaring.And(class, set)
		sets[StateOf(r.e.Group(group).Gate[i].Verdict)].Or(some)
		rest.AndNot(some)
	}
	sets[PathStopped].Or(rest)
	var parts []*roaring.Bitmap
	for _, one := range sets {
		if !one.IsEmpty() {
			parts = append(parts, one)
		}
	}
	return parts
}

// Readers are some people outside, with what their memberships want of a message.
type Readers struct {
	r      *Resolver
	group  estate.ID
	people []estate.ID
	m      Message
	seats  map[estate.ID][]seat // by group
	best   []Recipient          // by index of people; path -1: nothing yet
}

// seat is a membership of one of the readers.
type seat struct {
	reader int
	member int32 // index of the entry
	copy   estate.Copy
}

// Readers returns people outside that no rule picks, for [Readers.Deliver] to a group: what many
// senders' messages come to for few of its members.
func (r *Resolver) Readers(group estate.ID, people []estate.ID, m Message) *Readers {
	x := &Readers{r: r, group: group, people: people, m: m, seats: map[estate.ID][]seat{}, best: make([]Recipient, len(people))}
	index := make(map[estate.ID]int, len(people))
	for i, person := range people {
		index[person] = i
	}
	q := &Query{Message: m}
	below := []estate.ID{group}
	met := map[estate.ID]bool{group: true}
	for len(below) > 0 {
		id := below[len(below)-1]
		below = below[:len(below)-1]
		for _, child := range r.e.Children(id) {
			if !met[child.Group] {
				met[child.Group] = true
				below = append(below, child.Group)
			}
		}
		seated := map[int]bool{}
		g := r.e.Group(id)
		if g.Kind == estate.Mailbox { // all its members read it there
			for i, person := range people {
				if r.isMember(id, person) {
					x.seats[id] = append(x.seats[id], seat{i, inMailbox, estate.CopyEvery})
				}
			}
			continue
		}
		for at, entry := range r.e.Entries(id) {
			if i, ok := index[entry.Member]; ok && !seated[i] {
				seated[i] = true
				says := entry.Membership()
				x.seats[id] = append(x.seats[id], seat{i, int32(at), r.wish(g, entry.Member, says, q).Copy})
			}
		}
	}
	return x
}

// Deliver returns what [Resolver.Deliver] does, for the readers alone: those of them that
// there is something, in their order. It passes over that groups may send nobody their own
// message back. It is good until the next call.
func (x *Readers) Deliver(s Sender) *Delivery {
	d := &Delivery{Query: Query{Group: x.group, Sender: &s, Message: x.m, Author: NoAuthor}, r: x.r}
	d.Paths = x.r.findPaths(&d.Query)
	d.steps = x.r.layout.steps
	for i := range x.best {
		x.best[i] = Recipient{ID: x.people[i], path: -1}
	}
	note := func(reader, path int, member int32, outcome Outcome) {
		if best := &x.best[reader]; best.path < 0 || outcome < best.Outcome {
			best.Outcome, best.path, best.member = outcome, int32(path), member
		}
	}
	for path := range d.Paths {
		id, state := d.Paths[path].Group, d.Paths[path].State
		kind := x.r.e.Group(id).Kind
		for _, one := range x.seats[id] {
			note(one.reader, path, one.member, outcomes(kind, one.copy, state))
		}
	}
	for _, best := range x.best {
		if best.path >= 0 {
			best.Outcome = x.r.final(best)
			d.Recipients = append(d.Recipients, best)
		}
	}
	return d
}
