// Package choose picks groups by filters of RFC 4515 over what they say of themselves and
// over answers about them.
//
// A filter asks for settings by their names (with the default where a group says nothing),
// for address (any of the group's), for attributes, and for the columns of the matrix:
// outside, inside and forged are verdicts, hazard is the name of any that the group has,
// the others are numbers.
package choose

import (
	"slices"
	"strconv"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// Groups returns the groups that a filter matches, in the order of the estate.
func Groups(r *resolve.Resolver, f selector.Filter) []estate.ID {
	c := &chooser{r: r, e: r.Estate(), overviews: map[estate.ID]hazard.Overview{}}
	selector.Items(f, func(item *selector.Item) {
		if item.Attribute == "hazards" || item.Attribute == "hazard" {
			c.hazards = true
		}
	})
	if c.hazards {
		for id, o := range hazard.Overviews(r) {
			c.overviews[estate.ID(id)] = o
		}
	}
	var list []estate.ID
	for id := range estate.ID(c.e.Groups()) {
		if c.matches(id, f) {
			list = append(list, id)
		}
	}
	return list
}

// chooser looks at the groups of one estate.
type chooser struct {
	r         *resolve.Resolver
	e         *estate.Estate
	hazards   bool // they are asked for
	overviews map[estate.ID]hazard.Overview
}

func (c *chooser) matches(id estate.ID, f selector.Filter) bool {
	return selector.MatchFilter(f, func(item *selector.Item) bool {
		return slices.ContainsFunc(c.values(id, item.Attribute), item.Matches)
	})
}

// values returns what a group has for a name, which is in lower case.
func (c *chooser) values(id estate.ID, name string) []string {
	g := c.e.Group(id)
	switch name {
	case "address":
		return texts(g.Address, g.Also)
	case "owners":
		return c.listed(g.Owners)
	case "moderators":
		return c.listed(g.Moderators)
	case "replies-to":
		if g.RepliesToAt.IsValid() {
			return c.addressesOf(g.RepliesToAt)
		}
	case "joiners":
		if g.Joiners == estate.CopyUnset {
			name = "copy"
		}
	}
	if setting, ok := estate.GroupSetting(name); ok && setting.Form != estate.FormAttributes {
		return setting.Holds(c.e, g)
	}
	if slices.Contains(estate.AnswerNames(), name) {
		return c.answer(id, name)
	}
	var values []string
	for _, attribute := range g.Attributes {
		if selector.Fold(attribute.Name) == name {
			values = append(values, attribute.Value)
		}
	}
	return values
}

// listed returns all addresses of the owners or moderators of a group.
func (c *chooser) listed(list []estate.Listed) []string {
	var values []string
	for _, one := range list {
		values = append(values, c.addressesOf(c.e.Address(one.ID))...)
	}
	return values
}

// addressesOf returns an address, and all others of whoever has it.
func (c *chooser) addressesOf(a address.Address) []string {
	id, ok := c.e.Find(a)
	switch {
	case !ok:
		return []string{a.String()}
	case c.e.IsGroup(id):
		return texts(c.e.Address(id), c.e.Group(id).Also)
	}
	return texts(c.e.Address(id), c.e.Person(id).Also)
}

func texts(main address.Address, also []address.Address) []string {
	list := []string{main.String()}
	for _, a := range also {
		list = append(list, a.String())
	}
	return list
}

// answer returns what the matrix says of a group.
func (c *chooser) answer(id estate.ID, name string) []string {
	o, known := c.overviews[id]
	if !known {
		o.Overview = c.r.Overview(id)
		c.overviews[id] = o
	}
	switch name {
	case "outside":
		return []string{o.Outside.String()}
	case "inside":
		return []string{o.Inside.String()}
	case "forged":
		return []string{o.Forged.String()}
	case "hazard":
		return o.Names
	}
	return []string{strconv.Itoa(Number(&o, name))}
}

// Number returns a count that the matrix has of a group, by the name of its column.
func Number(o *hazard.Overview, name string) int {
	switch name {
	case "post":
		return o.Posters[estate.Admit]
	case "held":
		return o.Posters[estate.Hold]
	case "refused":
		return o.Posters[estate.Refuse] + o.Posters[estate.Drop]
	case "get":
		return o.Receives[resolve.Inbox] + o.Receives[resolve.Digest] + o.Receives[resolve.Archive]
	case "miss":
		return o.Receives[resolve.Nothing] + o.Receives[resolve.Undeliverable]
	case "invited":
		return o.Invited
	case "sends-as":
		return o.SendsAs
	case "approvers":
		return o.Approves
	}
	return o.Hazards
}
