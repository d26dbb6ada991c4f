package resolve

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// everyone returns a new set of all groups and people.
func (r *Resolver) everyone() *roaring.Bitmap {
	all := roaring.New()
	all.AddRange(0, uint64(r.e.Groups()+r.e.People()))
	return all
}

// Set returns the people and groups that a selector in a group picks
// when they write from their main address. It agrees with Eval. The set
// is not to be changed.
func (r *Resolver) Set(group estate.ID, x selector.Expr, m Message) *roaring.Bitmap {
	return r.set(x, func(a *selector.Atom) *roaring.Bitmap { return r.atomSet(group, a, m) })
}

// set returns those that a selector picks, given those that its atoms pick.
func (r *Resolver) set(x selector.Expr, atom func(*selector.Atom) *roaring.Bitmap) *roaring.Bitmap {
	switch x := x.(type) {
	case selector.Or:
		set := roaring.New()
		for _, term := range x {
			set.Or(r.set(term, atom))
		}
		return set
	case selector.And:
		set := r.everyone()
		for _, factor := range x {
			if set.And(r.set(factor, atom)); set.IsEmpty() {
				break
			}
		}
		return set
	case selector.Not:
		set := r.everyone()
		set.AndNot(r.set(x.X, atom))
		return set
	case *selector.Atom:
		return atom(x)
	}
	panic("resolve: no selector")
}

// AsNewcomers returns what Set does, if every person were a member of the group who is
// new today.
func (g Gate) AsNewcomers(x selector.Expr, m Message) *roaring.Bitmap {
	r, group := g.r, g.group
	return r.set(x, func(a *selector.Atom) *roaring.Bitmap {
		people := r.everyone()
		people.RemoveRange(0, uint64(r.e.Groups()))
		switch {
		case a.Kind == selector.Members, r.isBelowNamed(group, a):
			people.Or(r.Members(group))
			return people
		case a.Kind == selector.Newcomers && a.Days > 0:
			return people
		case a.Kind == selector.Newcomers:
			return roaring.New()
		}
		return r.atomSet(group, a, m)
	})
}

// EvalAsNewcomer reports what Eval does, if the sender were a member of the group who is
// new today.
func (g Gate) EvalAsNewcomer(x selector.Expr, s Sender, m Message) bool {
	r, group := g.r, g.group
	return selector.Eval(x, func(a *selector.Atom) bool {
		switch a.Kind {
		case selector.Members, selector.Known:
			return true
		case selector.Newcomers:
			return a.Days > 0
		}
		return r.isBelowNamed(group, a) || r.ask(group, a, s, m)
	})
}

// isBelowNamed reports whether an atom asks for the members of a group that this one is nested in:
// anyone who is a member of this one is.
func (r *Resolver) isBelowNamed(group estate.ID, a *selector.Atom) bool {
	if a.Kind != selector.In || group == estate.None {
		return false
	}
	other, ok := r.e.Find(a.Address)
	return ok && r.e.IsGroup(other) && (other == group || r.Members(other).Contains(uint32(group)))
}

func (r *Resolver) atomSet(group estate.ID, a *selector.Atom, m Message) *roaring.Bitmap {
	switch a.Kind {
	case selector.Anyone, selector.Known:
		return r.everyone()
	case selector.Nobody:
		return roaring.New()
	case selector.Inside:
		return r.insiders(m)
	case selector.Outside:
		set := r.everyone()
		set.AndNot(r.insiders(m))
		return set
	case selector.Members:
		return r.Members(group)
	case selector.Owners:
		return r.listed(r.e.Group(group).Owners)
	case selector.Moderators:
		return r.listed(r.e.Group(group).Moderators)
	case selector.Newcomers:
		return r.newcomers(group, a.Days)
	case selector.In:
		if other, ok := r.e.Find(a.Address); ok && r.e.IsGroup(other) {
			return r.Members(other)
		}
		return roaring.New()
	case selector.Is:
		set := roaring.New()
		if id, ok := r.e.Find(a.Address); ok {
			set.Add(uint32(id))
		}
		return set
	case selector.At:
		return r.inDomains(func(domain string) bool { return domain == r.e.Domain(a.Domain) })
	case selector.Below:
		return r.inDomains(func(domain string) bool { return r.isBelow(domain, a.Domain) })
	case selector.Where:
		return r.filtered(a.Filter)
	}
	// What is about the message is the same for everyone.
	if r.ask(group, a, Sender{ID: estate.None}, m) {
		return r.everyone()
	}
	return roaring.New()
}

// insiders returns those who are inside with such a message.
func (r *Resolver) insiders(m Message) *roaring.Bitmap {
	if m.Unproven {
		return roaring.New()
	}
	return r.matching("inside", func(set *roaring.Bitmap) {
		set.AddRange(0, uint64(r.e.Groups()))
		for i := range r.e.People() {
			if id := r.e.PersonID(i); r.e.Inside(id) {
				set.Add(uint32(id))
			}
		}
	})
}

// inDomains returns those whose domain, canonical in the estate, is wanted.
func (r *Resolver) inDomains(wanted func(domain string) bool) *roaring.Bitmap {
	numbers := map[uint32]bool{}
	for name, number := range r.e.DomainNames() {
		if wanted(name) {
			numbers[number] = true
		}
	}
	set := roaring.New()
	if len(numbers) > 0 {
		for id, number := range r.e.Domains() {
			if numbers[number] {
				set.Add(uint32(id))
			}
		}
	}
	return set
}

// matching returns a remembered set, filled the first time.
func (r *Resolver) matching(name string, fill func(*roaring.Bitmap)) *roaring.Bitmap {
	set, ok := r.matches[name]
	if !ok {
		set = roaring.New()
		fill(set)
		r.matches[name] = set
	}
	return set
}

// filtered returns the people that a filter matches.
func (r *Resolver) filtered(f selector.Filter) *roaring.Bitmap {
	return r.matching(f.String(), func(set *roaring.Bitmap) { set.Or(r.filterSet(f)) })
}

func (r *Resolver) filterSet(f selector.Filter) *roaring.Bitmap {
	set := roaring.New()
	switch f := f.(type) {
	case selector.FilterAnd:
		set.Or(r.filterSet(f[0]))
		for _, part := range f[1:] {
			set.And(r.filterSet(part))
		}
	case selector.FilterOr:
		for _, part := range f {
			set.Or(r.filterSet(part))
		}
	case selector.FilterNot:
		set.AddRange(uint64(r.e.Groups()), uint64(r.e.Groups()+r.e.People()))
		set.AndNot(r.filterSet(f.X))
	case *selector.Item:
		r.e.EachMatch(f, func(id estate.ID) { set.Add(uint32(id)) })
	}
	return set
}

// newcomers returns those whose membership in a group is younger than so many
// days.
func (r *Resolver) newcomers(group estate.ID, days int) *roaring.Bitmap {
	set, seen := roaring.New(), roaring.New()
	entries := r.e.Entries(group)
	for i := range entries {
		if id := uint32(entries[i].Member); !entries[i].Member.IsNobody() && seen.CheckedAdd(id) &&
			r.isNew(&entries[i], days) {
			set.Add(id)
		}
	}
	return set
}

// listed returns those who are owners or moderators by a list.
func (r *Resolver) listed(list []estate.Listed) *roaring.Bitmap {
	set := roaring.New()
	for _, l := range list {
		if l.ID.IsNobody() {
			continue
		}
		set.Add(uint32(l.ID))
		if r.e.IsGroup(l.ID) {
			set.Or(r.Members(l.ID))
		}
	}
	return set
}

// picks returns the people that a membership rule picks. The set is not to be changed.
func (r *Resolver) picks(rule estate.MemberRule) *roaring.Bitmap {
	insidePeople := r.matching("inside people", func(set *roaring.Bitmap) {
		set.Or(r.insiders(Message{}))
		set.RemoveRange(0, uint64(r.e.Groups()))
	})
	if rule.Filter == nil {
		return insidePeople
	}
	return roaring.And(insidePeople, r.filtered(rule.Filter))
}
