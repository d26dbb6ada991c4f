// Package effect compares two estates by what they do: everything that can be asked about
// a group or a person, which hazards come and go, and which notices the change sends.
//
// What can be asked is the list facets: each looks at one side of a group. Where none of
// them finds a difference and no setting differs, nothing is said of the group.
package effect

import (
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
)

// A Report is what changes from one estate to another. Lists are in the order of
// the estates, those of people sorted by address.
type Report struct {
	Estate    []SettingChange // what the estates say of themselves
	Groups    Parties
	People    Parties
	Changes   []GroupChange  // of groups that are in both
	Persons   []PersonChange // of people who are in both
	Appearing []hazard.Finding
	Going     []hazard.Finding
	Notices   []Notice
	Causes    []Cause // what is written otherwise, where that is little
}

// Parties are groups or people that come, go or have another main address.
type Parties struct {
	Added   []estate.ID // of the new estate
	Removed []estate.ID // of the old one
	Renamed []Pair
}

// A Pair is somebody in both estates.
type Pair struct{ Old, New estate.ID }

// A GroupChange is what is different about one group.
type GroupChange struct {
	Group    Pair
	Posts    []PostChange
	Receives []OutcomeChange
	SendsAs  []SendAsChange
	May      []MayChange
	Sees     []SettingChange // what a reader sees otherwise
	Joining  []SettingChange // what a new member gets otherwise
	Settings []SettingChange // that differ, and change nothing of the above
}

// facets are everything that can be asked about a group.
var facets = []struct {
	name    string
	compare func(*comparison, *GroupChange)
}{
	{"posts", (*comparison).posts},
	{"receives", (*comparison).receives},
	{"sends-as", (*comparison).sendsAs},
	{"may", (*comparison).may},
	{"sees", (*comparison).sees},
	{"joining", (*comparison).joining},
	{"settings", (*comparison).groupSettings}, // last: it leaves out what shows in the others
}

// HasEffect reports whether any answer but what the group says of itself is another one.
func (c *GroupChange) HasEffect() bool {
	return len(c.Posts)+len(c.Receives)+len(c.SendsAs)+len(c.May)+len(c.Sees)+len(c.Joining) > 0
}

// Somebody is who a difference is about: a person or group by address, or a stranger.
type Somebody struct {
	Address  address.Address
	Stranger string // outside, inside or forged, or ""
}

// A Notice is a welcome notice that goes out to the new members of a group.
type Notice struct {
	Group  estate.ID // of the new estate
	People []estate.ID
}

// Count returns how many notices go out.
func (r *Report) Count() int {
	n := 0
	for _, notice := range r.Notices {
		n += len(notice.People)
	}
	return n
}

// IsEmpty reports whether nothing changes.
func (r *Report) IsEmpty() bool {
	return r.Groups.isEmpty() && r.People.isEmpty() &&
		len(r.Estate)+len(r.Changes)+len(r.Persons)+len(r.Appearing)+len(r.Going)+len(r.Notices)+len(r.Causes) == 0
}

func (p Parties) isEmpty() bool { return len(p.Added)+len(p.Removed)+len(p.Renamed) == 0 }

// Compare returns what changes from one estate to another.
func Compare(older, newer *resolve.Resolver) *Report { return compare(older, newer, true) }

// compare is Compare; it may pass over the groups that are written as before.
func compare(older, newer *resolve.Resolver, passOver bool) *Report {
	c := &comparison{
		old:    older,
		new:    newer,
		a:      older.Estate(),
		b:      newer.Estate(),
		report: &Report{},
	}
	c.seats.c = c
	c.match()
	c.report.Estate = c.estateSettings()
	groups := c.report.Groups
	var unchanged []bool
	if passOver {
		unchanged = c.unchanged()
	}
	if unchanged != nil && !slices.Contains(unchanged, false) && groups.isEmpty() {
		return c.report
	}
	c.unconcerned = unchanged
	c.survey()
	c.prepare()
	if unchanged == nil { // else nothing else is said of anybody
		c.report.Persons = c.persons()
	}
	c.groups(func(id estate.ID) bool { return unchanged == nil || !unchanged[id] })
	c.report.Causes = c.causes(unchanged)
	return c.report
}

// survey looks at all groups of both estates, at once.
func (c *comparison) survey() {
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.old.Survey()
	}()
	c.new.Survey()
	<-done
}

// groupsAtOnce is after how many groups what was worked out about them is let go of.
const groupsAtOnce = 32

// groups compares the groups that are concerned, in several goroutines, and notes the hazards
// that come and go.
func (c *comparison) groups(concerns func(estate.ID) bool) {
	var ids []estate.ID
	for id := range estate.ID(c.b.Groups()) {
		if concerns(id) {
			ids = append(ids, id)
		}
	}
	found := make([]Report, len(ids))
	hazards := make([]differences, len(ids))
	var next atomic.Int64
	var done sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), 4, len(ids)) {
		done.Go(func() {
			w := c.fork()
			old, new := newSide(w.old), newSide(w.new)
			for at, looked := int(next.Add(1))-1, 1; at < len(ids); at, looked = int(next.Add(1))-1, looked+1 {
				w.report = &found[at]
				var was []hazard.Finding
				if before := c.toOld[ids[at]]; before == estate.None {
					w.notice(estate.None, ids[at])
				} else {
					w.group(Pair{before, ids[at]})
					was = old.of(before)
				}
				hazards[at] = w.hazards(was, new.of(ids[at]))
				if looked%groupsAtOnce == 0 {
					clear(w.judged)
					w.old.Forget()
					w.new.Forget()
				}
			}
		})
	}
	done.Wait()
	for i := range found {
		c.report.Changes = append(c.report.Changes, found[i].Changes...)
		c.report.Notices = append(c.report.Notices, found[i].Notices...)
	}
	c.reportHazards(hazards)
}

// fork returns the comparison for another goroutine: what is remembered on the way is its own.
func (c *comparison) fork() *comparison {
	w := *c
	w.old, w.new = c.old.Fork(), c.new.Fork()
	w.seats, w.noted = seats{c: &w}, nil
	w.posted, w.alike, w.judged = map[string][]PostChange{}, map[Pair]bool{}, map[gateMessage]bool{}
	return &w
}

// group compares one group that is in both estates.
func (c *comparison) group(pair Pair) {
	c.notice(pair.Old, pair.New)
	change := GroupChange{Group: pair}
	for _, facet := range facets {
		facet.compare(c, &change)
	}
	if change.HasEffect() || len(change.Settings) > 0 {
		c.report.Changes = append(c.report.Changes, change)
	}
}
