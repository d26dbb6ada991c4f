package resolve

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// A Resolver answers questions about one estate on one day. It remembers what
// it has worked out; it is not safe for use by several goroutines at once.
type Resolver struct {
	e     *estate.Estate
	today estate.Day

	strangers *Strangers
	standings map[estate.ID]standing
	rings     []int32                    // by group: see findRings
	members   *memberSets                // shared by forks
	flows     [2]*Flow                   // of a default message and of an invitation
	owns      [2][]own                   // likewise, by group
	matches   map[string]*roaring.Bitmap // by filter
	layout    layout
	tally     tally
	further   []Sender                          // see FurtherAddresses
	gates     *gateKeys                         // shared by forks
	classes   map[gateMessage][]*roaring.Bitmap // see Gate.Deciding
	letIn     map[gateMessage]LetIn
	survey    *Survey // see Survey
}

// New returns a Resolver for e on a day.
func New(e *estate.Estate, today estate.Day) *Resolver {
	return &Resolver{
		e:         e,
		today:     today,
		standings: map[estate.ID]standing{},
		members:   &memberSets{},
		matches:   map[string]*roaring.Bitmap{},
		gates:     &gateKeys{},
		classes:   map[gateMessage][]*roaring.Bitmap{},
		letIn:     map[gateMessage]LetIn{},
	}
}

// Fork returns a Resolver for the same estate and day that another goroutine may
// use.
func (r *Resolver) Fork() *Resolver {
	fork := New(r.e, r.today)
	fork.survey, fork.members, fork.gates = r.survey, r.members, r.gates
	return fork
}

// Forget drops what r has worked out about single groups and people: it is for anyone who looks at one group
// after another.
func (r *Resolver) Forget() {
	for _, list := range r.owns {
		clear(list)
	}
	clear(r.standings)
	clear(r.classes)
	clear(r.letIn)
}

// Estate returns the estate that r answers questions about.
func (r *Resolver) Estate() *estate.Estate { return r.e }

// Today returns the day of evaluation.
func (r *Resolver) Today() estate.Day { return r.today }

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
