package estatefile

import (
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
)

// readGroupTable reads groups from a table.
func (l *loader) readGroupTable(t *table) {
	var known []string
	for _, field := range groupFields {
		known = append(known, field.Name)
	}
	known = append(known, "members")
	for _, action := range actionWords {
		known = append(known, "access."+action)
	}
	columns, ok := t.readHeader("groups", known, []string{"address"}, false)
	if !ok {
		return
	}
	for t.read() {
		if !t.validText() {
			continue
		}
		var s groupSpec
		for _, field := range groupFields {
			column := columns[field.Name]
			if column < 0 || t.text(column) == "" {
				continue
			}
			s.give(field, t.place(column))
			if !field.Form.IsList() {
				field.set(l, &s, t.cell(column))
				continue
			}
			for _, it := range t.cells(column) {
				field.set(l, &s, it)
			}
		}
		if column := columns["members"]; column >= 0 {
			for _, it := range t.cells(column) {
				s.addMemberText(l, it)
			}
		}
		for i, action := range actionWords {
			if column := columns["access."+action]; column >= 0 && t.text(column) != "" {
				s.setAccess(l, estate.Action(i), t.cell(column))
			}
		}
		s.finish(l, t.place(0))
	}
}

// addMemberText adds a member of a table's cell: an address, everyone, or where
// and a filter.
func (s *groupSpec) addMemberText(l *loader, it item) {
	filter, isRule := strings.CutPrefix(it.text, "where ")
	if it.text != "everyone" && !isRule {
		if a, ok := l.parseAddress(it.text, it.place); ok {
			s.relations = append(s.relations, relation{role: "member", address: a, place: it.place})
		}
		return
	}
	rule := estate.MemberRule{Place: it.place}
	if isRule {
		var ok bool
		if rule.Filter, ok = l.parseFilter(filter, it); !ok {
			return
		}
	}
	s.relations = append(s.relations, relation{role: "member", rule: &rule, place: it.place})
}

// readPeopleTable reads people from a table. Columns that are not a field of a
// person are attributes.
func (l *loader) readPeopleTable(t *table) {
	columns, ok := t.readHeader("people", personColumns(), []string{"address"}, true)
	if !ok {
		return
	}
	attributes := make([]string, len(t.header)) // names by column, "" for a field
	for i, name := range t.header {
		if _, isField := columns[name]; isField {
			continue
		}
		if name == "attributes" {
			t.fail(i, "a table has no column attributes, expected a column for each attribute")
			return
		}
		if !l.checkAttributeName(name, t.place(i)) {
			return
		}
		attributes[i] = name
	}
	var s personSpec
	for t.read() {
		if t.validText() {
			s = personSpec{attributes: s.attributes[:0]}
			l.readPersonRow(t, &s, columns, attributes)
		}
	}
}

func (l *loader) readPersonRow(t *table, s *personSpec, columns map[string]int, attributes []string) {
	given := func(name string) (int, bool) {
		column := columns[name]
		return column, column >= 0 && t.text(column) != ""
	}
	if column, ok := given("address"); ok {
		s.setAddress(l, t.cell(column))
	}
	settings := estate.PersonSettings()
	for i := range settings {
		if column, ok := given(settings[i].Name); ok {
			s.set(l, &settings[i], t.cell(column))
		}
	}
	if column, ok := given("also"); ok {
		for _, it := range t.cells(column) {
			s.addAlso(l, it)
		}
	}
	for i := range t.row.cells {
		value := t.text(i)
		name := attributes[i]
		switch {
		case name == "" || value == "":
		case strings.IndexByte(value, ';') < 0:
			s.attributes = append(s.attributes, estate.Attribute{Name: name, Value: value})
		default:
			for _, it := range t.cells(i) {
				s.attributes = append(s.attributes, estate.Attribute{Name: name, Value: it.text})
			}
		}
	}
	if s.person.Place == (estate.Place{}) {
		s.finish(l, t.place(0))
	} else {
		s.finish(l, s.person.Place)
	}
}

// readMembershipTable reads memberships from a table. There may be millions: a
// row that names its group and member as the estate does is not parsed again.
func (l *loader) readMembershipTable(t *table) {
	columns, ok := t.readHeader("memberships", membershipFields, []string{"group", "address"}, false)
	if !ok {
		return
	}
	group, member := columns["group"], columns["address"]
	options := t.options(columns)
	named := []int{group, member}
	t.batch.find(named, l.b.FindAll)
	t.findAhead(named, l.b.FindAll)
	for t.read() {
		id, place := t.row.ids[0], t.row.cells[member].place
		if id == estate.None || !l.b.IsGroup(id) {
			var ok bool
			if id, ok = l.findGroup(t.cell(group)); !ok {
				continue
			}
		}
		listed := t.row.ids[1]
		if listed == estate.None {
			place = t.place(member)
			a, ok := l.parseAddress(strings.Clone(t.text(member)), place)
			if !ok {
				continue
			}
			listed = l.b.Refer(a, id, "member", place)
		}
		l.b.AddEntry(id, listed, t.membership(options), place)
	}
}

// option is a column of a table of memberships apart from group and address.
type option struct {
	estate.PartSetting[estate.Membership]
	column int
}

// options returns the options that the table has columns for.
func (t *table) options(columns map[string]int) []option {
	var list []option
	for _, s := range estate.MembershipSettings() {
		if columns[s.Name] >= 0 {
			list = append(list, option{s, columns[s.Name]})
		}
	}
	return list
}

// membership reads the options of a row.
func (t *table) membership(options []option) estate.Membership {
	var m estate.Membership
	for _, o := range options {
		if text := t.text(o.column); text != "" {
			if err := o.Set(&m, text); err != nil {
				t.l.failValue(err, o.Name, item{text, t.place(o.column)})
			}
		}
	}
	return m
}
