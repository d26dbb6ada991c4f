package estatefile

import (
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
)

// ListSettings and OneSettings are the names of the settings of a group whose
// value is a list and is one text.
func ListSettings() []string { return settingsOf(func(s shape) bool { return s == manyTexts }) }

// OneSettings is described at ListSettings.
func OneSettings() []string { return settingsOf(func(s shape) bool { return s != manyTexts }) }

func settingsOf(wanted func(shape) bool) []string {
	var names []string
	for _, f := range groupFields {
		if wanted(f.shape) {
			names = append(names, f.name)
		}
	}
	return names
}

// A Field is a setting of a group or person and what it is to be. Without List
// and Text it goes. A List that is empty but not nil stays, as an empty list.
type Field struct {
	Name string
	Text string
	List []string

	isNumber bool // Text may be written as a number: that of a fact
}

// A Member is an entry of a group as it is to be written: an address, or a rule.
type Member struct {
	Address  string
	Where    string // a filter (RFC 4515)
	Everyone bool
	estate.Membership
	// JustNow says that Since is nothing that was asked for: in a table without a
	// column for it it is left out, rather than all rows be written anew.
	JustNow bool
}

// A NewGroup is a group to be written.
type NewGroup struct {
	Fields  []Field // the address first
	Access  []Field
	Members []Member
	Place   estate.Place // where it comes from, if it is in Content
}

// A NewPerson is a person to be written.
type NewPerson struct {
	Fields []Field // the address first
	Facts  []estate.Fact
	Place  estate.Place // where they come from, if they are in Content
}

// groupOrder is the order in which the keys of a group are written.
var groupOrder = func() []string {
	var order []string
	for _, f := range groupFields {
		order = append(order, f.name)
		if f.name == "moderators" {
			order = append(order, "members")
		}
	}
	return append(order, "access", "accept")
}()

// value returns a field as a value, or nil where it goes.
func (f Field) value() *value {
	if f.List != nil {
		return &value{list: f.List}
	}
	if f.Text == "" {
		return nil
	}
	v := &value{text: f.Text, raw: f.isNumber}
	for _, known := range groupFields {
		if known.name == f.Name {
			v.raw = v.raw || known.shape == oneBool || known.shape == oneNumber
		}
	}
	return v
}

// cell returns a field as a cell of a table.
func (f Field) cell() string {
	if f.List != nil {
		return joinCell(f.List)
	}
	return f.Text
}

// entry returns a member as an item of a list.
func (m Member) entry() value {
	options := membershipPairs(m.Membership)
	switch {
	case m.Everyone:
		return value{pairs: append([]pair{{"everyone", value{text: "true", raw: true}}}, options...)}
	case m.Where != "":
		return value{pairs: append([]pair{{"where", value{text: m.Where}}}, options...)}
	case len(options) == 0:
		return value{text: m.Address}
	}
	return value{pairs: append([]pair{{"address", value{text: m.Address}}}, options...)}
}

// membershipPairs returns what a membership says, as keys and values.
func membershipPairs(m estate.Membership) []pair {
	var pairs []pair
	for _, f := range membershipTexts(m) {
		if f.Text != "" {
			pairs = append(pairs, pair{f.Name, value{text: f.Text, raw: f.Name == "paused"}})
		}
	}
	return pairs
}

// membershipTexts returns what a membership says, in the order of the columns.
func membershipTexts(m estate.Membership) []Field {
	paused := ""
	if m.Paused {
		paused = "true"
	}
	return []Field{{Name: "copy", Text: m.Copy.String()}, {Name: "since", Text: m.Since.String()},
		{Name: "invitations", Text: m.Invitations.String()}, {Name: "paused", Text: paused}}
}

// SetGroup sets fields of a group.
func (d *Draft) SetGroup(g estate.ID, fields ...Field) {
	place := d.before.Group(g).Place
	if d.isTable(place) {
		t := d.table(d.names[place.File])
		for _, f := range fields {
			t.set(t.record(place), f.Name, f.cell())
		}
		return
	}
	t, mapping := d.mappingAt(place)
	for _, f := range fields {
		d.key(t, mapping, f.Name, f.value(), groupOrder)
	}
}

// SetAccess sets who may do something with a group.
func (d *Draft) SetAccess(g estate.ID, fields ...Field) {
	place := d.before.Group(g).Place
	if d.isTable(place) {
		for _, f := range fields {
			d.SetGroup(g, Field{Name: "access." + f.Name, Text: f.Text})
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
		left := len(inner.Content) / 2
		for _, f := range fields {
			if key, _ := lookup(inner, f.Name); f.value() == nil && key != nil {
				left--
			} else if f.value() != nil && key == nil {
				left++
			}
		}
		if left == 0 || len(inner.Content) == 0 {
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

// SetList takes texts that stand at places out of a list of a group, such as
// also, owners or moderators, and adds others.
func (d *Draft) SetList(g estate.ID, name string, drop []string, add []string) {
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
	items := slices.DeleteFunc(SplitList(t.get(t.record(place), name)), func(item string) bool { return containsFold(drop, item) })
	t.set(t.record(place), name, joinCell(append(items, add...)))
}

func containsFold(list []string, text string) bool {
	return slices.ContainsFunc(list, func(s string) bool { return strings.EqualFold(s, text) })
}

// changeTexts changes a list of texts at a key of a mapping.
func (d *Draft) changeTexts(t *yamlText, mapping *yaml.Node, name string, drop, add []string, order []string) {
	c := d.list(t, mapping, name, order)
	if _, list := lookup(mapping, name); list != nil {
		for _, item := range list.Content {
			if containsFold(drop, item.Value) {
				c.drop[item] = true
			}
		}
	}
	for _, text := range add {
		c.add = append(c.add, value{text: text})
	}
}

// DropMember takes the entry of a group out that stands at a place: of a named
// member, or of a rule.
func (d *Draft) DropMember(g estate.ID, p estate.Place) {
	if d.isTable(p) {
		d.dropRow(g, p)
		return
	}
	t := d.yamlFile(d.names[p.File])
	element, list := t.around(p)
	if element == nil || t.parents[list] == nil {
		t.fail(&yaml.Node{Line: int(p.Line), Column: int(p.Column)}, "this member cannot be found again; change it by hand")
		return
	}
	mapping := t.parents[list]
	name := "members"
	if mapping == t.root {
		name = "memberships"
	}
	d.list(t, mapping, name, groupOrder).drop[element] = true
}

// dropRow takes out a member that stands in a table: of memberships, or in a cell
// of the table of groups.
func (d *Draft) dropRow(g estate.ID, p estate.Place) {
	t := d.table(d.names[p.File])
	if slices.Contains(t.header, "group") {
		t.dropped[t.record(p)] = true
		return
	}
	for _, e := range d.before.Entries(g) {
		if e.Place == p {
			d.setCellList(t, p, "members", []string{d.before.Address(e.Member).String()}, nil)
			return
		}
	}
	d.fail(&Errors{List: []*Error{{File: t.name, Line: int(p.Line), Column: int(p.Column), Text: "a rule in a table is changed by hand"}}})
}

// SetMember changes what the entry at a place says besides its member.
func (d *Draft) SetMember(g estate.ID, p estate.Place, was, m estate.Membership) {
	if d.isTable(p) {
		d.setRow(g, p, m)
		return
	}
	t := d.yamlFile(d.names[p.File])
	n := t.at(p)
	if n == nil {
		d.mappingAt(p)
		return
	}
	if n.Kind == yaml.ScalarNode && t.parents[n].Kind == yaml.SequenceNode {
		v := Member{Address: n.Value, Membership: m}.entry()
		d.list(t, t.parents[t.parents[n]], "members", groupOrder).replace[n] = v
		return
	}
	_, mapping := d.mappingAt(p)
	before := membershipTexts(was)
	for i, f := range membershipTexts(m) {
		if f.Text != before[i].Text {
			d.key(t, mapping, f.Name, memberValue(f), entryFields)
		}
	}
}

func memberValue(f Field) *value {
	if f.Text == "" {
		return nil
	}
	return &value{text: f.Text, raw: f.Name == "paused"}
}

func (d *Draft) setRow(g estate.ID, p estate.Place, m estate.Membership) {
	t := d.table(d.names[p.File])
	if !slices.Contains(t.header, "group") {
		// A cell of the table of groups has no room for it.
		for _, e := range d.before.Entries(g) {
			if e.Place == p {
				d.dropRow(g, p)
				d.AddMember(g, Member{Address: d.before.Address(e.Member).String(), Membership: m})
			}
		}
		return
	}
	for _, f := range membershipTexts(m) {
		t.set(t.record(p), f.Name, f.Text)
	}
}

// AddMember adds an entry to a group, where its other members stand.
func (d *Draft) AddMember(g estate.ID, m Member) {
	place := d.before.Group(g).Place
	entries := d.before.Entries(g)
	isPlain := m.Where == "" && !m.Everyone
	if isPlain && len(entries) > 0 {
		last := entries[len(entries)-1].Place
		if d.isTable(last) {
			if t := d.table(d.names[last.File]); slices.Contains(t.header, "group") {
				t.addMembership(d.before.Group(g).Address.String(), m)
				return
			}
		}
	}
	if !d.isTable(place) {
		t, mapping := d.mappingAt(place)
		c := d.list(t, mapping, "members", groupOrder)
		c.add = append(c.add, m.entry())
		return
	}
	if isPlain {
		d.addMembership(d.before.Group(g).Address.String(), m)
		return
	}
	text := "everyone"
	if m.Where != "" {
		text = "where " + m.Where
	}
	d.setCellList(d.table(d.names[place.File]), place, "members", nil, []string{text})
}

// addMembership adds a membership to a table of such.
func (t *rowText) addMembership(group string, m Member) {
	row := map[string]string{"group": group, "address": m.Address}
	for _, f := range membershipTexts(m.Membership) {
		if f.Name != "since" || !m.JustNow || slices.Contains(t.header, "since") {
			row[f.Name] = f.Text
		}
	}
	t.add(row)
}

// addMembership adds a membership that names its group, to the table or list of
// such.
func (d *Draft) addMembership(group string, m Member) {
	t, section := d.section("memberships")
	if section != nil && section.Kind == yaml.MappingNode {
		d.tableOf(t, section).addMembership(group, m)
		return
	}
	pairs := append([]pair{{"group", value{text: group}}, {"address", value{text: m.Address}}}, membershipPairs(m.Membership)...)
	c := d.list(t, t.root, "memberships", topFields)
	c.add = append(c.add, value{pairs: pairs})
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

// AddGroup adds a group, behind those that are there.
func (d *Draft) AddGroup(g NewGroup) {
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
	slices.SortStableFunc(fields, func(a, b Field) int { return slices.Index(groupOrder, a.Name) - slices.Index(groupOrder, b.Name) })
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

// RemoveGroup takes a group out, and the memberships that name it. Where other
// groups list it, it stays listed.
func (d *Draft) RemoveGroup(g estate.ID) {
	place := d.before.Group(g).Place
	d.dropItem(place, "groups")
	for _, e := range d.before.Entries(g) {
		if d.standsAlone(e.Place) {
			d.DropMember(g, e.Place)
		}
	}
}

// standsAlone reports whether an entry stands in a list or table of memberships,
// rather than in its group.
func (d *Draft) standsAlone(p estate.Place) bool {
	if d.isTable(p) {
		return slices.Contains(d.table(d.names[p.File]).header, "group")
	}
	t := d.yamlFile(d.names[p.File])
	_, list := t.around(p)
	return list != nil && t.parents[list] == t.root
}

// RenameMemberships writes another address of a group into the memberships that
// name it.
func (d *Draft) RenameMemberships(g estate.ID, address string) {
	for _, e := range d.before.Entries(g) {
		if !d.standsAlone(e.Place) {
			continue
		}
		if d.isTable(e.Place) {
			t := d.table(d.names[e.Place.File])
			t.set(t.record(e.Place), "group", address)
			continue
		}
		t, mapping := d.mappingAt(e.Place)
		d.key(t, mapping, "group", &value{text: address}, membershipFields)
	}
}

// SetAddress writes another address where one stands: that of a member, owner or
// moderator.
func (d *Draft) SetAddress(g estate.ID, p estate.Place, role, was, address string) {
	if d.isTable(p) {
		t := d.table(d.names[p.File])
		switch {
		case slices.Contains(t.header, "group"):
			t.set(t.record(p), "address", address)
		default:
			d.setCellList(t, p, role, []string{was}, []string{address})
		}
		return
	}
	t := d.yamlFile(d.names[p.File])
	n := t.at(p)
	if n == nil || n.Kind != yaml.ScalarNode {
		d.mappingAt(p)
		return
	}
	if !t.shared(n) {
		t.replace(t.start(n), t.end(n), t.styleIn(t.parents[n]).scalar(address))
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

// AddPerson adds a person, behind those that are there.
func (d *Draft) AddPerson(p NewPerson) {
	t, section := d.section("people")
	names, values := joinFacts(p.Facts)
	if section != nil && section.Kind == yaml.MappingNode {
		row := map[string]string{}
		for _, f := range p.Fields {
			if !f.isOpenMailbox() {
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

// joinFacts returns the attributes of facts in their order, and the values of
// each.
func joinFacts(facts []estate.Fact) (names []string, values [][]string) {
	for _, f := range facts {
		i := slices.Index(names, f.Attribute)
		if i < 0 {
			i = len(names)
			names, values = append(names, f.Attribute), append(values, nil)
		}
		values[i] = append(values[i], f.Value)
	}
	return names, values
}

func factFields(names []string, values [][]string) []Field {
	var fields []Field
	for i, name := range names {
		if len(values[i]) == 1 {
			fields = append(fields, factField(Field{Name: name, Text: values[i][0]}))
		} else {
			fields = append(fields, Field{Name: name, List: values[i]})
		}
	}
	return fields
}

// plainNumber is a number that stands without quotes in YAML and JSON alike.
var plainNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?$`)

// factField returns a field that is a fact: a number stands without quotes.
func factField(f Field) Field {
	f.isNumber = plainNumber.MatchString(f.Text)
	return f
}

// SetPerson sets fields of a person, and facts by their attributes.
func (d *Draft) SetPerson(person estate.ID, fields, facts []Field) {
	place := d.before.Person(person).Place
	if d.isTable(place) {
		t := d.table(d.names[place.File])
		for _, f := range slices.Concat(fields, facts) {
			t.set(t.record(place), f.Name, f.cell())
		}
		return
	}
	t, mapping := d.mappingAt(place)
	for _, f := range fields {
		d.key(t, mapping, f.Name, f.value(), personFields)
	}
	if len(facts) > 0 {
		facts = slices.Clone(facts)
		for i := range facts {
			facts[i] = factField(facts[i])
		}
		d.setWithin(t, mapping, "facts", facts, personFields)
	}
}

// RemovePerson takes a person out. Where groups list them, they stay listed.
func (d *Draft) RemovePerson(person estate.ID) {
	d.dropItem(d.before.Person(person).Place, "people")
}

// AddDomain adds a domain to those of the estate.
func (d *Draft) AddDomain(name string) {
	t, _ := d.section("domains")
	c := d.list(t, t.root, "domains", topFields)
	c.add = append(c.add, value{text: name})
}
