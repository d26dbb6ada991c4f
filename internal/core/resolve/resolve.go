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
	rings     []int32 // by group: see findRings
	members   map[estate.ID]*roaring.Bitmap
	receives  receives
	matches   map[string]*roaring.Bitmap // by filter
	layout    layout
	tally     tally
}

// New returns a Resolver for e on a day.
func New(e *estate.Estate, today estate.Day) *Resolver {
	return &Resolver{
		e:         e,
		today:     today,
		standings: map[estate.ID]standing{},
		members:   map[estate.ID]*roaring.Bitmap{},
		matches:   map[string]*roaring.Bitmap{},
	}
}

// Fork returns a Resolver for the same estate and day that another goroutine may
// use.
func (r *Resolver) Fork() *Resolver { return New(r.e, r.today) }

// Estate returns the estate that r answers questions about.
func (r *Resolver) Estate() *estate.Estate { return r.e }

// Today returns the day of evaluation.
func (r *Resolver) Today() estate.Day { return r.today }

// A Decision is what a gate says.
type Decision struct {
	Verdict estate.Verdict
	Rule    int // which rule decides, from 1; 0: none
}

// Judge returns what the gate of a group says. Mail to a roster is refused
// whatever its gate.
func (r *Resolver) Judge(group estate.ID, s Sender, m Message) Decision {
	g := r.e.Group(group)
	if g.Kind != estate.Roster {
		for i, rule := range g.Gate {
			if r.Eval(group, rule.Selector, s, m) {
				return Decision{rule.Verdict, i + 1}
			}
		}
	}
	return Decision{Verdict: estate.Refuse}
}

// SameForAll reports whether a gate that is written like that of g says the same
// in every group of the estate: whether it does not speak of its own group.
func SameForAll(g *estate.Group) bool {
	same := g.Kind != estate.Roster
	for _, rule := range g.Gate {
		selector.Atoms(rule.Selector, func(a *selector.Atom) {
			switch a.Kind {
			case selector.Members, selector.Owners, selector.Moderators, selector.Newcomers:
				same = false
			}
		})
	}
	return same
}

// A Tried is a rule that was asked, and the answers that settle it.
type Tried struct {
	Rule    int // from 1
	Matched bool
	Answers []selector.Answer
}

// Trace returns the rules of a group's gate that are asked, up to the one that
// decides. It agrees with Judge.
func (r *Resolver) Trace(group estate.ID, s Sender, m Message) []Tried {
	g := r.e.Group(group)
	if g.Kind == estate.Roster {
		return nil
	}
	var trace []Tried
	for i, rule := range g.Gate {
		matched, answers := selector.Witness(rule.Selector, r.asker(group, s, m))
		trace = append(trace, Tried{i + 1, matched, answers})
		if matched {
			break
		}
	}
	return trace
}

// Deciding returns, for each rule of a group's gate, the people and groups for
// whom it decides when they write from their main address: rule 1 at 0. Mail to a
// roster is refused without a rule.
func (r *Resolver) Deciding(group estate.ID, m Message) []*roaring.Bitmap {
	g := r.e.Group(group)
	if g.Kind == estate.Roster {
		return nil
	}
	decided := roaring.New()
	classes := make([]*roaring.Bitmap, len(g.Gate))
	for i, rule := range g.Gate {
		classes[i] = roaring.AndNot(r.Set(group, rule.Selector, m), decided)
		if i+1 < len(classes) {
			decided.Or(classes[i])
		}
	}
	return classes
}

// Posters returns what Deciding does, numbered from 1, and at 0 those that no
// rule decides for.
func (r *Resolver) Posters(group estate.ID, m Message) []*roaring.Bitmap {
	rest := r.everyone()
	classes := r.Deciding(group, m)
	for _, class := range classes {
		rest.AndNot(class)
	}
	return append([]*roaring.Bitmap{rest}, classes...)
}

// Verdict returns the verdict of a rule of a group's gate, numbered as in
// Decision.
func (r *Resolver) Verdict(group estate.ID, rule int) estate.Verdict {
	if rule == 0 {
		return estate.Refuse
	}
	return r.e.Group(group).Gate[rule-1].Verdict
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
