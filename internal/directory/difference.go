package directory

import (
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// A Difference is what has to be done in a system so that the groups that are
// managed there become what an estate says.
type Difference struct {
	Old, New *estate.Estate
	Groups   []GroupDifference
	Refused  []Refusal
}

// A GroupDifference is what differs of one group.
type GroupDifference struct {
	Old, New     estate.ID // None where it comes or goes
	Fields       []string  // that differ: address, also, title, about, owners, moderators, members
	Add, Drop    []estate.ID
	AddOwners    []estate.ID // IDs as Add: of the new estate
	DropOwners   []estate.ID // IDs as Drop: of the old one
	AddMods      []estate.ID
	DropMods     []estate.ID
	AddRules     []estate.MemberRule
	DropRules    []estate.MemberRule
	OtherChanges []string    // settings that differ, and which directories do not hold
	Memberships  []estate.ID // members of both whose membership says something else: of the new estate
}

// A Refusal is a group that differs, and is managed elsewhere.
type Refusal struct {
	Group  string `json:"group"`
	System string `json:"system"` // where it is managed; "" for nowhere
}

// String says what to do instead.
func (r Refusal) String() string {
	if r.System == "" {
		return r.Group + ": the estate does not say where it is managed (managed-in)"
	}
	return r.Group + ": managed in " + r.System + ", change it there"
}

// Differ compares two estates as for the groups that are managed in a system.
func Differ(older, newer *estate.Estate, system string) *Difference {
	d := &Difference{Old: older, New: newer}
	met := map[estate.ID]bool{}
	for g := range estate.ID(newer.Groups()) {
		old := counterpart(older, newer.Group(g))
		if old != estate.None {
			met[old] = true
		}
		d.consider(d.compare(old, g), newer.Group(g), system)
	}
	for g := range estate.ID(older.Groups()) {
		if !met[g] {
			d.consider(GroupDifference{Old: g, New: estate.None, Fields: []string{"address"}}, older.Group(g), system)
		}
	}
	// What comes is there before others refer to it, and what goes is last.
	turn := func(g GroupDifference) int {
		switch {
		case g.Old == estate.None:
			return 0
		case g.New == estate.None:
			return 2
		}
		return 1
	}
	slices.SortStableFunc(d.Groups, func(a, b GroupDifference) int { return turn(a) - turn(b) })
	return d
}

// consider takes a difference, or refuses it.
func (d *Difference) consider(one GroupDifference, g *estate.Group, system string) {
	switch {
	case len(one.Fields)+len(one.OtherChanges)+len(one.Memberships) == 0:
	case g.ManagedIn == system:
		d.Groups = append(d.Groups, one)
	case len(one.Fields) > 0:
		d.Refused = append(d.Refused, Refusal{g.Address.String(), g.ManagedIn})
	}
}

// counterpart returns the group of an estate that shares an address with one of
// another estate: the main one, or else any.
func counterpart(e *estate.Estate, g *estate.Group) estate.ID {
	for _, a := range append([]address.Address{g.Address}, g.Also...) {
		if id, ok := e.Exact(a); ok && e.IsGroup(id) {
			return id
		}
	}
	return estate.None
}

func (d *Difference) compare(old, g estate.ID) GroupDifference {
	one := GroupDifference{Old: old, New: g}
	now := d.New.Group(g)
	if old == estate.None {
		one.Fields = []string{"address"}
		return one
	}
	was := d.Old.Group(old)
	note := func(name string, differs bool) {
		if differs {
			one.Fields = append(one.Fields, name)
		}
	}
	note("address", was.Address.Key() != now.Address.Key())
	note("also", !sameAddresses(was.Also, now.Also))
	note("title", was.Title != now.Title)
	note("about", was.About != now.About)
	one.AddOwners, one.DropOwners = d.lists(ids(was.Owners), ids(now.Owners))
	note("owners", len(one.AddOwners)+len(one.DropOwners) > 0)
	one.AddMods, one.DropMods = d.lists(ids(was.Moderators), ids(now.Moderators))
	note("moderators", len(one.AddMods)+len(one.DropMods) > 0)
	one.Add, one.Drop = d.lists(members(d.Old, old), members(d.New, g))
	one.AddRules, one.DropRules = lackingRules(
		d.New.Rules(g),
		d.Old.Rules(old),
	), lackingRules(
		d.Old.Rules(old),
		d.New.Rules(g),
	)
	note("members", len(one.Add)+len(one.Drop)+len(one.AddRules)+len(one.DropRules) > 0)
	one.Memberships = d.otherwise(old, g)
	for setting := range estate.GroupSettings() {
		if setting.Form == estate.FormAccess && setting.Text(was) != setting.Text(now) {
			one.OtherChanges = append(one.OtherChanges, setting.Name)
		}
	}
	before, later := Settings(was), Settings(now)
	for _, f := range slices.Concat(before, later) {
		x, _ := fieldOf(before, f.Name)
		y, _ := fieldOf(later, f.Name)
		if f.Name != "title" && f.Name != "about" && !slices.Contains(one.OtherChanges, f.Name) &&
			(x.Text != y.Text || !slices.Equal(x.List, y.List)) {
			one.OtherChanges = append(one.OtherChanges, f.Name)
		}
	}
	return one
}

// otherwise returns the members of both groups whose membership says something else.
func (d *Difference) otherwise(old, g estate.ID) (list []estate.ID) {
	was := map[string]estate.Membership{}
	for _, entry := range d.Old.Entries(old) {
		if key := d.identity(d.Old, entry.Member); was[key] == (estate.Membership{}) {
			was[key] = entry.Membership()
		}
	}
	seen := map[string]bool{}
	for _, entry := range d.New.Entries(g) {
		key := d.identity(d.New, entry.Member)
		before, had := was[key]
		if had && !seen[key] && before != entry.Membership() {
			list = append(list, entry.Member)
		}
		seen[key] = true
	}
	return list
}

func sameAddresses(a, b []address.Address) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(x address.Address) bool {
		return !slices.ContainsFunc(b, func(y address.Address) bool { return x.Key() == y.Key() })
	})
}

func ids(list []estate.Listed) []estate.ID {
	var out []estate.ID
	for _, one := range list {
		out = append(out, one.ID)
	}
	return out
}

func members(e *estate.Estate, g estate.ID) []estate.ID {
	var out []estate.ID
	for _, entry := range e.Entries(g) {
		out = append(out, entry.Member)
	}
	return out
}

// lists returns what of a list of the new estate is not in one of the old, and
// the other way round.
func (d *Difference) lists(was, now []estate.ID) (add, drop []estate.ID) {
	had, has := map[string]bool{}, map[string]bool{}
	for _, id := range was {
		had[d.identity(d.Old, id)] = true
	}
	for _, id := range now {
		key := d.identity(d.New, id)
		if has[key] {
			continue
		}
		if has[key] = true; !had[key] {
			add = append(add, id)
		}
	}
	gone := map[string]bool{}
	for _, id := range was {
		if key := d.identity(d.Old, id); !has[key] && !gone[key] {
			gone[key] = true
			drop = append(drop, id)
		}
	}
	return add, drop
}

// identity returns what somebody is recognised by in both estates: the main
// address that the new one has for them.
func (d *Difference) identity(e *estate.Estate, id estate.ID) string {
	a := e.Address(id)
	if e == d.Old {
		if now, ok := d.New.Exact(a); ok {
			return d.New.Address(now).Key()
		}
	}
	return a.Key()
}

func lackingRules(list, in []estate.MemberRule) []estate.MemberRule {
	text := func(r estate.MemberRule) string {
		if r.Filter == nil {
			return ""
		}
		return r.Filter.String()
	}
	return slices.DeleteFunc(slices.Clone(list), func(r estate.MemberRule) bool {
		return slices.ContainsFunc(in, func(other estate.MemberRule) bool { return text(other) == text(r) })
	})
}

// Identifiers say how the people and groups of an estate are called in a source.
type Identifiers struct {
	byAddress map[string][]identifier
	held      map[string]map[string]bool // by address of a group: the identifiers that it names
	// AlsoApart is set where the source has aliases in an attribute of their own.
	AlsoApart bool
	// AddressAt is the path of the attribute in which the source has the address of a group.
	AddressAt string
}

type identifier struct {
	id, key string
	rule    int // of a group: the part of the map for it
}

// IdentifiersOf returns the identifiers that a source has. Of several entries with one
// address the first counts.
func IdentifiersOf(d *Directory) *Identifiers {
	x := &Identifiers{map[string][]identifier{}, map[string]map[string]bool{}, d.AlsoApart, d.AddressAt}
	add := func(text string, one identifier) { x.byAddress[key(text)] = append(x.byAddress[key(text)], one) }
	for _, p := range d.People {
		for _, text := range append([]string{p.Address}, p.Also...) {
			add(text, identifier{p.ID, p.key, 0})
		}
	}
	for _, g := range d.Groups {
		for _, text := range append([]string{g.Address}, g.Also...) {
			add(text, identifier{g.ID, "", g.Rule})
			x.held[key(text)] = g.held
		}
	}
	return x
}

// HeldBy returns the identifiers by which a group of the source names somebody: the one or
// more that stand in it, where several entries have their address.
func (x *Identifiers) HeldBy(e *estate.Estate, group, id estate.ID) []string {
	if x == nil {
		return nil
	}
	held := map[string]bool{}
	for _, a := range addressesOf(e, group) {
		for name := range x.held[a.Key()] {
			held[name] = true
		}
	}
	var list []string
	for _, a := range addressesOf(e, id) {
		for _, one := range x.byAddress[a.Key()] {
			if held[strings.ToLower(one.id)] && !slices.Contains(list, one.id) {
				list = append(list, one.id)
			}
		}
	}
	return list
}

// Made are identifiers that were made up, as no source has given one.
type Made struct{ seen map[string]bool }

// Note notes one.
func (m *Made) Note(name string) {
	if m.seen == nil {
		m.seen = map[string]bool{}
	}
	m.seen[name] = true
}

// Count returns how many there are, and the first of them in order.
func (m *Made) Count() (n int, example string) {
	if len(m.seen) == 0 {
		return 0, ""
	}
	return len(m.seen), slices.Min(slices.Collect(maps.Keys(m.seen)))
}

// Has reports whether the source has an address.
func (x *Identifiers) Has(a address.Address) bool { return len(x.byAddress[a.Key()]) > 0 }

// addressesOf returns all addresses of somebody.
func addressesOf(e *estate.Estate, id estate.ID) []address.Address {
	addresses := []address.Address{e.Address(id)}
	switch {
	case id.IsNobody():
	case e.IsGroup(id):
		addresses = append(addresses, e.Group(id).Also...)
	default:
		addresses = append(addresses, e.Person(id).Also...)
	}
	return addresses
}

// Of returns the identifier of somebody, and the key, by any of their addresses.
// rule is the part of the map for a group.
func (x *Identifiers) Of(e *estate.Estate, id estate.ID) (name, key string, rule int, ok bool) {
	if x == nil {
		return "", "", 0, false
	}
	for _, a := range addressesOf(e, id) {
		for _, found := range x.byAddress[a.Key()] {
			if found.id != "" {
				return found.id, found.key, found.rule, true
			}
		}
	}
	return "", "", 0, false
}
