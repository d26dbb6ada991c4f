package estatefile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// actionOf returns the action of a setting access.ACTION, and whether it is one.
func actionOf(setting string) (string, bool) { return strings.CutPrefix(setting, "access.") }

// A Field is a setting of a group or person and what it is to be. Without List
// and Text it goes. A List that is empty but not nil stays, as an empty list.
type Field struct {
	Name string
	Text string
	List []string

	isNumber bool // Text may be written as a number: that of an attribute
}

// A NewGroup is a group to be written.
type NewGroup struct {
	Fields  []Field // the address first
	Access  []Field
	Members []Member
	Place   estate.Place // where it comes from, if it is in Content
}

// groupOrder is the order in which the keys of a group are written.
var groupOrder = func() []string {
	var order []string
	for _, f := range groupFields {
		order = append(order, f.Name)
		if f.Name == "moderators" {
			order = append(order, "members")
		}
	}
	return append(order, "access", "accept")
}()

// value returns a field as a value, or nil where it goes.
func (f Field) value() *value {
	if f.Name == attributesKey {
		return f.attributes()
	}
	if f.List != nil {
		return &value{list: f.List}
	}
	if f.Text == "" {
		return nil
	}
	v := &value{text: f.Text, raw: f.isNumber}
	for _, known := range groupFields {
		if known.Name == f.Name {
			v.raw = v.raw || known.Form == estate.FormFlag || known.Form == estate.FormNumber
		}
	}
	return v
}

// attributesKey is the key of a mapping of attributes.
const attributesKey = "attributes"

// attributes returns a list of NAME: VALUE as a mapping, or nil if there are none.
func (f Field) attributes() *value {
	var list []estate.Attribute
	for _, text := range f.List {
		if one, err := estate.ParseAttribute(text); err == nil {
			list = append(list, one)
		}
	}
	return pairsOf(attributeFields(estate.AttributesByName(list)))
}

// cell returns a field as a cell of a table.
func (f Field) cell() string {
	if f.List != nil {
		return joinCell(f.List)
	}
	return f.Text
}

// setGroup sets fields of a group.
func (d *Draft) setGroup(g estate.ID, fields ...Field) {
	place := d.before.Group(g).Place
	if d.isTable(place) {
		d.setCells(place, fields)
		return
	}
	t, mapping := d.mappingAt(place)
	for _, f := range fields {
		d.key(t, mapping, f.Name, f.value(), groupOrder)
	}
}

// setAccess sets who may do something with a group.
func (d *Draft) setAccess(g estate.ID, fields ...Field) {
	place := d.before.Group(g).Place
	if d.isTable(place) {
		for _, f := range fields {
			d.setGroup(g, Field{Name: "access." + f.Name, Text: f.Text})
		}
		return
	}
	t, mapping := d.mappingAt(place)
	d.setWithin(t, mapping, "access", fields, groupOrder)
}

// setWithin sets keys of a mapping that stands at a key of another.
func (d *Draft) setWithin(t *yamlText, mapping *yaml.Node, name string, fields []Field, order []string) {
	_, inner := lookup(mapping, name)
	if inner != nil && inner.Kind == yaml.MappingNode {
		kept := len(inner.Content) / 2
		for _, f := range fields {
			if key, _ := lookup(inner, f.Name); f.value() == nil && key != nil {
				kept--
			}
		}
		if kept == 0 {
			d.key(t, mapping, name, pairsOf(fields), order)
			return
		}
		for _, f := range fields {
			d.key(t, inner, f.Name, f.value(), nil)
		}
		return
	}
	if v := pairsOf(fields); v != nil {
		d.key(t, mapping, name, v, order)
	}
}

func pairsOf(fields []Field) *value {
	var v value
	for _, f := range fields {
		if one := f.value(); one != nil {
			v.pairs = append(v.pairs, pair{f.Name, *one})
		}
	}
	if v.pairs == nil {
		return nil
	}
	return &v
}

// mappingAt returns the file that a place is in, and the mapping that begins
// there or whose address stands there.
func (d *Draft) mappingAt(p estate.Place) (*yamlText, *yaml.Node) {
	t := d.yamlFile(d.names[p.File])
	n := t.at(p)
	if n != nil && n.Kind == yaml.ScalarNode {
		n = t.parents[n]
	}
	if n == nil || n.Kind != yaml.MappingNode {
		t.fail(&yaml.Node{Line: int(p.Line), Column: int(p.Column)}, "this cannot be found again; change it by hand")
		n = t.root
	}
	return t, n
}

// setList takes texts that stand at places out of a list of a group, such as
// also, owners or moderators, and adds others.
func (d *Draft) setList(g estate.ID, name string, drop []string, add []string) {
	if len(drop)+len(add) == 0 {
		return
	}
	place := d.before.Group(g).Place
	if d.isTable(place) {
		d.setCellList(d.table(d.names[place.File]), place, name, drop, add)
		return
	}
	t, mapping := d.mappingAt(place)
	d.changeTexts(t, mapping, name, drop, add, groupOrder)
}

func (d *Draft) setCellList(t *rowText, place estate.Place, name string, drop, add []string) {
	items := slices.DeleteFunc(
		SplitList(t.get(t.record(place), name)),
		func(item string) bool { return holdsAddress(drop, item) },
	)
	t.set(t.record(place), name, joinCell(append(items, add...)))
}

func holdsAddress(list []string, text string) bool {
	return slices.ContainsFunc(list, func(s string) bool { return address.Same(s, text) })
}

// changeTexts changes a list of texts at a key of a mapping.
func (d *Draft) changeTexts(t *yamlText, mapping *yaml.Node, name string, drop, add []string, order []string) {
	c := d.list(t, mapping, name, order)
	if _, list := lookup(mapping, name); list != nil {
		for _, item := range list.Content {
			if holdsAddress(drop, item.Value) {
				c.drop[item] = true
			}
		}
	}
	for _, text := range add {
		c.add = append(c.add, value{text: text})
	}
}

// section returns the file and the node of the last section of a name that is a
// list, or else a table. Without any it is the first file, and nil.
func (d *Draft) section(name string) (*yamlText, *yaml.Node) {
	text, node := d.yamlFile(d.main[0]), (*yaml.Node)(nil)
	for _, file := range d.main {
		t := d.yamlFile(file)
		_, n := lookup(t.root, name)
		if n != nil && (node == nil || n.Kind == yaml.SequenceNode || node.Kind == yaml.MappingNode) {
			text, node = t, n
		}
	}
	return text, node
}

// tableOf returns the table that a section names.
func (d *Draft) tableOf(t *yamlText, section *yaml.Node) *rowText {
	_, path := lookup(section, "table")
	return d.table(beside(t.name, path.Value))
}

// addGroup adds a group, behind those that are there.
func (d *Draft) addGroup(g NewGroup) {
	t, section := d.section("groups")
	if section != nil && section.Kind == yaml.MappingNode {
		row := map[string]string{}
		for _, f := range g.Fields {
			row[f.Name] = f.cell()
		}
		for _, f := range g.Access {
			row["access."+f.Name] = f.Text
		}
		var rules []string
		for _, m := range g.Members {
			switch {
			case m.Where != "":
				rules = append(rules, "where "+m.Where)
			case m.Everyone:
				rules = append(rules, "everyone")
			default:
				d.addMembership(g.Fields[0].Text, m)
			}
		}
		row["members"] = joinCell(rules)
		d.tableOf(t, section).add(row)
		return
	}
	c := d.list(t, t.root, "groups", topFields)
	c.add = append(c.add, g.value())
}

// value returns a group as an item of a list.
func (g NewGroup) value() value {
	v := value{block: true}
	fields := slices.Clone(g.Fields)
	slices.SortStableFunc(
		fields,
		func(a, b Field) int { return slices.Index(groupOrder, a.Name) - slices.Index(groupOrder, b.Name) },
	)
	members := func() {
		if len(g.Members) > 0 {
			list := value{}
			for _, m := range g.Members {
				list.items = append(list.items, m.entry())
			}
			v.pairs = append(v.pairs, pair{"members", list})
		}
	}
	done := false
	for _, f := range fields {
		if !done && slices.Index(groupOrder, f.Name) > slices.Index(groupOrder, "members") {
			members()
			done = true
		}
		if one := f.value(); one != nil {
			v.pairs = append(v.pairs, pair{f.Name, *one})
		}
	}
	if !done {
		members()
	}
	if access := pairsOf(g.Access); access != nil {
		v.pairs = append(v.pairs, pair{"access", *access})
	}
	return v
}

// removeGroup takes a group out, and the memberships that name it. Where other
// groups list it, it stays listed.
func (d *Draft) removeGroup(g estate.ID) {
	place := d.before.Group(g).Place
	d.dropItem(place, "groups")
	for _, e := range d.before.Entries(g) {
		if d.standsAlone(e.Place) {
			d.dropMember(g, e.Place)
		}
	}
}

// dropItem takes the person or group out that stands at a place.
func (d *Draft) dropItem(p estate.Place, section string) {
	if d.isTable(p) {
		t := d.table(d.names[p.File])
		t.dropped[t.record(p)] = true
		return
	}
	t, mapping := d.mappingAt(p)
	d.list(t, t.root, section, topFields).drop[mapping] = true
}

// addDomain adds a domain to those of the estate.
func (d *Draft) addDomain(name string) {
	t, _ := d.section("domains")
	c := d.list(t, t.root, "domains", topFields)
	c.add = append(c.add, value{text: name})
}
