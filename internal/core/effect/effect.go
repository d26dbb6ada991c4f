// Package effect compares two estates by what they do: who may post, who
// receives, who sends-as, what bites, and which notices the change sends.
package effect

import (
	"cmp"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

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
	Changes   []Change       // of groups that are in both
	Persons   []PersonChange // of people who are in both
	Appearing []hazard.Finding
	Going     []hazard.Finding
	Notices   []Notice
}

// Parties are groups or people that come, go or have another main address.
type Parties struct {
	Added   []estate.ID // of the new estate
	Removed []estate.ID // of the old one
	Renamed []Pair
}

// A Pair is somebody in both estates.
type Pair struct{ Old, New estate.ID }

// A Change is what is different about one group.
type Change struct {
	Group     Pair
	Strangers []StrangerChange
	Posts     []VerdictChange
	Receives  []OutcomeChange
	SendsAs   []SendAsChange
	Settings  []SettingChange // that differ, and change nothing of the above
}

// HasEffect reports whether anybody posts, receives or sends as a group otherwise.
func (c *Change) HasEffect() bool {
	return len(c.Strangers)+len(c.Posts)+len(c.Receives)+len(c.SendsAs) > 0
}

// A StrangerChange is another verdict for a stranger: outside, inside or forged.
type StrangerChange struct {
	Stranger string
	Old, New resolve.Decision
}

// A VerdictChange is another verdict for some people.
type VerdictChange struct {
	Old, New estate.Verdict
	People   []estate.ID // of the new estate
}

// An OutcomeChange is another outcome for some people.
type OutcomeChange struct {
	Old, New      resolve.Outcome
	Before, Later bool        // whether there is an outcome at all
	People        []estate.ID // of the new estate, or of the old one where Gone is set
	Gone          bool        // they are not in the new estate
}

// A SendAsChange is another right to send as a group for some people.
type SendAsChange struct {
	Old, New estate.SendAs
	People   []estate.ID // of the new estate
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
		len(r.Estate)+len(r.Changes)+len(r.Persons)+len(r.Appearing)+len(r.Going)+len(r.Notices) == 0
}

func (p Parties) isEmpty() bool { return len(p.Added)+len(p.Removed)+len(p.Renamed) == 0 }

// Compare returns what changes from one estate to another.
func Compare(older, newer *resolve.Resolver) *Report { return compare(older, newer, true) }

// compare is Compare; it may pass over the groups that are written as before.
func compare(older, newer *resolve.Resolver, passOver bool) *Report {
	c := &comparison{
		old:     older,
		new:     newer,
		a:       older.Estate(),
		b:       newer.Estate(),
		report:  &Report{},
		posters: map[string][]VerdictChange{},
	}
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
	if unchanged == nil { // else nothing else is said of anybody
		c.report.Persons = c.persons()
	}
	concernsOld, concernsNew := func(estate.ID) bool { return true }, func(estate.ID) bool { return true }
	if unchanged != nil {
		concernsOld = func(id estate.ID) bool { return !unchanged[c.toNew[id]] }
		concernsNew = func(id estate.ID) bool { return !unchanged[id] }
	}
	// Each side is looked at on its own first; it remembers what is asked below.
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.was = look(older, concernsOld)
	}()
	c.is = look(newer, concernsNew)
	<-done
	for id := range estate.ID(c.b.Groups()) {
		if unchanged != nil && unchanged[id] {
			continue
		}
		if slices.Contains(groups.Added, id) {
			c.notice(estate.None, id)
			continue
		}
		old := c.toOld[id]
		c.notice(old, id)
		change := Change{
			Group:     Pair{old, id},
			Strangers: c.strangers(old, id),
			Posts:     c.posts(old, id),
			Receives:  c.receives(old, id),
			SendsAs:   c.sendsAs(old, id),
		}
		change.Settings = c.groupSettings(&change)
		if change.HasEffect() || len(change.Settings) > 0 {
			c.report.Changes = append(c.report.Changes, change)
		}
	}
	c.hazards()
	return c.report
}

// side is what has been seen in one estate.
type side struct {
	findings [][]hazard.Finding // by group
	// By group, of those concerned: who gets what, and whom the gate lets in, holds
	// and drops, if it speaks of its own group.
	outcomes [][]resolve.PersonOutcome
	verdicts []verdictSets
}

// look looks at the groups of an estate that are concerned.
func look(r *resolve.Resolver, concerns func(estate.ID) bool) side {
	groups := r.Estate().Groups()
	s := side{
		findings: make([][]hazard.Finding, groups),
		outcomes: make([][]resolve.PersonOutcome, groups),
		verdicts: make([]verdictSets, groups),
	}
	var found []hazard.Finding // in the group at hand
	pass := hazard.NewPass(r, hazard.All(), func(f hazard.Finding) { found = append(found, f) })
	for id := range estate.ID(groups) {
		if !concerns(id) {
			pass.PassOver(id)
			continue
		}
		s.outcomes[id] = r.Outcomes(id)
		pass.Look(id)
		s.findings[id] = slices.Clone(found)
		found = found[:0]
		if !resolve.SameForAll(r.Estate().Group(id)) {
			s.verdicts[id] = newVerdictSets(r, id, r.Deciding(id, resolve.Message{}))
		}
	}
	hazard.Finish(pass)
	for _, f := range found {
		s.findings[f.Group] = append(s.findings[f.Group], f)
	}
	return s
}

// comparison is one run of Compare.
type comparison struct {
	old, new *resolve.Resolver
	a, b     *estate.Estate // theirs
	report   *Report

	toNew []estate.ID // by ID of the old estate; None: gone
	toOld []estate.ID // by ID of the new estate; None: added
	shift int64       // toNew adds this to every ID of a person, if uniform
	even  bool        // shift is meaningful

	was, is side
	noted   []estate.ID // scratch for notice: by person of the new estate, 1 + the last group
	touched []estate.ID // scratch for receives
	before  []uint8     // scratch for receives: by person of the new estate, 1 + outcome

	posters map[string][]VerdictChange // by the gates of both
}

// match finds who is who: by the main address, wherever the other estate has it.
func (c *comparison) match() {
	c.toNew = make([]estate.ID, c.a.Groups()+c.a.People())
	c.toOld = make([]estate.ID, c.b.Groups()+c.b.People())
	for i := range c.toOld {
		c.toOld[i] = estate.None
	}
	for id := range estate.ID(len(c.toNew)) {
		c.toNew[id] = estate.None
		other, ok := c.b.Find(c.a.Address(id))
		if !ok || c.b.IsGroup(other) != c.a.IsGroup(id) || c.toOld[other] != estate.None || !c.exact(c.b, other, id) {
			continue
		}
		c.toNew[id], c.toOld[other] = other, id
	}
	// Whoever is not found by the old main address may be by the new one.
	for id := range estate.ID(len(c.toOld)) {
		if c.toOld[id] != estate.None {
			continue
		}
		other, ok := c.a.Find(c.b.Address(id))
		if ok && c.a.IsGroup(other) == c.b.IsGroup(id) && c.toNew[other] == estate.None {
			c.toNew[other], c.toOld[id] = id, other
		}
	}
	c.parties()
	c.even = true
	first := true
	for id := estate.ID(c.a.Groups()); int(id) < len(c.toNew); id++ {
		if c.toNew[id] == estate.None {
			continue
		}
		if shift := int64(c.toNew[id]) - int64(id); first {
			c.shift, first = shift, false
		} else if shift != c.shift {
			c.even = false
			break
		}
	}
}

// exact reports whether other has the very main address of id, rather than one
// that it stands for by subaddress.
func (c *comparison) exact(e *estate.Estate, other, id estate.ID) bool {
	key := e.Key(c.a.Address(id))
	if e.Key(e.Address(other)) == key {
		return true
	}
	also := []string{}
	if e.IsGroup(other) {
		for _, a := range e.Group(other).Also {
			also = append(also, e.Key(a))
		}
	} else {
		for _, a := range e.Person(other).Also {
			also = append(also, e.Key(a))
		}
	}
	return slices.Contains(also, key)
}

// parties notes who comes, goes and is renamed.
func (c *comparison) parties() {
	for id, to := range c.toNew {
		old := estate.ID(id)
		list := &c.report.People
		if c.a.IsGroup(old) {
			list = &c.report.Groups
		}
		switch {
		case to == estate.None:
			list.Removed = append(list.Removed, old)
		case c.a.Address(old).Key() != c.b.Address(to).Key():
			list.Renamed = append(list.Renamed, Pair{old, to})
		}
	}
	for id, from := range c.toOld {
		if from == estate.None {
			if c.b.IsGroup(estate.ID(id)) {
				c.report.Groups.Added = append(c.report.Groups.Added, estate.ID(id))
			} else {
				c.report.People.Added = append(c.report.People.Added, estate.ID(id))
			}
		}
	}
}

func (c *comparison) strangers(old, id estate.ID) []StrangerChange {
	a, b := c.old.Strangers(), c.new.Strangers()
	var changes []StrangerChange
	for _, s := range []struct {
		name     string
		old, new resolve.Sender
		message  resolve.Message
	}{
		{"outside", a.Outside, b.Outside, resolve.Message{}},
		{"inside", a.Inside, b.Inside, resolve.Message{}},
		{"forged", a.Inside, b.Inside, resolve.Message{Unproven: true}},
	} {
		before, later := c.old.Judge(old, s.old, s.message), c.new.Judge(id, s.new, s.message)
		if before.Verdict != later.Verdict {
			changes = append(changes, StrangerChange{s.name, before, later})
		}
	}
	return changes
}

// verdictSets are the people and groups of an estate by what a group's gate says:
// to those in none of these, it says refuse.
type verdictSets [estate.Drop + 1]*roaring.Bitmap

func newVerdictSets(r *resolve.Resolver, id estate.ID, deciding []*roaring.Bitmap) verdictSets {
	var sets verdictSets
	for v := range sets {
		sets[v] = roaring.New()
	}
	for i, class := range deciding {
		if verdict := r.Estate().Group(id).Gate[i].Verdict; verdict != estate.Refuse {
			sets[verdict].Or(class)
		}
	}
	return sets
}

// refuse fills in those who are refused.
func (sets *verdictSets) refuse(e *estate.Estate) {
	refused := roaring.New()
	refused.AddRange(uint64(e.Groups()), uint64(e.Groups()+e.People()))
	for _, set := range sets {
		refused.AndNot(set)
	}
	sets[estate.Refuse] = refused
}

// posts returns the people in both estates for whom a gate says something else.
// Gates that are written alike and do not speak of their group are asked once.
func (c *comparison) posts(old, id estate.ID) []VerdictChange {
	before, later := c.was.verdicts[old], c.is.verdicts[id]
	key := ""
	if before[0] == nil && later[0] == nil {
		key = gateText(c.a.Group(old)) + "\x00" + gateText(c.b.Group(id))
		if known, ok := c.posters[key]; ok {
			return known
		}
	}
	if before[0] == nil {
		before = newVerdictSets(c.old, old, c.old.Deciding(old, resolve.Message{}))
	}
	if later[0] == nil {
		later = newVerdictSets(c.new, id, c.new.Deciding(id, resolve.Message{}))
	}
	changes := c.verdictChanges(before, later)
	if key != "" {
		c.posters[key] = changes
	}
	return changes
}

func (c *comparison) verdictChanges(before, later verdictSets) []VerdictChange {
	var moved verdictSets
	same := c.a.Groups() == c.b.Groups() // else groups get in the way of comparing
	for v := range before {
		moved[v] = c.translate(before[v])
		same = same && moved[v].Equals(later[v])
	}
	if same {
		return nil
	}
	before.refuse(c.a)
	later.refuse(c.b)
	moved[estate.Refuse] = c.translate(before[estate.Refuse])
	var changes []VerdictChange
	for v := range moved {
		for w := range later {
			if v == w || moved[v].IsEmpty() || later[w].IsEmpty() {
				continue
			}
			both := roaring.And(moved[v], later[w])
			both.RemoveRange(0, uint64(c.b.Groups()))
			if !both.IsEmpty() {
				changes = append(changes, VerdictChange{estate.Verdict(v), estate.Verdict(w), sorted(c.b, both)})
			}
		}
	}
	return changes
}

func gateText(g *estate.Group) string {
	text := g.Kind.String()
	for _, rule := range g.Gate {
		text += "\n" + rule.Text
	}
	return text
}

// translate returns those of a set of people of the old estate that are in the
// new one, as they are numbered there.
func (c *comparison) translate(set *roaring.Bitmap) *roaring.Bitmap {
	if c.even && len(c.report.People.Removed) == 0 {
		if c.shift == 0 {
			return set
		}
		people := set.Clone()
		people.RemoveRange(0, uint64(c.a.Groups()))
		return roaring.AddOffset64(people, c.shift)
	}
	moved := roaring.New()
	for it := set.Iterator(); it.HasNext(); {
		if to := c.toNew[it.Next()]; to != estate.None {
			moved.Add(uint32(to))
		}
	}
	return moved
}

// sorted returns a set of people of an estate by address.
func sorted(e *estate.Estate, set *roaring.Bitmap) []estate.ID {
	list := make([]estate.ID, 0, set.GetCardinality())
	for it := set.Iterator(); it.HasNext(); {
		list = append(list, estate.ID(it.Next()))
	}
	return byAddress(e, list)
}

func byAddress(e *estate.Estate, list []estate.ID) []estate.ID {
	slices.SortFunc(list, func(x, y estate.ID) int { return e.Rank(x) - e.Rank(y) })
	return list
}

// receives returns the people whose outcome is another one.
func (c *comparison) receives(old, id estate.ID) []OutcomeChange {
	type key struct {
		old, new      resolve.Outcome
		before, later bool
		gone          bool
	}
	people := map[key][]estate.ID{}
	if c.before == nil {
		c.before = make([]uint8, c.b.People())
	}
	touched := c.touched[:0]
	defer func() { c.touched = touched }()
	for _, x := range c.was.outcomes[old] {
		to := c.toNew[x.Person]
		if to == estate.None {
			k := key{old: x.Outcome, before: true, gone: true}
			people[k] = append(people[k], x.Person)
			continue
		}
		c.before[c.b.PersonIndex(to)] = uint8(x.Outcome) + 1
		touched = append(touched, to)
	}
	for _, x := range c.is.outcomes[id] {
		was := &c.before[c.b.PersonIndex(x.Person)]
		switch {
		case *was == 0:
			k := key{new: x.Outcome, later: true}
			people[k] = append(people[k], x.Person)
		case *was != uint8(x.Outcome)+1:
			k := key{old: resolve.Outcome(*was - 1), new: x.Outcome, before: true, later: true}
			people[k] = append(people[k], x.Person)
		}
		*was = 0
	}
	for _, person := range touched {
		if was := &c.before[c.b.PersonIndex(person)]; *was != 0 {
			k := key{old: resolve.Outcome(*was - 1), before: true}
			people[k] = append(people[k], person)
			*was = 0
		}
	}
	var changes []OutcomeChange
	for k, list := range people {
		e := c.b
		if k.gone {
			e = c.a
		}
		changes = append(changes, OutcomeChange{k.old, k.new, k.before, k.later, byAddress(e, list), k.gone})
	}
	slices.SortFunc(changes, func(x, y OutcomeChange) int { return x.order() - y.order() })
	return changes
}

func (o OutcomeChange) order() int {
	order := int(o.Old)*16 + int(o.New)
	if o.Before && o.Later {
		order += 1 << 12
	} else if o.Later {
		order += 1 << 10
	}
	if o.Gone {
		order += 1 << 8
	}
	return order
}

// sendsAs returns the people in both estates who have another right to send as a group.
func (c *comparison) sendsAs(old, id estate.ID) []SendAsChange {
	if len(c.a.Group(old).SendAs)+len(c.b.Group(id).SendAs) == 0 {
		return nil
	}
	before := map[estate.ID]estate.SendAs{}
	for _, s := range c.old.Delegates(old).People {
		if to := c.toNew[s.ID]; to != estate.None {
			before[to] = s.SendAs
		}
	}
	people := map[[2]estate.SendAs][]estate.ID{}
	for _, s := range c.new.Delegates(id).People {
		if was := before[s.ID]; was != s.SendAs && c.toOld[s.ID] != estate.None {
			people[[2]estate.SendAs{was, s.SendAs}] = append(people[[2]estate.SendAs{was, s.SendAs}], s.ID)
		}
		delete(before, s.ID)
	}
	for person, was := range before {
		people[[2]estate.SendAs{was, estate.NoSendAs}] = append(people[[2]estate.SendAs{was, estate.NoSendAs}], person)
	}
	var changes []SendAsChange
	for k, list := range people {
		changes = append(changes, SendAsChange{k[0], k[1], byAddress(c.b, list)})
	}
	slices.SortFunc(changes, func(x, y SendAsChange) int {
		return cmp.Or(cmp.Compare(x.Old, y.Old), cmp.Compare(x.New, y.New))
	})
	return changes
}

// notice notes who is newly a member of a group that welcomes its members. old is
// None for a new group.
func (c *comparison) notice(old, id estate.ID) {
	if c.b.Group(id).NoWelcome {
		return
	}
	if c.noted == nil {
		c.noted = make([]estate.ID, c.b.People())
	}
	mark := id + 1
	if old != estate.None {
		c.old.EachMembership(old, func(person estate.ID, _ resolve.Wish, _ estate.Place) {
			if to := c.toNew[person]; to != estate.None {
				c.noted[c.b.PersonIndex(to)] = mark
			}
		})
	}
	var added []estate.ID
	c.new.EachMembership(id, func(person estate.ID, _ resolve.Wish, _ estate.Place) {
		if c.noted[c.b.PersonIndex(person)] != mark {
			added = append(added, person)
		}
	})
	if len(added) > 0 {
		c.report.Notices = append(c.report.Notices, Notice{id, byAddress(c.b, added)})
	}
}

// hazards notes which hazards appear and which go.
func (c *comparison) hazards() {
	appear, gone := hazard.NewByCheck(hazard.All()), hazard.NewByCheck(hazard.All())
	for id, findings := range c.is.findings {
		var before []hazard.Finding
		if old := c.toOld[id]; old != estate.None {
			before = c.was.findings[old]
		}
		more, fewer := differ(before, findings)
		for _, f := range more {
			appear.Add(f)
		}
		for _, f := range fewer {
			gone.Add(f)
		}
	}
	for id, findings := range c.was.findings {
		if c.toNew[id] == estate.None {
			for _, f := range findings {
				gone.Add(f)
			}
		}
	}
	c.report.Appearing, c.report.Going = hazard.Findings(appear), hazard.Findings(gone)
}

// differ returns the findings in a group that are not among those from before,
// and those from before that are not there any more.
func differ(before, findings []hazard.Finding) (more, fewer []hazard.Finding) {
	same := func(x, y *hazard.Finding) bool { return x.Check == y.Check && x.Address == y.Address }
	for len(before) > 0 && len(findings) > 0 && same(&before[0], &findings[0]) {
		before, findings = before[1:], findings[1:]
	}
	type key struct {
		check   *hazard.Check
		address string
	}
	count := map[key]int{}
	for _, f := range before {
		count[key{f.Check, f.Address}]++
	}
	for _, f := range findings {
		if k := (key{f.Check, f.Address}); count[k] > 0 {
			count[k]--
		} else {
			more = append(more, f)
		}
	}
	for _, f := range before {
		if k := (key{f.Check, f.Address}); count[k] > 0 {
			count[k]--
			fewer = append(fewer, f)
		}
	}
	return more, fewer
}
