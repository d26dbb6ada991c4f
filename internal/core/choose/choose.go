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

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/nearest"
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

// Unknown returns the first name in a filter that is neither a setting nor a column of the matrix
// nor an attribute of any group, with what it may have meant; "" if all are known.
func Unknown(e *estate.Estate, f selector.Filter) (name, meant string) {
	known := estate.AnswerNames()
	for setting := range estate.GroupSettings() {
		known = append(known, setting.Name)
	}
	for id := range estate.ID(e.Groups()) {
		for _, attribute := range e.Group(id).Attributes {
			if folded := selector.Fold(attribute.Name); !slices.Contains(known, folded) {
				known = append(known, folded)
			}
		}
	}
	selector.Items(f, func(item *selector.Item) {
		if name == "" && !slices.Contains(known, item.Attribute) {
			name, meant = item.Attribute, nearest.Word(item.Attribute, known)
		}
	})
	return name, meant
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
	if _, setting := estate.GroupSetting(name); !setting && slices.Contains(estate.AnswerNames(), name) {
		return c.answer(id, name)
	}
	return c.e.GroupValues(id, name)
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
	if outcome, ok := estate.WordIndex[resolve.Outcome](resolve.OutcomeWords(), name); ok {
		return o.Receives[outcome]
	}
	return o.Hazards
}
