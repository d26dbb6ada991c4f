package resolve

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Resolver answers questions about one estate on one day. It remembers what
// it has worked out; it is not safe for use by several goroutines at once.
type Resolver struct {
	e     *estate.Estate
	today estate.Day

	strangers *Strangers
	standings map[estate.ID]standing
	rings     []int32     // by group: see findRings
	members   *memberSets // shared by forks
	receives  receives
	matches   map[string]*roaring.Bitmap // by filter
	layout    layout
	tally     tally
	further   []Sender                      // see FurtherAddresses
	edge      map[Message][]*roaring.Bitmap // see Deciding
	survey    *Survey                       // see Survey
}

// New returns a Resolver for e on a day.
func New(e *estate.Estate, today estate.Day) *Resolver {
	return &Resolver{
		e:         e,
		today:     today,
		standings: map[estate.ID]standing{},
		members:   &memberSets{},
		matches:   map[string]*roaring.Bitmap{},
	}
}

// Fork returns a Resolver for the same estate and day that another goroutine may
// use.
func (r *Resolver) Fork() *Resolver {
	fork := New(r.e, r.today)
	fork.survey, fork.members = r.survey, r.members
	return fork
}

// Forget drops what r has worked out about single groups and people.
func (r *Resolver) Forget() {
	r.receives, r.tally, r.layout = receives{}, tally{}, layout{}
	clear(r.standings)
}

// ForgetGroups drops what r has worked out about single groups and people, and keeps the room
// for it: it is for anyone who asks about one group after another.
func (r *Resolver) ForgetGroups() {
	for i := range r.receives.own {
		clear(r.receives.own[i])
	}
	clear(r.standings)
}

// Estate returns the estate that r answers questions about.
func (r *Resolver) Estate() *estate.Estate { return r.e }

// Today returns the day of evaluation.
func (r *Resolver) Today() estate.Day { return r.today }

// A Decision is what a gate says, or the edge of the estate.
type Decision struct {
	Verdict estate.Verdict
	Rule    int // of the group's gate, from 1; 0: none of it decides
	Edge    int // of the edge, from 1; 0: none of it decides
}

// Post returns what becomes of a message that is sent to a group: what the edge says,
// and else the group's own gate.
func (r *Resolver) Post(group estate.ID, s Sender, m Message) Decision {
	if edge := r.Edge(s, m); edge > 0 {
		return Decision{Verdict: r.e.Settings().Edge[edge-1].Verdict, Edge: edge}
	}
	return r.Judge(group, s, m)
}

// Edge returns the rule of the edge that decides about a message, from 1; 0 where none
// does.
func (r *Resolver) Edge(s Sender, m Message) int {
	for i, rule := range r.e.Settings().Edge {
		if r.Eval(estate.None, rule.Selector, s, m) {
			return i + 1
		}
	}
	return 0
}

// Because returns what a decision about mail to a group says to the sender, or "".
func (r *Resolver) Because(group estate.ID, d Decision) string {
	if rule := r.DecidingRule(group, d); rule != nil {
		return rule.Because
	}
	return ""
}

// DecidingRule returns the rule of a group's gate or of the edge that decides, or nil.
func (r *Resolver) DecidingRule(group estate.ID, d Decision) *estate.GateRule {
	switch {
	case d.Edge > 0:
		return &r.e.Settings().Edge[d.Edge-1]
	case d.Rule > 0:
		return &r.e.Group(group).Gate[d.Rule-1]
	}
	return nil
}

// Judge returns what the own gate of a group says, whatever the edge. Mail to a roster is
// refused whatever its gate.
func (r *Resolver) Judge(group estate.ID, s Sender, m Message) Decision {
	for i, rule := range r.gate(group) {
		if r.Eval(group, rule.Selector, s, m) {
			return Decision{Verdict: rule.Verdict, Rule: i + 1}
		}
	}
	return Decision{Verdict: estate.Refuse}
}

// SameForAll reports whether a gate that is written like that of g says the same
// in every group of the estate: whether it does not speak of its own group.
func SameForAll(g *estate.Group) bool {
	same := g.Kind != estate.Roster
	for _, rule := range g.Gate {
		same = same && SameSelector(rule.Selector)
	}
	return same
}

// SameSelector reports whether a selector picks the same in every group of the estate.
func SameSelector(x selector.Expr) bool {
	same := true
	selector.Atoms(x, func(a *selector.Atom) {
		switch a.Kind {
		case selector.Members, selector.Owners, selector.Moderators, selector.Newcomers:
			same = false
		}
	})
	return same
}

// A Tried is a rule that was asked, and the answers that settle it.
type Tried struct {
	Rule    int // from 1
	Matched bool
	Answers []selector.Truth
}

// gate returns the rules of a group's own gate, or with None those of the edge. Mail to a roster is refused
// without a rule.
func (r *Resolver) gate(group estate.ID) []estate.GateRule {
	if group == estate.None {
		return r.e.Settings().Edge
	}
	if g := r.e.Group(group); g.Kind != estate.Roster {
		return g.Gate
	}
	return nil
}

// Trace returns the rules of a group's own gate that are asked, up to the one that
// decides. It agrees with Judge; with None it is about the edge, and agrees with Edge.
func (r *Resolver) Trace(group estate.ID, s Sender, m Message) []Tried {
	var trace []Tried
	for i, rule := range r.gate(group) {
		matched, answers := selector.Witness(rule.Selector, r.asker(group, s, m))
		trace = append(trace, Tried{i + 1, matched, answers})
		if matched {
			break
		}
	}
	return trace
}

// Deciding returns, for each rule of a group's own gate, the people and groups for
// who it decides when they write from their main address: rule 1 at 0. Mail to a
// roster is refused without a rule. With None it is about the edge. The sets are not to be changed.
func (r *Resolver) Deciding(group estate.ID, m Message) []*roaring.Bitmap {
	if group != estate.None {
		return r.deciding(group, m)
	}
	if classes, known := r.edge[m]; known {
		return classes
	}
	if r.edge == nil {
		r.edge = map[Message][]*roaring.Bitmap{}
	}
	r.edge[m] = r.deciding(group, m)
	return r.edge[m]
}

// Stopped returns those that the edge refuses or drops, or nil where there is no edge.
func (r *Resolver) Stopped(m Message) *roaring.Bitmap {
	classes := r.Deciding(estate.None, m)
	if len(classes) == 0 {
		return nil
	}
	return roaring.FastOr(classes...)
}

func (r *Resolver) deciding(group estate.ID, m Message) []*roaring.Bitmap {
	rules := r.gate(group)
	decided := roaring.New()
	classes := make([]*roaring.Bitmap, len(rules))
	for i, rule := range rules {
		classes[i] = r.Set(group, rule.Selector, m)
		if i > 0 {
			classes[i] = roaring.AndNot(classes[i], decided)
		}
		if i+1 < len(classes) {
			decided.Or(classes[i])
		}
	}
	return classes
}

// A Class is a decision about a message, and the people and groups who get it when they
// write from their main address.
type Class struct {
	Decision
	Senders *roaring.Bitmap
}

// Posters returns everybody by what becomes of a message that they send to a group, as
// Post says: first those that no rule decides about.
func (r *Resolver) Posters(group estate.ID, m Message) []Class {
	rest := r.everyone()
	decided := r.Decided(group, m)
	for _, class := range decided {
		rest.AndNot(class.Senders)
	}
	return append([]Class{{Decision{Verdict: estate.Refuse}, rest}}, decided...)
}

// Decided returns what Posters does, without those that no rule decides about.
func (r *Resolver) Decided(group estate.ID, m Message) []Class {
	var list []Class
	for i, class := range r.Deciding(estate.None, m) {
		list = append(list, Class{Decision{Verdict: r.e.Settings().Edge[i].Verdict, Edge: i + 1}, class})
	}
	stopped := r.Stopped(m)
	for i, class := range r.Deciding(group, m) {
		if stopped != nil {
			class = roaring.AndNot(class, stopped)
		}
		list = append(list, Class{Decision{Verdict: r.e.Group(group).Gate[i].Verdict, Rule: i + 1}, class})
	}
	return list
}

// Approvers returns the people who can release a held message, in file order,
// and whether they are the group's owners, for want of moderators.
func (r *Resolver) Approvers(group estate.ID) (people []estate.ID, owners bool) {
	g := r.e.Group(group)
	if people = r.listedPeople(g.Moderators); len(people) > 0 {
		return people, false
	}
	return r.listedPeople(g.Owners), true
}

// Owners returns the people who own a group, in file order. A group that is
// listed stands for its members.
func (r *Resolver) Owners(group estate.ID) []estate.ID {
	return r.listedPeople(r.e.Group(group).Owners)
}

// listedPeople returns the people that a list of owners or moderators amounts
// to, each once. A group stands for its members.
func (r *Resolver) listedPeople(list []estate.Listed) []estate.ID {
	var people []estate.ID
	seen := roaring.New()
	add := func(id estate.ID) {
		if r.e.IsPerson(id) && seen.CheckedAdd(uint32(id)) {
			people = append(people, id)
		}
	}
	for _, listed := range list {
		if r.e.IsGroup(listed.ID) {
			for it := r.Members(listed.ID).Iterator(); it.HasNext(); {
				add(estate.ID(it.Next()))
			}
		} else {
			add(listed.ID)
		}
	}
	return people
}
