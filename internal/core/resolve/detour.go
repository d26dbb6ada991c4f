package resolve

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// A Detour is the paths of a flow that avoid a group nested in it, and those of many senders whose mail
// takes them: sets of senders are followed as sets, never a sender at a time.
type Detour struct {
	f       *Flow
	avoid   estate.ID
	mark    uint32
	message Message
	// By group, as they are needed: the senders whose best path there is open, and those whose best path
	// is open or waiting.
	open, passed map[estate.ID]*roaring.Bitmap
}

// Avoiding returns the paths of a message that avoid a nested group; None: all paths. It is good until the flow
// is asked again.
func (f *Flow) Avoiding(nested estate.ID, m Message) *Detour {
	if f.marks == nil {
		f.marks = make([]uint32, f.r.e.Groups())
	}
	f.marked++
	d := &Detour{f: f, avoid: nested, mark: f.marked, message: m}
	q := f.Query
	q.Over = d.over
	for _, path := range f.r.findPaths(&q) {
		f.marks[path.Group] = d.mark
	}
	return d
}

// over reports whether a path may lead over a group.
func (d *Detour) over(group estate.ID) bool { return group != d.avoid }

// Reaches reports whether a path leads to a group.
func (d *Detour) Reaches(group estate.ID) bool { return d.f.marks[group] == d.mark }

// States returns the state of the best path to each group, for a message of a sender.
func (d *Detour) States(s Sender) map[estate.ID]PathState { return d.f.States(s, d.message, d.over) }

// Of visits what groups give a person to which a path leads, those that are farther first.
func (d *Detour) Of(person estate.ID, visit func(*Gift)) {
	d.f.Of(person, func(one *Gift) {
		if d.Reaches(one.Group) {
			visit(one)
		}
	})
}

// Send follows what some people and groups send: by one step from the group of the flow. To those nested
// directly in it a longer path lets through nobody that the direct one stops.
func (d *Detour) Send(known *roaring.Bitmap) {
	d.open = map[estate.ID]*roaring.Bitmap{d.f.Group: known}
	d.passed = map[estate.ID]*roaring.Bitmap{d.f.Group: known}
	d.follow(d.f.Group, nil, func(estate.ID) {})
}

// Near reports whether it is known at once whose mail comes to a group.
func (d *Detour) Near(group estate.ID) bool { return d.open[group] != nil }

// From returns those of the senders whose best path to a group is open, and those whose best path is open or
// waiting. The sets are not to be changed.
func (d *Detour) From(group estate.ID) (open, passed *roaring.Bitmap) {
	d.reach(group)
	return d.open[group], d.passed[group]
}

// follow passes mail on from a group to those nested directly in it, of some groups (nil:
// all), and visits those to which it comes from more senders than before.
func (d *Detour) follow(at estate.ID, some map[estate.ID]bool, visit func(estate.ID)) {
	e := d.f.r.e
	if e.Group(at).Kind == estate.Mailbox {
		return
	}
	for _, child := range e.Children(at) {
		if !child.Passes || child.Group == d.avoid || child.Group == d.f.Group || some != nil && !some[child.Group] {
			continue
		}
		open, passed := d.open[at], d.passed[at]
		if d.f.r.asksGate(child.Group) {
			in := d.f.r.Gate(child.Group).LetIn(d.message)
			open = roaring.And(open, in.Admitted)
			passed = roaring.Or(roaring.And(passed, in.Admitted), roaring.And(passed, in.Held))
		}
		if d.widen(child.Group, open, passed) {
			visit(child.Group)
		}
	}
}

// reach follows mail to a group.
func (d *Detour) reach(group estate.ID) {
	if d.open[group] != nil {
		return
	}
	// All groups on the paths there, but for those that are known.
	some := map[estate.ID]bool{group: true}
	var from []estate.ID
	for queue := []estate.ID{group}; len(queue) > 0; queue = queue[1:] {
		for _, parent := range d.f.r.e.Parents(queue[0]) {
			switch {
			case !parent.Passes || !d.Reaches(parent.Group) || some[parent.Group]:
			case d.open[parent.Group] != nil:
				from = append(from, parent.Group)
			default:
				some[parent.Group] = true
				queue = append(queue, parent.Group)
			}
		}
	}
	for ; len(from) > 0; from = from[1:] {
		d.follow(from[0], some, func(next estate.ID) { from = append(from, next) })
	}
	for one := range some {
		d.widen(one, none, none) // also where nobody's mail comes
	}
}

// widen adds senders whose mail has a path to a group, and reports whether any is new.
func (d *Detour) widen(group estate.ID, open, passed *roaring.Bitmap) bool {
	if d.open[group] == nil {
		d.open[group], d.passed[group] = open.Clone(), passed.Clone()
		return true
	}
	before := d.open[group].GetCardinality() + d.passed[group].GetCardinality()
	d.open[group].Or(open)
	d.passed[group].Or(passed)
	return d.open[group].GetCardinality()+d.passed[group].GetCardinality() > before
}
