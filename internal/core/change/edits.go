package change

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Edits are the difference between an estate and what changes make of it, group by group and person by person. The
// editor of files works from them, whatever the changes were.
type Edits struct {
	Groups   []GroupEdit      // in the order of the estate before, then new ones
	People   []PersonEdit     // likewise
	Settings *estate.Settings // of the estate as they will be; nil: as before
}

// A GroupEdit is the difference of one group.
type GroupEdit struct {
	ID      estate.ID // of the estate before; None: it is new
	Gone    bool
	Address address.Address // as it will be
	Place   estate.Place    // where a new one comes from
	Said    []Said          // the settings that differ, with all their texts; nil: the default holds again
	Members []MemberEdit
}

// A MemberEdit is an entry or a rule of a group that is new, goes or says something else.
type MemberEdit struct {
	At   int // index into Entries of the group, or of a rule into Rules; -1: it is new
	Gone bool
	Member
}

// A PersonEdit is the difference of one person.
type PersonEdit struct {
	ID         estate.ID // of the estate before; None: they are new
	Gone       bool
	Person     *estate.Person // as they will be, without attributes
	Said       []Said         // the settings that differ; without texts: nothing is said
	Also       bool           // the further addresses are others
	Attributes []Said         // attributes with other values; without texts: they go
}

// EditsOf returns the difference that changes make to an estate. They all speak of e. An error says which of them
// cannot be.
func EditsOf(e *estate.Estate, changes ...Change) (*Edits, error) {
	w := &work{e: e, groups: map[estate.ID]*group{}, people: map[estate.ID]*person{}}
	for _, c := range changes {
		if err := c.apply(w); err != nil {
			return nil, err
		}
	}
	edits := &Edits{Settings: w.settings}
	for id := range estate.ID(e.Groups()) {
		if g, ok := w.groups[id]; ok {
			edits.Groups = append(edits.Groups, w.groupEdit(id, g))
		}
	}
	for _, g := range w.newGroups {
		edits.Groups = append(edits.Groups, w.groupEdit(estate.None, g))
	}
	for i := range e.People() {
		if p, ok := w.people[e.PersonID(i)]; ok {
			edits.People = append(edits.People, w.personEdit(e.PersonID(i), p))
		}
	}
	for _, p := range w.newPeople {
		edits.People = append(edits.People, w.personEdit(estate.None, p))
	}
	return edits, nil
}

func (w *work) groupEdit(id estate.ID, g *group) GroupEdit {
	edit := GroupEdit{ID: id, Gone: g.gone, Address: g.Address, Place: g.Place}
	before := &group{}
	if id != estate.None {
		before = (&work{e: w.e, groups: map[estate.ID]*group{}}).group(id)
	}
	for s := range estate.GroupSettings() {
		was, is := w.said(s, before), w.said(s, g)
		if s.Form != estate.FormAddress && ((was == nil) != (is == nil) || !slices.Equal(was, is)) {
			edit.Said = append(edit.Said, Said{s.Name, is})
		}
	}
	var turns []int // of edit.Members
	for at, one := range g.entries {
		m := MemberEdit{At: at, Gone: one.gone, Member: Member{Address: one.address, Membership: one.Membership, JustNow: one.justNow}}
		if at >= len(before.entries) {
			m.At = -1
		} else if m.Membership == before.entries[at].Membership && !one.gone {
			continue
		}
		edit.Members, turns = append(edit.Members, m), append(turns, one.turn)
	}
	for at, one := range g.rules {
		m := MemberEdit{At: at, Gone: one.gone, Member: Member{Filter: one.Filter, Membership: one.Membership}}
		if at >= len(before.rules) {
			m.At = -1
		} else if old := before.rules[at]; m.Membership == old.Membership && textOf(old.Filter) == textOf(one.Filter) && !one.gone {
			continue
		}
		// What is new stands in the order in which it came.
		i := len(turns)
		for m.At < 0 && i > 0 && turns[i-1] > one.turn {
			i--
		}
		edit.Members, turns = slices.Insert(edit.Members, i, m), slices.Insert(turns, i, one.turn)
	}
	return edit
}

// said returns what a group says of a setting: nil where it says nothing.
func (w *work) said(s *estate.Setting, g *group) []string {
	if s.Form != estate.FormParties {
		return s.Said(w.e, &g.Group)
	}
	var texts []string
	for _, one := range *g.list(s.Name) {
		texts = append(texts, w.now(one).String())
	}
	if texts == nil && s.Said(w.e, &g.Group) != nil {
		texts = []string{}
	}
	return texts
}

func (w *work) personEdit(id estate.ID, p *person) PersonEdit {
	edit := PersonEdit{ID: id, Gone: p.gone, Person: &p.Person}
	var before person
	if id != estate.None {
		before = person{Person: *w.e.Person(id), attributes: w.e.Attributes(id)}
	}
	for _, s := range estate.PersonSettings() {
		if text := s.Text(p.Person); text != s.Text(before.Person) {
			edit.Said = append(edit.Said, Said{s.Name, textsOf(text)})
		}
	}
	edit.Also = !slices.EqualFunc(before.Also, p.Also, func(x, y address.Address) bool { return x.Key() == y.Key() })
	names, values := estate.AttributesByName(p.attributes)
	oldNames, oldValues := estate.AttributesByName(before.attributes)
	for _, name := range oldNames {
		if !slices.ContainsFunc(names, func(other string) bool { return strings.EqualFold(name, other) }) {
			edit.Attributes = append(edit.Attributes, Said{name, nil})
		}
	}
	for i, name := range names {
		at := slices.IndexFunc(oldNames, func(other string) bool { return strings.EqualFold(name, other) })
		if at < 0 || !slices.Equal(values[i], oldValues[at]) {
			edit.Attributes = append(edit.Attributes, Said{name, values[i]})
		}
	}
	return edit
}

// textOf returns a filter as it is written; "" for everyone.
func textOf(f selector.Filter) string {
	if f == nil {
		return ""
	}
	return f.String()
}

func textsOf(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}
