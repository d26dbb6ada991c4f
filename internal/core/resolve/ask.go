package resolve

import (
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Eval reports whether a selector that stands in a group is true.
func (r *Resolver) Eval(group estate.ID, x selector.Expr, s Sender, m Message) bool {
	return selector.Eval(x, r.asker(group, s, m))
}

// asker returns a function that answers atoms.
func (r *Resolver) asker(group estate.ID, s Sender, m Message) func(*selector.Atom) bool {
	return func(a *selector.Atom) bool { return r.ask(group, a, s, m) }
}

func (r *Resolver) ask(group estate.ID, a *selector.Atom, s Sender, m Message) bool {
	switch a.Kind {
	case selector.Anyone:
		return true
	case selector.Inside:
		return s.Inside && !m.Unproven
	case selector.Outside:
		return !s.Inside || m.Unproven
	case selector.Known:
		return s.ID != estate.None
	case selector.Members:
		return r.isMember(group, s.ID)
	case selector.Owners:
		return r.isListed(r.e.Group(group).Owners, s.ID)
	case selector.Moderators:
		return r.isListed(r.e.Group(group).Moderators, s.ID)
	case selector.Newcomers:
		entry := r.entryOf(group, s.ID)
		return entry != nil && r.isNew(entry, a.Days)
	case selector.In:
		other, ok := r.e.Find(a.Address)
		return ok && r.e.IsGroup(other) && r.isMember(other, s.ID)
	case selector.Is:
		if id, ok := r.e.Find(a.Address); ok {
			return id == s.ID
		}
		return r.e.Key(a.Address) == s.key
	case selector.At:
		return s.domain == r.e.Domain(a.Domain)
	case selector.Below:
		return r.isBelow(s.domain, a.Domain)
	case selector.Where:
		return r.e.IsPerson(s.ID) && r.e.Matches(s.ID, a.Filter)
	case selector.Unproven:
		return m.Unproven
	case selector.Suspect:
		return m.Suspect
	case selector.Automatic:
		return m.Automatic
	case selector.Invitation:
		return m.Invitation
	case selector.Larger:
		return m.Size > a.Size
	}
	return false // Nobody
}

// isBelow reports whether a domain, canonical in the estate, is below another,
// or below what that other one means.
func (r *Resolver) isBelow(domain, above string) bool {
	return strings.HasSuffix(domain, "."+above) || strings.HasSuffix(domain, "."+r.e.Domain(above))
}

// isNew reports whether a membership is younger than so many days.
func (r *Resolver) isNew(entry *estate.Entry, days int) bool {
	return entry.Since() != 0 && int64(r.today)-int64(entry.Since()) < int64(days)
}

// isListed reports whether somebody is an owner or moderator by a list.
func (r *Resolver) isListed(list []estate.Listed, id estate.ID) bool {
	if id == estate.None {
		return false
	}
	for _, listed := range list {
		if listed.ID == id || r.e.IsGroup(listed.ID) && r.isMember(listed.ID, id) {
			return true
		}
	}
	return false
}

// A standing is what one person or group is a member of, by group.
type standing []bool

// isMember reports whether a person or group is a member of a group, directly
// or through nested groups.
func (r *Resolver) isMember(group, id estate.ID) bool {
	if id == estate.None {
		return false
	}
	in, ok := r.standings[id]
	if !ok {
		if len(r.standings) == mostStandings {
			clear(r.standings)
		}
		in = r.findStanding(id)
		r.standings[id] = in
	}
	return in[group]
}

// mostStandings is how many people's and groups' memberships are remembered at once.
const mostStandings = 1000

// findStanding goes from the groups that somebody is directly in up to all that
// those are nested in.
func (r *Resolver) findStanding(id estate.ID) standing {
	in := make(standing, r.e.Groups())
	var queue []estate.ID
	reach := func(group estate.ID) {
		if !in[group] {
			in[group] = true
			queue = append(queue, group)
		}
	}
	if r.e.IsGroup(id) {
		for _, parent := range r.e.Parents(id) {
			reach(parent.Group)
		}
	} else {
		r.eachDirect(id, reach)
	}
	for len(queue) > 0 {
		group := queue[0]
		queue = queue[1:]
		for _, parent := range r.e.Parents(group) {
			reach(parent.Group)
		}
	}
	return in
}

// eachDirect visits the groups that a person is directly in. Asked about one person it looks
// at all groups; asked again, it makes a list of the groups of everybody.
func (r *Resolver) eachDirect(person estate.ID, visit func(group estate.ID)) {
	if len(r.standings) == 0 && r.members.direct.Load() == nil {
		for group := range estate.ID(r.e.Groups()) {
			if r.isDirect(group, person) {
				visit(group)
			}
		}
		return
	}
	r.members.listing.Do(func() { r.members.direct.Store(r.listDirect()) })
	list := r.members.direct.Load()
	index := r.e.PersonIndex(person)
	for _, group := range list.groups[list.start[index]:list.start[index+1]] {
		visit(group)
	}
	for _, group := range list.ruled {
		if r.isDirect(group, person) {
			visit(group)
		}
	}
}

// direct lists the groups whose entries name each person.
type direct struct {
	start  []uint32 // by person index, into groups; one more at the end
	groups []estate.ID
	ruled  []estate.ID // groups with rules, which may pick anybody
}

func (r *Resolver) listDirect() *direct {
	d := &direct{start: make([]uint32, r.e.People()+2)}
	each := func(visit func(group estate.ID, index int)) {
		for group := range estate.ID(r.e.Groups()) {
			for _, entry := range r.e.Entries(group) {
				if r.e.IsPerson(entry.Member) {
					visit(group, r.e.PersonIndex(entry.Member))
				}
			}
		}
	}
	each(func(_ estate.ID, index int) { d.start[index+2]++ })
	for i := range r.e.People() {
		d.start[i+2] += d.start[i+1]
	}
	d.groups = make([]estate.ID, d.start[r.e.People()+1])
	each(func(group estate.ID, index int) {
		d.groups[d.start[index+1]] = group
		d.start[index+1]++
	})
	for group := range estate.ID(r.e.Groups()) {
		if len(r.e.Rules(group)) > 0 {
			d.ruled = append(d.ruled, group)
		}
	}
	return d
}

func (r *Resolver) isDirect(group, person estate.ID) bool {
	entry, rule := r.Membership(group, person)
	return entry != nil || rule != nil
}

// entryOf returns the first membership in a group that names somebody, or nil.
func (r *Resolver) entryOf(group, id estate.ID) *estate.Entry {
	entries := r.e.Entries(group)
	for i := range entries {
		if entries[i].Member == id {
			return &entries[i]
		}
	}
	return nil
}

// Membership returns a person's membership in one group: the first entry that
// names them, else the first rule that picks them, else nothing.
func (r *Resolver) Membership(group, person estate.ID) (*estate.Entry, *estate.MemberRule) {
	if entry := r.entryOf(group, person); entry != nil {
		return entry, nil
	}
	if !r.e.IsPerson(person) || !r.e.Inside(person) {
		return nil, nil
	}
	rules := r.e.Rules(group)
	for i := range rules {
		if rules[i].Filter == nil || r.e.Matches(person, rules[i].Filter) {
			return nil, &rules[i]
		}
	}
	return nil, nil
}

// A Lineage is how somebody is a member of a group.
type Lineage struct {
	Groups []estate.ID // from that group to the one that they are directly in
	Place  estate.Place
	Rule   bool // whether Place is of a rule rather than of an entry
}

// Lineage returns the shortest path by which a person or group is a member of a
// group, or false if they are not.
func (r *Resolver) Lineage(group, id estate.ID) (Lineage, bool) {
	type step struct {
		group estate.ID
		from  int
	}
	if id == estate.None {
		return Lineage{}, false
	}
	steps := []step{{group, -1}}
	seen := map[estate.ID]bool{group: true}
	for i := 0; i < len(steps); i++ {
		entry, rule := r.Membership(steps[i].group, id)
		if entry == nil && rule == nil {
			for _, child := range r.e.Children(steps[i].group) {
				if !seen[child.Group] {
					seen[child.Group] = true
					steps = append(steps, step{child.Group, i})
				}
			}
			continue
		}
		var l Lineage
		if entry != nil {
			l.Place = entry.Place
		} else {
			l.Place, l.Rule = rule.Place, true
		}
		for at := i; at >= 0; at = steps[at].from {
			l.Groups = append([]estate.ID{steps[at].group}, l.Groups...)
		}
		return l, true
	}
	return Lineage{}, false
}
