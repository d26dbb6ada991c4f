package directory

import (
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// addPerson adds a person, or what is said of them to that of an earlier source. It may
// be that their address is a group's.
func (m *merger) addPerson(p *Person) who {
	place := m.place(p.Line)
	keys, found := p.keys, who(0)
	if keys == nil {
		for _, text := range append([]string{p.Address}, p.Also...) {
			keys = append(keys, key(text))
		}
	}
	text := func(i int) string {
		if i == 0 {
			return p.Address
		}
		return p.Also[i-1]
	}
	for i, k := range keys {
		at := m.at[k]
		switch {
		case at.isGroup() && i == 0:
			m.conflict(p.Address, "this", "a group", m.groups[at.index()].place, "a person", place)
			return at
		case at.isGroup():
			g := &m.groups[at.index()]
			m.conflict(g.Address, "the address "+text(i), "its own", g.place, p.Address+"'s", place)
		case i > 0 || !at.isPerson():
		case p.Hinted || key(m.people[at.index()].address) == k:
			found = at
		case m.out.prefer[key(m.people[at.index()].address)]:
			other := &m.people[at.index()]
			m.conflict(p.Address, "this", "an alias of "+other.address, other.place, "a main address", place)
			return at
		default: // an alias of somebody else, who loses it
			other := &m.people[at.index()]
			other.also = lacking(other.also, []string{p.Address})
			m.conflictOfAlias(p.Address, "a main address", place, other.address, other.place)
			delete(m.at, k)
		}
	}
	if found == 0 {
		found = person(len(m.people))
		also := p.Also
		for i, k := range keys {
			at, taken := m.at[k]
			if taken {
				also = slices.DeleteFunc(slices.Clone(also), func(one string) bool { return one == text(i) })
			}
			if at.isPerson() {
				m.conflictOfPerson(text(i), at.index(), p.Address, place)
			}
		}
		m.people = append(
			m.people,
			mergedPerson{
				address:    p.Address,
				also:       also,
				name:       p.Name,
				mailbox:    p.Mailbox,
				attributes: p.Attributes,
				identity:   p.identity,
				hinted:     p.Hinted,
				place:      place,
			},
		)
		for _, k := range keys {
			if _, taken := m.at[k]; !taken {
				m.at[k] = found
			}
		}
		return found
	}
	m.remarkTwice(found.index(), p, place)
	m.mergePerson(found.index(), p, keys, place)
	return found
}

// remarkTwice remarks that a source has two entries with one address.
func (m *merger) remarkTwice(found int, p *Person, place estate.Place) {
	if old := m.people[found].place; old.File == place.File && !p.Hinted {
		m.out.Remarks = append(m.out.Remarks, Remark{Source: m.out.Files[place.File], Line: p.Line, Harm: true,
			Text: fmt.Sprintf("a second entry has the address of %s (%s); where they differ, the first counts",
				m.people[found].address, m.where(old))})
	}
}

// conflictOfPerson tells that an alias which somebody claims at a place is another person's.
func (m *merger) conflictOfPerson(alias string, of int, who string, place estate.Place) {
	other := &m.people[of]
	is := "an alias of " + other.address
	if key(other.address) == key(alias) {
		is = "a main address"
	}
	m.conflictOfAlias(alias, is, other.place, who, place)
}

// mergePerson adds to a person what another source, or another record, says.
func (m *merger) mergePerson(found int, p *Person, keys []string, place estate.Place) {
	old := &m.people[found]
	for i, text := range append([]string{p.Address}, p.Also...) {
		at, taken := m.at[keys[i]]
		switch {
		case !taken:
			m.at[keys[i]] = person(found)
			old.also = append(old.also, text)
			if i == 0 {
				m.conflict(old.address, "address", old.address, old.place, text, place)
			}
		case at.isPerson() && at.index() != found:
			m.conflictOfPerson(text, at.index(), old.address, place)
		}
	}
	fill := func(field string, to *string, text string) {
		switch {
		case text == "" || text == *to:
		case *to == "":
			*to = text
			old.note(field, place)
		default:
			m.conflict(old.address, field, fmt.Sprintf("%q", *to), old.where(field), fmt.Sprintf("%q", text), place)
		}
	}
	fill("name", &old.name, p.Name)
	fill("mailbox", &old.mailbox, p.Mailbox)
	m.mergeAttributes(old, p.Attributes, place)
}

// mergeAttributes adds to a person the attributes that another source says.
func (m *merger) mergeAttributes(old *mergedPerson, attributes []estate.Attribute, place estate.Place) {
	old.attributes = slices.Clip(old.attributes)
	names, values := estate.AttributesByName(attributes)
	for i, name := range names {
		field := "the attribute " + name
		has := attributeValues(old.attributes, name)
		switch {
		case len(has) == 0:
			for _, v := range values[i] {
				old.attributes = append(old.attributes, estate.Attribute{Name: name, Value: v})
			}
			old.note(field, place)
		case !slices.Equal(has, values[i]):
			taken, left := strings.Join(has, "; "), strings.Join(values[i], "; ")
			m.conflict(old.address, field, fmt.Sprintf("%q", taken), old.where(field), fmt.Sprintf("%q", left), place)
		}
	}
}

// note notes where a field was said first.
func (p *mergedPerson) note(field string, place estate.Place) {
	if p.said == nil {
		p.said = map[string]estate.Place{}
	}
	p.said[field] = place
}

// where returns where a field was said first.
func (p *mergedPerson) where(field string) estate.Place {
	if at, ok := p.said[field]; ok {
		return at
	}
	return p.place
}

func attributeValues(attributes []estate.Attribute, name string) []string {
	var list []string
	folded := selector.Fold(name)
	for _, f := range attributes {
		if selector.Fold(f.Name) == folded {
			list = append(list, f.Value)
		}
	}
	return list
}
