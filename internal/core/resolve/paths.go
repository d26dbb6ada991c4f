package resolve

import (
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
)

// A PathState tells what has become of a message on its way to a nested group:
// the worst that a gate along the path says.
type PathState uint8

// The states of a way.
const (
	PathOpen    PathState = iota
	PathWaiting           // a gate holds
	PathStopped           // a gate refuses or drops
)

// pathWords are the words, in the order of the constants.
var pathWords = []string{"open", "waiting", "stopped"}

func (s PathState) String() string { return pathWords[s] }

// A Path is the best one from the group that a message is sent to, to one that
// is nested in it, or to itself.
type Path struct {
	Group estate.ID
	State PathState
	// Asked is set where the group's own gate was asked, and Decision is then
	// what it said.
	Asked    bool
	Decision Decision
	Place    estate.Place // of the entry that nests the group, or nowhere

	step int32 // index into layout.steps
}

// step is a group on a way, and the step before it, or -1.
type step struct {
	group estate.ID
	from  int32
	place estate.Place
}

// layout is what finding paths needs; it is used again for the next message.
type layout struct {
	steps    []step
	reached  []bool   // by group: has a way
	passed   []uint32 // by group: the last pass that went through it
	pass     uint32
	asked    []uint32 // by group: the message that its gate was asked about last
	decision []Decision
	message  uint32
}

// findPaths returns the best path to every group that a message to a group
// reaches, the best ones first: open before waiting before stopped, then the
// shorter, then by the order of the entries along the chain. Without a sender,
// all nested gates admit.
func (r *Resolver) findPaths(q *Query) []Path {
	l := &r.layout
	if l.reached == nil {
		n := r.e.Groups()
		*l = layout{
			reached:  make([]bool, n),
			passed:   make([]uint32, n),
			asked:    make([]uint32, n),
			decision: make([]Decision, n),
		}
	}
	l.steps = l.steps[:0]
	l.message++
	var paths []Path
	// A path is as bad as its worst gate. So the groups with an open path are those
	// that a search through open gates reaches; those with a waiting path are the
	// further ones that a search through open and waiting gates reaches; and so on.
	// Each search goes from near to far, in the order of the entries.
	for limit := PathOpen; limit <= PathStopped; limit++ {
		var more bool
		if paths, more = r.search(q, limit, paths); !more {
			break
		}
	}
	for _, path := range paths {
		l.reached[path.Group] = false
	}
	return paths
}

// search goes through all groups whose own gate is no worse than limit, and
// adds a way for each that has none yet. It reports whether it met a worse gate.
func (r *Resolver) search(q *Query, limit PathState, paths []Path) ([]Path, bool) {
	l := &r.layout
	l.pass++
	first := len(l.steps)
	worse := false
	enter := func(id estate.ID, from int, place estate.Place) {
		if l.passed[id] == l.pass || q.Over != nil && !q.Over(id) {
			return
		}
		decision, asked := Decision{}, false
		if from >= 0 {
			decision, asked = r.ownGate(id, q)
		}
		if StateOf(decision.Verdict) > limit {
			worse = true
			return
		}
		l.passed[id] = l.pass
		l.steps = append(l.steps, step{id, int32(from), place})
		if !l.reached[id] {
			l.reached[id] = true
			paths = append(
				paths,
				Path{
					Group:    id,
					State:    limit,
					Asked:    asked,
					Decision: decision,
					Place:    place,
					step:     int32(len(l.steps) - 1),
				},
			)
		}
	}
	enter(q.Group, -1, estate.Place{})
	for at := first; at < len(l.steps); at++ {
		id := l.steps[at].group
		if r.e.Group(id).Kind == estate.Mailbox {
			continue // passes nothing on
		}
		for _, child := range r.e.Children(id) {
			if child.Passes {
				enter(child.Group, at, child.Place)
			}
		}
	}
	return paths, worse
}

// ownGate returns what the gate of a nested group says, and whether it is asked.
func (r *Resolver) ownGate(group estate.ID, q *Query) (Decision, bool) {
	if q.Sender == nil || !r.asksGate(group) {
		return Decision{}, false
	}
	l := &r.layout
	if l.asked[group] != l.message {
		l.asked[group] = l.message
		l.decision[group] = r.Gate(group).Judge(*q.Sender, q.Message)
	}
	return l.decision[group], true
}

// asksGate reports whether the gate of a group is asked about mail that comes to it as a nested one.
func (r *Resolver) asksGate(group estate.ID) bool {
	return !r.e.Settings().OpenNestedGates && r.e.Group(group).Kind != estate.Roster
}

// StateOf returns what a way becomes at a gate with that verdict.
func StateOf(v estate.Verdict) PathState {
	switch v {
	case estate.Admit:
		return PathOpen
	case estate.Hold:
		return PathWaiting
	}
	return PathStopped
}

// Chain returns the groups along a way, from the first on.
func (d *Delivery) Chain(path Path) []estate.ID {
	var groups []estate.ID
	for at := path.step; at >= 0; at = d.steps[at].from {
		groups = append(groups, d.steps[at].group)
	}
	slices.Reverse(groups)
	return groups
}

// Before returns the group that a way comes from last, or None for the first.
func (d *Delivery) Before(path Path) estate.ID {
	if from := d.steps[path.step].from; from >= 0 {
		return d.steps[from].group
	}
	return estate.None
}

// Hindrance returns the first group along a way whose gate makes it as bad as
// it is, and what that gate says. It is false for an open path.
func (d *Delivery) Hindrance(path Path) (group estate.ID, decision Decision, ok bool) {
	if path.State == PathOpen {
		return estate.None, Decision{}, false
	}
	if d.decisions == nil {
		d.decisions = map[estate.ID]Decision{}
		for _, w := range d.Paths {
			if w.Asked {
				d.decisions[w.Group] = w.Decision
			}
		}
	}
	for at := path.step; at >= 0; at = d.steps[at].from {
		id := d.steps[at].group
		if own, asked := d.decisions[id]; asked && StateOf(own.Verdict) == path.State && d.steps[at].from >= 0 {
			group, decision, ok = id, own, true
		}
	}
	return group, decision, ok
}

// Chains names the groups along many paths. Chains that begin alike share their
// memory, so that nestings thousands deep stay small.
type Chains struct {
	d        *Delivery
	name     func(estate.ID) string
	chains   [][]string // by step
	extended []bool     // by step: another chain continues in its memory
}

// Chains returns the chains of the delivery, with groups named by name.
func (d *Delivery) Chains(name func(estate.ID) string) *Chains {
	return &Chains{d: d, name: name, chains: make([][]string, len(d.steps)), extended: make([]bool, len(d.steps))}
}

// Of returns the chain of a way. It is not to be changed.
func (c *Chains) Of(path Path) []string {
	var missing []int32
	at := path.step
	for ; at >= 0 && c.chains[at] == nil; at = c.d.steps[at].from {
		missing = append(missing, at)
	}
	for _, next := range slices.Backward(missing) {
		var chain []string
		if at >= 0 {
			chain = c.chains[at]
			if c.extended[at] {
				chain = slices.Clip(chain)
			}
			c.extended[at] = true
		}
		c.chains[next] = append(chain, c.name(c.d.steps[next].group))
		at = next
	}
	return c.chains[path.step]
}
