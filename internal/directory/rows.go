package directory

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

func fieldOfList(name string, list []string) estatefile.Field {
	return estatefile.Field{Name: name, List: list}
}

// row adds a record to a group that has one already, and reports whether there is one. What
// such records list is joined; of what they say otherwise the first counts.
func (c *Collector) row(e *Entry, m *GroupsMap, rule int) bool {
	if m.RowsBy == "" {
		return false
	}
	index, there := c.rows[c.rowKey(e, m, rule)]
	if !there {
		return false
	}
	g := &c.d.Groups[index]
	c.refer(e, g, "owner", m.Owners)
	c.refer(e, g, "moderator", m.Moderators)
	c.refer(e, g, "member", m.Members)
	said := Group{Address: g.Address}
	c.settings(e, m, &said)
	for _, f := range said.Settings {
		switch old, ok := fieldOf(g.Settings, f.Name); {
		case !ok:
			g.Settings = append(g.Settings, f)
		case old.Text != f.Text || !slices.Equal(old.List, f.List):
			c.d.Remark(e.Line, true, fmt.Sprintf("%s of %s is %q here and %q in line %d, which counts", f.Name, g.Address,
				shown(f), shown(old), g.Line))
		}
	}
	return true
}

// rowKey says which group a record is about.
func (c *Collector) rowKey(e *Entry, m *GroupsMap, rule int) string {
	return strconv.Itoa(rule) + "\n" + strings.ToLower(c.first(e, Names{m.RowsBy}))
}

func shown(f estatefile.Field) string {
	if f.List != nil {
		return strings.Join(f.List, "; ")
	}
	return f.Text
}

// records adds the members that stand in a list of records within a record, or the one that
// the record itself is about, with what their membership is like.
func (c *Collector) records(e *Entry, g *Group, m *ReferenceMap) {
	list := []*Entry{e}
	if m.Each != "" {
		list = e.Nested[m.Each]
	}
	by := m.By
	if by == "" {
		by = "address"
	}
	for _, one := range list {
		text := c.first(one, m.Address)
		if text == "" {
			continue
		}
		said := m.Role.isFixed()
		in := []string{said}
		switch {
		case m.Role == nil, said == "" && c.first(one, m.Role.From) == "":
			in = roles[:1] // where nothing is said, they are members
		case said == "":
			in = c.value(one, m.Role)
		}
		for _, role := range in {
			r := references{role: role, by: by, texts: []string{text}}
			if role == "member" {
				r.what = c.membership(one, m)
			}
			g.references = append(g.references, r)
		}
	}
}

// membership returns what a record says of a membership.
func (c *Collector) membership(e *Entry, m *ReferenceMap) (what estate.Membership) {
	for _, s := range estate.MembershipSettings() {
		value := m.says(s.Name)
		text := ""
		switch list := c.value(e, value); {
		case len(list) == 0:
		case s.IsDate():
			text = c.day(e, value).String()
		default:
			text = list[0]
		}
		if text != "" && s.Set(&what, text) != nil {
			c.unknown(e, value, text, s.Known()...)
		}
	}
	return what
}

// attributes sets the free attributes of a group.
func (c *Collector) attributes(e *Entry, m *GroupsMap, g *Group) {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(m.Attributes)) {
		for _, from := range m.Attributes[name] {
			values := e.values(from)
			if strings.Contains(from, "{") {
				values = []string{c.fill(e, from)}
			}
			for _, value := range values {
				if value = strings.TrimSpace(value); value != "" {
					list = append(list, name+": "+value)
				}
			}
		}
	}
	if list != nil {
		g.Settings = setField(g.Settings, fieldOfList("attributes", list))
	}
}

// finishGroups makes rules of what waited for all groups.
func (c *Collector) finishGroups() {
	groups := map[string]bool{}
	for i := range c.d.Groups {
		for _, text := range append([]string{c.d.Groups[i].Address}, c.d.Groups[i].Also...) {
			groups[key(text)] = true
		}
	}
	for i := range c.d.Groups {
		if c.d.Groups[i].pending != nil {
			c.finishRules(&c.d.Groups[i], groups)
		}
	}
}
