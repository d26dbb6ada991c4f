package resolve

import (
	"encoding/binary"
	"slices"

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
	all     *roaring.Bitmap // see Send
	letIn   func(group estate.ID) LetIn
	// By group, as they are needed: the senders whose best path there is open, and those whose best path
	// is open or waiting.
	open, passed map[estate.ID]*roaring.Bitmap

	streamOf map[estate.ID]int // see stream
	streams  []stream
	bySum    map[uint64][]int
	outlooks map[string]*Outlook
	gifts    []uint32 // room for Outlook
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

// States returns the state of the best path to each group, for a message of one sender.
func (d *Detour) States(s Sender) map[estate.ID]PathState {
	q := Query{Group: d.f.Group, Sender: &s, Message: d.message, Over: d.over}
	states := map[estate.ID]PathState{}
	for _, path := range d.f.r.findPaths(&q) {
		states[path.Group] = path.State
	}
	return states
}

// Of visits what groups give a person to which a path leads, those that are farther first.
func (d *Detour) Of(person estate.ID, visit func(*Gift)) {
	d.f.Of(person, func(one *Gift) {
		if d.Reaches(one.Group) {
			visit(one)
		}
	})
}

// Send follows what many senders send: by one step from the group of the flow. To those nested
// directly in it a longer path lets through nobody that the direct one stops. What gates say to the senders
// letIn tells; nil: they are people and groups of the estate.
func (d *Detour) Send(senders *roaring.Bitmap, letIn func(group estate.ID) LetIn) {
	if letIn == nil {
		letIn = func(group estate.ID) LetIn { return d.f.r.Gate(group).LetIn(d.message) }
	}
	d.all, d.letIn = senders, letIn
	d.open = map[estate.ID]*roaring.Bitmap{d.f.Group: senders}
	d.passed = map[estate.ID]*roaring.Bitmap{d.f.Group: senders}
	d.streamOf, d.streams, d.bySum = map[estate.ID]int{}, nil, map[uint64][]int{}
	d.outlooks = map[string]*Outlook{}
	d.follow(d.f.Group, nil, func(estate.ID) {})
}

// State returns the state of the best path to a group for one of the senders.
func (d *Detour) State(group estate.ID, sender uint32) PathState {
	switch open, passed := d.From(group); {
	case open.Contains(sender):
		return PathOpen
	case passed.Contains(sender):
		return PathWaiting
	}
	return PathStopped
}

// An Outlook is what somebody gets of the mail of many senders: those senders, by Outcome; nil for nobody. The
// sets are not to be changed.
type Outlook [Undeliverable + 1]*roaring.Bitmap

// Outlook returns what a person gets from all senders, over all groups but one (None: over all), or nil if no group
// gives them anything. People to whom groups give the same over the same paths share one Outlook.
func (d *Detour) Outlook(person, without estate.ID) *Outlook {
	d.gifts = d.gifts[:0]
	d.Of(person, func(one *Gift) {
		if one.Group != without {
			d.gifts = append(d.gifts, uint32(d.stream(one.Group))<<outcomeBits|uint32(one.Outcome))
		}
	})
	if len(d.gifts) == 0 {
		return nil
	}
	slices.Sort(d.gifts)
	key := make([]byte, 1, 64)
	if d.f.r.e.IsShut(person) {
		key[0] = 1
	}
	for i, gift := range d.gifts {
		if i == 0 || gift != d.gifts[i-1] {
			key = binary.LittleEndian.AppendUint32(key, gift)
		}
	}
	o, known := d.outlooks[string(key)]
	if !known {
		o = d.outlook(slices.Compact(d.gifts), key[0] == 1)
		d.outlooks[string(key)] = o
	}
	return o
}

// outlook puts together what groups give over their streams: the best first, as long as it leaves any senders.
func (d *Detour) outlook(gifts []uint32, shut bool) *Outlook {
	var o Outlook
	left := d.all
	for is := Inbox; is <= Stopped && !left.IsEmpty(); is++ {
		var set *roaring.Bitmap
		for _, packed := range gifts {
			if some := d.streams[packed>>outcomeBits].giving(Outcome(packed&outcomeMask), is, d.all); set == nil {
				set = some
			} else if some != nil && set != d.all {
				set = roaring.Or(set, some)
			}
		}
		switch {
		case set == nil:
			continue
		case set == d.all:
			o[is], left = left, none
		case left == d.all:
			o[is], left = set, roaring.AndNot(left, set)
		default:
			o[is] = roaring.And(left, set)
			left = roaring.AndNot(left, set)
		}
		if o[is].IsEmpty() {
			o[is] = nil
		}
	}
	if shut {
		for _, is := range [...]Outcome{Inbox, Digest} {
			switch {
			case o[is] == nil:
			case o[Undeliverable] == nil:
				o[Undeliverable] = o[is]
			default:
				o[Undeliverable] = roaring.Or(o[Undeliverable], o[is])
			}
			o[is] = nil
		}
	}
	return &o
}

// stream are senders whose mail comes to some groups: over an open path, or a waiting one.
type stream struct{ open, waiting *roaring.Bitmap }

// giving returns the senders of whose mail something that a group gives is, nil for nobody: all of them for what no
// path makes worse.
func (s stream) giving(gift, is Outcome, all *roaring.Bitmap) *roaring.Bitmap {
	switch {
	case gift == Nothing && is == Nothing, gift != Nothing && is == Stopped:
		return all
	case gift == Nothing:
		return nil
	case is == gift:
		return s.open
	case is == Waiting:
		return s.waiting
	}
	return nil
}

// stream numbers the groups to which the mail of the same senders comes.
func (d *Detour) stream(group estate.ID) int {
	if number, known := d.streamOf[group]; known {
		return number
	}
	open, passed := d.From(group)
	sum := open.Checksum() ^ mix(passed.Checksum())
	number := -1
	for _, one := range d.bySum[sum] {
		if d.streams[one].open.Equals(open) && d.streams[one].waiting.Equals(roaring.AndNot(passed, open)) {
			number = one
		}
	}
	if number < 0 {
		number = len(d.streams)
		if open.GetCardinality() == d.all.GetCardinality() {
			open = d.all
		}
		d.streams = append(d.streams, stream{open, roaring.AndNot(passed, open)})
		d.bySum[sum] = append(d.bySum[sum], number)
	}
	d.streamOf[group] = number
	return number
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
			in := d.letIn(child.Group)
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
