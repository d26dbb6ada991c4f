package estatefile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Member is an entry of a group as it is to be written: an address, or a rule.
type Member struct {
	Address  string
	Where    string // a filter (RFC 4515)
	Everyone bool
	estate.Membership
	// JustNow says that Since is nothing that was asked for: in a table without a
	// column for it it is left out, rather than all rows be written again.
	JustNow bool
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
	var fields []Field
	for _, s := range estate.MembershipSettings() {
		fields = append(fields, Field{Name: s.Name, Text: s.Text(m)})
	}
	return fields
}

// dropMember takes the entry of a group out that stands at a place: of a named
// member, or of a rule.
func (d *Draft) dropMember(g estate.ID, p estate.Place) {
	if d.isTable(p) {
		d.dropRow(g, p)
		return
	}
	t := d.yamlFile(d.names[p.File])
	element, list := t.around(p)
	if element == nil || t.parents[list] == nil {
		t.fail(
			&yaml.Node{Line: int(p.Line), Column: int(p.Column)},
			"this member cannot be found again; change it by hand",
		)
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
}

// dropRule takes a rule out that stands among the members of a group.
func (d *Draft) dropRule(g estate.ID, rule estate.MemberRule) {
	if !d.isTable(rule.Place) {
		d.dropMember(g, rule.Place)
		return
	}
	t := d.table(d.names[rule.Place.File])
	items := slices.DeleteFunc(SplitList(t.get(t.record(rule.Place), "members")), func(item string) bool {
		where, isWhere := strings.CutPrefix(item, "where ")
		if !isWhere {
			return item == "everyone" && rule.Filter == nil
		}
		f, err := selector.ParseFilter(where)
		return err == nil && rule.Filter != nil && f.String() == rule.Filter.String()
	})
	t.set(t.record(rule.Place), "members", joinCell(items))
}

// setMember changes what the entry at a place says apart from its member.
func (d *Draft) setMember(g estate.ID, p estate.Place, was, m estate.Membership) {
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
				d.addMember(g, Member{Address: d.before.Address(e.Member).String(), Membership: m})
			}
		}
		return
	}
	for _, f := range membershipTexts(m) {
		t.set(t.record(p), f.Name, f.Text)
	}
}

// addMember adds an entry to a group, where its other members stand.
func (d *Draft) addMember(g estate.ID, m Member) {
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
	pairs := append(
		[]pair{{"group", value{text: group}}, {"address", value{text: m.Address}}},
		membershipPairs(m.Membership)...)
	c := d.list(t, t.root, "memberships", topFields)
	c.add = append(c.add, value{pairs: pairs})
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

// renameMemberships writes another address of a group into the memberships that
// name it.
func (d *Draft) renameMemberships(g estate.ID, address string) {
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

// respell writes another address where one stands, unless that is taken out or written
// again as a whole.
func (d *Draft) respell(r respelling) {
	if d.isTable(r.place) {
		t := d.table(d.names[r.place.File])
		switch {
		case slices.Contains(t.header, "group"):
			t.set(t.record(r.place), "address", r.now)
		case holdsAddress(SplitList(t.get(t.record(r.place), r.role)), r.was):
			d.setCellList(t, r.place, r.role, []string{r.was}, []string{r.now})
		}
		return
	}
	t := d.yamlFile(d.names[r.place.File])
	n := t.at(r.place)
	if n == nil || n.Kind != yaml.ScalarNode {
		d.mappingAt(r.place)
		return
	}
	for at := n; at != nil; at = t.parents[at] {
		for _, list := range d.lists {
			if _, replaced := list.change.replace[at]; replaced || list.change.drop[at] {
				return
			}
		}
	}
	if !t.shared(n) {
		t.replace(t.start(n), t.end(n), t.styleIn(t.parents[n]).scalar(r.now))
	}
}
