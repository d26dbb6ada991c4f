package effect

import (
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// A Cause is one thing that is written otherwise in the new estate.
type Cause struct {
	Kind  CauseKind
	Group address.Address // whose membership or setting it is; not valid for others
	Who   string          // the member, person or group, or the rule that picks members
	What  string          // the setting, where it is one
	Place estate.Place
	InOld bool // Place is in the old estate: what stood there is gone
}

// A CauseKind says what is written otherwise.
type CauseKind uint8

// The kinds of causes.
const (
	Joined    CauseKind = iota // a membership that was not there
	Left                       // a membership that is gone
	Otherwise                  // a membership that says something else
	Set                        // a setting of a group
	SaidOf                     // something about a person
	Came                       // a person or group that was not there
	Went                       // a person or group that is gone
	Renamed                    // a person or group by another main address
	General                    // a setting of the estate
)

// mostCauses is up to how many differences are listed.
const mostCauses = 10

// causes returns what is written otherwise, or nil where that is more than a few things.
func (c *comparison) causes(unchanged []bool) []Cause {
	var list []Cause
	full := func() bool { return len(list) > mostCauses }
	for _, s := range c.report.Estate {
		list = append(list, Cause{Kind: General, What: s.Name})
	}
	for _, p := range []struct {
		parties Parties
	}{{c.report.Groups}, {c.report.People}} {
		for _, id := range p.parties.Added {
			list = append(list, Cause{Kind: Came, Who: c.b.Address(id).String(), Place: placeOf(c.b, id)})
		}
		for _, id := range p.parties.Removed {
			list = append(list, Cause{Kind: Went, Who: c.a.Address(id).String(), Place: placeOf(c.a, id), InOld: true})
		}
		for _, pair := range p.parties.Renamed {
			list = append(list, Cause{Kind: Renamed, Who: c.b.Address(pair.New).String(), Place: placeOf(c.b, pair.New)})
		}
	}
	for _, p := range c.report.Persons {
		for _, s := range p.Settings {
			list = append(list, Cause{Kind: SaidOf, Who: c.b.Address(p.Person.New).String(), What: s.Name, Place: placeOf(c.b,
				p.Person.New)})
		}
	}
	for id := range estate.ID(c.b.Groups()) {
		if full() {
			return nil
		}
		if old := c.toOld[id]; old != estate.None && (unchanged == nil || !unchanged[id]) {
			list = append(list, c.written(old, id)...)
		}
	}
	if full() {
		return nil
	}
	return list
}

// written returns what a group says otherwise.
func (c *comparison) written(old, id estate.ID) []Cause {
	was, is := c.a.Group(old), c.b.Group(id)
	var list []Cause
	for setting := range estate.GroupSettings() {
		before, later := setting.Texts(c.a, was), setting.Texts(c.b, is)
		switch setting.Form {
		case estate.FormAddress:
			continue // it is renamed
		case estate.FormParties:
			before = c.partyTexts(was, setting.Name)
		}
		if !slices.Equal(before, later) || (before == nil) != (later == nil) {
			cause := Cause{Kind: Set, Group: is.Address, What: setting.Name, Place: is.Where(setting.Name)}
			if cause.Place == (estate.Place{}) {
				cause.Place, cause.InOld = was.Where(setting.Name), true
			}
			list = append(list, cause)
		}
	}
	if before, later := acceptances(was), acceptances(is); !slices.Equal(before, later) {
		list = append(list, Cause{Kind: Set, Group: is.Address, What: "accept", Place: is.Place})
	}
	return append(list, c.memberCauses(old, id)...)
}

// memberCauses returns what memberships of a group are written otherwise.
func (c *comparison) memberCauses(old, id estate.ID) []Cause {
	group := c.b.Address(id)
	var list []Cause
	before, later := c.unlike(c.a.Entries(old), c.b.Entries(id))
	type entry struct {
		membership estate.Membership
		place      estate.Place
	}
	was := map[string][]entry{}
	for _, e := range before {
		name := c.nameLater(e.Member)
		was[name] = append(was[name], entry{e.Membership(), e.Place})
	}
	for _, e := range later {
		name := c.b.Address(e.Member).String()
		earlier := was[name]
		switch {
		case len(earlier) == 0:
			list = append(list, Cause{Kind: Joined, Group: group, Who: name, Place: e.Place})
			continue
		case earlier[0].membership != e.Membership():
			list = append(list, Cause{Kind: Otherwise, Group: group, Who: name, Place: e.Place})
		}
		was[name] = earlier[1:]
	}
	for _, e := range before {
		name := c.nameLater(e.Member)
		if rest := was[name]; len(rest) > 0 {
			was[name] = rest[1:]
			list = append(list, Cause{Kind: Left, Group: group, Who: name, Place: rest[0].place, InOld: true})
		}
	}
	if len(before)+len(later) > 0 && len(list) == 0 {
		list = append(list, Cause{Kind: Set, Group: group, What: "the order of members", Place: c.b.Group(id).Place})
	}
	return append(list, c.ruleCauses(old, id)...)
}

func (c *comparison) ruleCauses(old, id estate.ID) []Cause {
	group := c.b.Address(id)
	var list []Cause
	texts := func(rules []estate.MemberRule) (list []string) {
		for _, rule := range rules {
			list = append(list, ruleText(rule))
		}
		return list
	}
	was, is := texts(c.a.Rules(old)), texts(c.b.Rules(id))
	for i, text := range is {
		if !slices.Contains(was, text) {
			list = append(list, Cause{Kind: Joined, Group: group, Who: text, Place: c.b.Rules(id)[i].Place})
		}
	}
	for i, text := range was {
		if !slices.Contains(is, text) {
			list = append(list, Cause{Kind: Left, Group: group, Who: text, Place: c.a.Rules(old)[i].Place, InOld: true})
		}
	}
	return list
}

func placeOf(e *estate.Estate, id estate.ID) estate.Place {
	if e.IsGroup(id) {
		return e.Group(id).Place
	}
	return e.Person(id).Place
}
