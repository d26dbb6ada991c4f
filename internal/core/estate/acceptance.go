package estate

import (
	"errors"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

// An Acceptance is a hazard that is intended. It stands in a group, for that one, or in
// the estate, for several.
type Acceptance struct {
	Hazard  string // its name
	Address string // who it concerns, * for anything; "" for all
	Because string // the reason
	Until   Day    // the last day on which it holds, or no date
	Place   Place

	// Of those that stand in the estate: the groups, by patterns of their addresses in which *
	// stands for anything, and by a filter of RFC 4515 over their settings. Without either it
	// is for all groups, and for the edge.
	Groups []string
	Filter selector.Filter
}

// Holds reports whether an acceptance has not ended on a day.
func (a *Acceptance) Holds(today Day) bool { return a.Until == 0 || today <= a.Until }

// IsFor reports whether an acceptance is for a group, or for the edge (None).
func (a *Acceptance) IsFor(e *Estate, group ID) bool {
	if len(a.Groups) == 0 && a.Filter == nil {
		return true
	}
	if group == None {
		return false
	}
	g := e.Group(group)
	if len(a.Groups) > 0 && !slices.ContainsFunc(a.Groups, func(pattern string) bool {
		return MatchStars(pattern, g.Address.String()) ||
			slices.ContainsFunc(g.Also, func(also address.Address) bool { return MatchStars(pattern, also.String()) })
	}) {
		return false
	}
	return a.Filter == nil || selector.MatchFilter(a.Filter, func(item *selector.Item) bool {
		return slices.ContainsFunc(e.GroupValues(group, item.Attribute), item.Matches)
	})
}

// CheckAcceptFilter returns what a filter of an acceptance asks that is no setting, address or
// attribute of a group, but an answer about it: what is accepted cannot depend on those.
func CheckAcceptFilter(f selector.Filter) error {
	var err error
	selector.Items(f, func(item *selector.Item) {
		if _, setting := GroupSetting(item.Attribute); !setting && slices.Contains(AnswerNames(), item.Attribute) {
			err = errors.New(quote(item.Attribute) +
				" is an answer, expected settings, address or attributes of groups in a filter of accept")
		}
	})
	return err
}

// String returns an acceptance in words.
func (a Acceptance) String() string {
	var b strings.Builder
	b.WriteString(a.Hazard)
	if len(a.Groups) > 0 {
		b.WriteString(" of " + strings.Join(a.Groups, ", "))
	}
	if a.Filter != nil {
		b.WriteString(" where " + a.Filter.String())
	}
	if a.Address != "" {
		b.WriteString(" " + a.Address)
	}
	b.WriteString(" because " + a.Because)
	if a.Until != 0 {
		b.WriteString(" until " + a.Until.String())
	}
	return b.String()
}

// MatchStars reports whether a text is as a pattern in which each * stands for anything, without
// case.
func MatchStars(pattern, text string) bool {
	parts := strings.Split(strings.ToLower(pattern), "*")
	text = strings.ToLower(text)
	if len(parts) == 1 {
		return parts[0] == text
	}
	last := len(parts) - 1
	if !strings.HasPrefix(text, parts[0]) {
		return false
	}
	text = text[len(parts[0]):]
	for _, part := range parts[1:last] {
		_, rest, found := strings.Cut(text, part)
		if !found {
			return false
		}
		text = rest
	}
	return strings.HasSuffix(text, parts[last])
}

// GroupValues returns what a group has for a name in a filter, which is in lower case: a
// setting, with its default where the group says nothing, any of its addresses, or an
// attribute.
func (e *Estate) GroupValues(id ID, name string) []string {
	g := e.Group(id)
	switch name {
	case "address":
		return allAddresses(g.Address, g.Also)
	case "owners":
		return e.listedValues(g.Owners)
	case "moderators":
		return e.listedValues(g.Moderators)
	case "replies-to":
		if g.RepliesToAt.IsValid() {
			return e.addressValues(g.RepliesToAt)
		}
	case "joiners":
		if g.Joiners == CopyUnset {
			name = "copy"
		}
	}
	if setting, ok := GroupSetting(name); ok && setting.Form != FormAttributes {
		return setting.Holds(e, g)
	}
	var values []string
	for _, attribute := range g.Attributes {
		if selector.Fold(attribute.Name) == name {
			values = append(values, attribute.Value)
		}
	}
	return values
}

// listedValues returns all addresses of the owners or moderators of a group.
func (e *Estate) listedValues(list []Listed) []string {
	var values []string
	for _, one := range list {
		values = append(values, e.addressValues(e.Address(one.ID))...)
	}
	return values
}

// addressValues returns an address, and all others of the one who has it.
func (e *Estate) addressValues(a address.Address) []string {
	id, ok := e.Find(a)
	switch {
	case !ok:
		return []string{a.String()}
	case e.IsGroup(id):
		return allAddresses(e.Address(id), e.Group(id).Also)
	}
	return allAddresses(e.Address(id), e.Person(id).Also)
}

func allAddresses(main address.Address, also []address.Address) []string {
	list := []string{main.String()}
	for _, a := range also {
		list = append(list, a.String())
	}
	return list
}
