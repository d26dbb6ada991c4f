package estatefile

import (
	"regexp"
	"slices"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
)

// A NewPerson is a person to be written.
type NewPerson struct {
	Fields     []Field // the address first
	Attributes []estate.Attribute
	Place      estate.Place // where they come from, if they are in Content
}

// addPerson adds a person, behind those that are there.
func (d *Draft) addPerson(p NewPerson) {
	t, section := d.section("people")
	names, values := estate.AttributesByName(p.Attributes)
	if section != nil && section.Kind == yaml.MappingNode {
		row := map[string]string{}
		for _, f := range p.Fields {
			if !f.isDefault() {
				row[f.Name] = f.cell()
			}
		}
		for i, name := range names {
			row[name] = joinCell(values[i])
		}
		d.tableOf(t, section).add(row)
		return
	}
	v := p.value()
	c := d.list(t, t.root, "people", topFields)
	c.add = append(c.add, v)
}

func attributeFields(names []string, values [][]string) []Field {
	var fields []Field
	for i, name := range names {
		if len(values[i]) == 1 {
			fields = append(fields, attributeField(Field{Name: name, Text: values[i][0]}))
		} else {
			fields = append(fields, Field{Name: name, List: values[i]})
		}
	}
	return fields
}

// plainNumber is a number that stands without quotes in YAML and JSON alike.
var plainNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?$`)

// attributeField returns a field that is an attribute: a number stands without quotes.
func attributeField(f Field) Field {
	f.isNumber = plainNumber.MatchString(f.Text)
	return f
}

// setPerson sets fields of a person.
func (d *Draft) setPerson(person estate.ID, fields ...Field) {
	place := d.before.Person(person).Place
	if d.isTable(place) {
		d.setCells(place, fields)
		return
	}
	t, mapping := d.mappingAt(place)
	for _, f := range fields {
		if f.List != nil && len(f.List) == 0 {
			f.List = nil // an empty list of a person is written as none
		}
		d.keys = slices.DeleteFunc(d.keys, func(k pendingKey) bool { return k.mapping == mapping && k.name == f.Name })
		d.key(t, mapping, f.Name, f.value(), personFields)
	}
}

// setAttributes sets attributes of a person.
func (d *Draft) setAttributes(person estate.ID, attributes ...Field) {
	place := d.before.Person(person).Place
	if d.isTable(place) {
		d.setCells(place, attributes)
		return
	}
	t, mapping := d.mappingAt(place)
	d.setWithin(t, mapping, "attributes", attributes, personFields)
}

// setCells sets fields in a row of a table.
func (d *Draft) setCells(place estate.Place, fields []Field) {
	t := d.table(d.names[place.File])
	for _, f := range fields {
		t.set(t.record(place), f.Name, f.cell())
	}
}
