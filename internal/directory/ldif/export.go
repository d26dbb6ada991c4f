package ldif

import (
	"io"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
)

// An Export says how an estate is written.
type Export struct {
	Map  *directory.Map
	Base string                 // below which new entries are; "": made of the first domain
	IDs  *directory.Identifiers // names that entries have already; nil: none
	Made directory.Made         // names that what was written makes up, as the directory has none
}

// base returns the name below which entries are written.
func (x *Export) base(e *estate.Estate) string {
	if x.Base != "" {
		return x.Base
	}
	labels := strings.Split(e.Settings().Domains[0].Name, ".")
	return "dc=" + strings.Join(labels, ",dc=")
}

// name returns the name of the entry of a person or group.
func (x *Export) name(e *estate.Estate, id estate.ID) string {
	if dn, _, _, ok := x.IDs.Of(e, id); ok {
		return dn
	}
	name := "mail=" + Value(e.Address(id).String())
	switch {
	case e.IsGroup(id):
		name = "cn=" + Value(e.Address(id).String()) + ",ou=groups," + x.base(e)
	case e.Inside(id):
		name += ",ou=people," + x.base(e)
	default:
		name += ",ou=contacts," + x.base(e)
	}
	x.Made.Note(name)
	return name
}

// Carries says what LDIF holds by a map.
func (x *Export) Carries(e *estate.Estate) directory.Carries {
	g := x.group(0)
	return directory.Carries{
		Settings: []string{
			"title",
			"about",
			"managed-in",
		},
		Also:        len(g.Also) > 0,
		AlsoPeople:  true,
		AlsoOutside: true,
		Owners:      len(g.Owners) > 0,
		Moderators:  len(g.Moderators) > 0,
		Names:       true,
		Attributes:  func(name, _ string) bool { _, ok := x.Map.FieldOf(name); return ok },
		Rules:       func(rule estate.MemberRule) bool { _, ok := x.Map.RuleURL(e, "", rule); return ok && len(g.Rules) > 0 },
		Unnamed:     true,
		Controls:    true,
	}
}

// group returns the part of the map for a group.
func (x *Export) group(rule int) *directory.GroupsMap {
	if rule < len(x.Map.Groups) {
		return &x.Map.Groups[rule]
	}
	return &directory.GroupsMap{}
}

// attribute returns the first of some attributes that is no text to be filled in.
func attribute(names directory.Names) string {
	for _, name := range names {
		if !strings.Contains(name, "{") {
			return name
		}
	}
	return ""
}

// Write writes an estate as entries, those that others are below first.
func (x *Export) Write(w io.Writer, e *estate.Estate) error {
	out := NewWriter(w)
	base := x.base(e)
	for _, unit := range []string{"people", "contacts", "groups"} {
		out.Begin("ou=" + unit + "," + base)
		out.Attribute("objectClass", "organizationalUnit")
		out.Attribute("ou", unit)
	}
	for i := range e.People() {
		x.person(out, e, e.PersonID(i))
	}
	for g := range estate.ID(e.Groups()) {
		out.Begin(x.name(e, g))
		x.entry(out, e, g)
	}
	return out.Flush()
}

func (x *Export) person(out *Writer, e *estate.Estate, id estate.ID) {
	p := e.Person(id)
	m := &directory.PeopleMap{Address: directory.Names{"mail"}, Classes: []string{"inetOrgPerson"}}
	if len(x.Map.People) > 0 {
		m = &x.Map.People[0]
	}
	out.Begin(x.name(e, id))
	for _, class := range m.Classes {
		out.Attribute("objectClass", class)
	}
	name := p.Name
	if strings.TrimSpace(name) == "" {
		name = p.Address.String()
	}
	words := strings.Fields(name)
	out.Attribute("cn", name)
	out.Attribute("sn", words[len(words)-1])
	if to := attribute(m.Name); p.Name != "" && to != "" && !strings.EqualFold(to, "cn") {
		out.Attribute(to, p.Name)
	}
	out.Attribute(attribute(m.Address), p.Address.String())
	for _, a := range p.Also {
		out.Attribute(attribute(m.Address), a.String())
	}
	for _, f := range e.Attributes(id) {
		if to, ok := x.Map.FieldOf(f.Name); ok {
			out.Attribute(to, f.Value)
		}
	}
}

// entry writes the attributes of a group.
func (x *Export) entry(out *Writer, e *estate.Estate, g estate.ID) {
	group, m := e.Group(g), x.group(0)
	for _, class := range m.Classes {
		out.Attribute("objectClass", class)
	}
	out.Attribute("cn", group.Address.String())
	if to := attribute(m.Title); group.Title != "" && to != "" {
		out.Attribute(to, group.Title)
	}
	out.Attribute(attribute(m.Address), group.Address.String())
	if to := x.alsoAttribute(m); to != "" {
		for _, a := range group.Also {
			out.Attribute(to, a.String())
		}
	}
	if to := attribute(m.About); group.About != "" && to != "" {
		out.Attribute(to, group.About)
	}
	for _, listed := range []struct {
		maps []directory.ReferenceMap
		list []estate.Listed
	}{{m.Owners, group.Owners}, {m.Moderators, group.Moderators}} {
		for _, one := range listed.list {
			if value, ok := x.reference(e, one.ID, listed.maps); ok {
				out.Attribute(listed.maps[0].From, value)
			}
		}
	}
	x.members(out, e, g, m)
}

func (x *Export) members(out *Writer, e *estate.Estate, g estate.ID, m *directory.GroupsMap) {
	written := map[string]bool{}
	for _, entry := range e.Entries(g) {
		from := chosenMap(m.Members, entry.Copy())
		if value, ok := x.reference(e, entry.Member, m.Members); ok && !written[value] {
			written[value] = true
			out.Attribute(from.From, value)
		}
	}
	for _, rule := range e.Rules(g) {
		if url, ok := x.Map.RuleURL(e, x.base(e), rule); ok && len(m.Rules) > 0 {
			out.Attribute(attribute(m.Rules), url)
		}
	}
	if len(written) == 0 && needsMember(m) {
		// The schema wants a member; the group itself is none that counts.
		out.Attribute(m.Members[0].From, x.name(e, g))
	}
}

// alsoAttribute returns where the aliases of a group stand: in an attribute of their own,
// if the directory has it, and else beside the main address, as standard schemas allow.
func (x *Export) alsoAttribute(m *directory.GroupsMap) string {
	if attribute(m.Also) == "" {
		return ""
	}
	if x.IDs != nil && x.IDs.AlsoApart {
		return attribute(m.Also)
	}
	return attribute(m.Address)
}

// needsMember reports whether the schema of a group wants a member (RFC 4519,
// sections 3.5 and 3.6).
func needsMember(m *directory.GroupsMap) bool {
	return len(m.Members) > 0 && slices.ContainsFunc(m.Classes, func(class string) bool {
		return strings.EqualFold(class, "groupOfNames") || strings.EqualFold(class, "groupOfUniqueNames")
	})
}

// chosenMap returns the attribute for members with a copy: the one for that copy,
// or the first.
func chosenMap(maps []directory.ReferenceMap, copy estate.Copy) directory.ReferenceMap {
	for _, m := range maps {
		if m.FixedCopy() != "" && m.FixedCopy() == copy.String() {
			return m
		}
	}
	if len(maps) == 0 {
		return directory.ReferenceMap{}
	}
	return maps[0]
}

// reference returns how an attribute refers to somebody, if it can.
func (x *Export) reference(e *estate.Estate, id estate.ID, maps []directory.ReferenceMap) (string, bool) {
	if len(maps) == 0 || id.IsNobody() {
		return "", false
	}
	switch maps[0].By {
	case "address":
		return e.Address(id).String(), true
	case "key":
		_, key, _, ok := x.IDs.Of(e, id)
		return key, ok && key != ""
	}
	return x.name(e, id), true
}

// WriteDifference writes what has to be done in a directory as change records
// (RFC 2849). It returns what cannot be said so.
func (x *Export) WriteDifference(w io.Writer, d *directory.Difference) (losses []directory.Loss, err error) {
	out := NewWriter(w)
	c := &changes{Export: x, d: d, out: out}
	for i := range d.Groups {
		c.group(&d.Groups[i])
	}
	return c.losses, out.Flush()
}

type changes struct {
	*Export
	d      *directory.Difference
	out    *Writer
	losses []directory.Loss
	begun  bool // the record at hand
}

func (c *changes) lose(what, example string) {
	c.losses = append(c.losses, directory.Loss{What: what, Count: 1, Example: example})
}

func (c *changes) group(g *directory.GroupDifference) {
	switch {
	case g.Old == estate.None:
		c.out.Begin(c.name(c.d.New, g.New))
		c.out.Attribute("changetype", "add")
		c.entry(c.out, c.d.New, g.New)
		for _, loss := range directory.GroupLosses(c.d.New, g.New, c.Carries(c.d.New)) {
			c.losses = append(c.losses, loss)
		}
		return
	case g.New == estate.None:
		c.out.Begin(c.name(c.d.Old, g.Old))
		c.out.Attribute("changetype", "delete")
		return
	}
	now := c.d.New.Group(g.New)
	dn, _, rule, ok := c.IDs.Of(c.d.Old, g.Old)
	if !ok {
		dn, rule = c.name(c.d.Old, g.Old), 0
	}
	m := c.Export.group(rule)
	c.begun = false
	modify := func(kind, name string, values []string) {
		if len(values) == 0 && kind != "replace" {
			return
		}
		if !c.begun {
			c.begun = true
			c.out.Begin(dn)
			c.out.Attribute("changetype", "modify")
		}
		c.out.Attribute(kind, name)
		for _, v := range values {
			c.out.Attribute(name, v)
		}
		c.out.Line("-")
	}
	c.fields(g, m, modify)
	c.references(g, "owners", m.Owners, g.AddOwners, g.DropOwners, modify)
	c.references(g, "moderators", m.Moderators, g.AddMods, g.DropMods, modify)
	c.references(g, "members", m.Members, g.Add, g.Drop, modify)
	c.rules(g, m, modify)
	for _, name := range g.OtherChanges {
		c.lose(name, now.Address.String())
	}
	if len(g.Memberships) > 0 {
		c.lose("what members chose", now.Address.String())
	}
}

// fields replaces the addresses and texts of a group that differ.
func (c *changes) fields(
	g *directory.GroupDifference, m *directory.GroupsMap, modify func(kind, name string, values []string),
) {
	was, now := c.d.Old.Group(g.Old), c.d.New.Group(g.New)
	replace := func(field string, names directory.Names, values ...string) {
		if !slices.Contains(g.Fields, field) {
			return
		}
		to := attribute(names)
		if to == "" {
			c.lose(field, now.Address.String())
			return
		}
		modify("replace", to, values)
	}
	if c.alsoAttribute(m) == attribute(m.Address) {
		if slices.Contains(g.Fields, "address") || slices.Contains(g.Fields, "also") {
			values := []string{now.Address.String()}
			for _, a := range now.Also {
				values = append(values, a.String())
			}
			modify("replace", attribute(m.Address), values)
		}
	} else {
		replace("address", m.Address, now.Address.String())
		c.also(g, m, was, now, modify)
	}
	replace("title", m.Title, given(now.Title)...)
	replace("about", m.About, given(now.About)...)
}

func given(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

// also changes the further addresses of a group.
func (c *changes) also(
	g *directory.GroupDifference,
	m *directory.GroupsMap,
	was, now *estate.Group,
	modify func(kind, name string, values []string),
) {
	if !slices.Contains(g.Fields, "also") {
		return
	}
	to := attribute(m.Also)
	if to == "" {
		c.lose("aliases", now.Address.String())
		return
	}
	lacking := func(list, in []address.Address) []string {
		var out []string
		for _, a := range list {
			if !slices.ContainsFunc(in, func(b address.Address) bool { return a.Key() == b.Key() }) {
				out = append(out, a.String())
			}
		}
		return out
	}
	// What the directory never had cannot be taken out of it.
	there := slices.DeleteFunc(slices.Clone(was.Also), func(a address.Address) bool {
		return c.IDs != nil && !c.IDs.Has(a)
	})
	modify("add", to, lacking(now.Also, there))
	modify("delete", to, lacking(there, now.Also))
}

// references adds and drops values that refer to people and groups. What is
// added comes first, so that a group is never without a member in between.
func (c *changes) references(
	g *directory.GroupDifference,
	field string,
	maps []directory.ReferenceMap,
	add, drop []estate.ID,
	modify func(kind, name string, values []string),
) {
	if len(add)+len(drop) == 0 {
		return
	}
	group := c.d.New.Address(g.New).String()
	if len(maps) == 0 {
		c.lose(field, group)
		return
	}
	values := func(e *estate.Estate, list []estate.ID) []string {
		var out []string
		for _, id := range list {
			held := c.IDs.HeldBy(e, g.Old, id)
			if e == c.d.Old && maps[0].By != "key" && maps[0].By != "address" && len(held) > 0 {
				out = append(out, held...)
				continue
			}
			_, _, _, known := c.IDs.Of(e, id)
			value, ok := "", c.IDs == nil || known || c.comes(id, e)
			if ok {
				value, ok = c.reference(e, id, maps)
			}
			if !ok {
				c.lose(field[:len(field)-1]+" without an entry in the directory", e.Address(id).String()+" in "+group)
				continue
			}
			out = append(out, value)
		}
		return out
	}
	more, fewer := values(c.d.New, add), values(c.d.Old, drop)
	if field == "members" && len(fewer) > 0 && len(more) == 0 && len(c.d.New.Entries(g.New)) == 0 && len(maps) > 0 &&
		maps[0].By != "key" {
		more = []string{c.name(c.d.Old, g.Old)} // the schema wants a member
	}
	modify("add", maps[0].From, more)
	modify("delete", maps[0].From, fewer)
}

// comes reports whether somebody is a group that is added by this change.
func (c *changes) comes(id estate.ID, e *estate.Estate) bool {
	return slices.ContainsFunc(c.d.Groups, func(g directory.GroupDifference) bool {
		return e == c.d.New && g.Old == estate.None && g.New == id
	})
}

// rules replaces the rules of a group, if they differ: in the directory they may
// be written in another way.
func (c *changes) rules(
	g *directory.GroupDifference,
	m *directory.GroupsMap,
	modify func(kind, name string, values []string),
) {
	if len(g.AddRules)+len(g.DropRules) == 0 {
		return
	}
	var urls []string
	for _, rule := range c.d.New.Rules(g.New) {
		url, ok := c.Map.RuleURL(c.d.New, c.base(c.d.New), rule)
		if !ok || len(m.Rules) == 0 {
			c.lose("rules for members", c.d.New.Address(g.New).String())
			return
		}
		urls = append(urls, url)
	}
	modify("replace", attribute(m.Rules), urls)
}
