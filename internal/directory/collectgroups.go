package directory

import (
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

func newReferences(role string, m ReferenceMap, texts []string) references {
	copy, _ := estate.WordIndex[estate.Copy](copyWords, m.FixedCopy())
	by := m.By
	if by == "" {
		by = "id"
	}
	return references{role, by, texts, estate.Membership{Copy: copy}}
}

func (c *Collector) addGroup(e *Entry, m *GroupsMap, rule int) {
	if c.row(e, m, rule) {
		return
	}
	if m.ID != nil {
		e.ID = c.first(e, m.ID)
	}
	g := Group{Line: e.Line, ID: e.ID, Rule: rule}
	g.Address, g.Also, _ = c.addresses(e, m.Address, m.Also)
	if c.d.AddressAt == "" {
		c.d.AddressAt = e.pathOf(m.Address, g.Address)
	}
	if g.Address == "" {
		text := called(e, c.first(e, m.Title)) + " has no address and is left out"
		if c.domain == "" &&
			slices.ContainsFunc(m.Address, func(s string) bool { return strings.Contains(s, "{domain}") }) {
			text += "; name a domain to call it NAME@DOMAIN"
			c.d.NeedsDomain = true
		}
		c.d.Remark(e.Line, true, text)
		return
	}
	g.owns = m.Owns
	if g.Also == nil && (slices.ContainsFunc(m.Also, e.has) || slices.Contains(m.Owns, "also")) {
		g.Also = []string{}
	}
	c.settings(e, m, &g)
	c.attributes(e, m, &g)
	c.rules(e, &g, "gate", m.Gate)
	c.rules(e, &g, "send-as", m.SendAs)
	g.Owners, g.Mods = c.refer(e, &g, "owner", m.Owners), c.refer(e, &g, "moderator", m.Moderators)
	if members := c.refer(e, &g, "member", m.Members); members != nil {
		g.Members = []estatefile.Member{}
	}
	for _, name := range m.Rules {
		e.each(name, func(url string) { c.addRule(e, &g, url) })
	}
	if e.ID != "" {
		c.identify(e, group(len(c.d.Groups)))
	}
	if m.RowsBy != "" {
		c.rows[c.rowKey(e, m, rule)] = len(c.d.Groups)
	}
	c.d.Groups = append(c.d.Groups, g)
}

// settings takes the settings of a group from an entry.
func (c *Collector) settings(e *Entry, m *GroupsMap, g *Group) {
	set := func(name, text string, list []string) {
		if action, ok := strings.CutPrefix(name, "access."); ok {
			g.Access = setField(g.Access, estatefile.Field{Name: action, Text: text})
		} else {
			g.Settings = setField(g.Settings, estatefile.Field{Name: name, Text: text, List: list})
		}
	}
	if title := c.first(e, m.Title); title != "" && title != g.Address {
		set("title", title, nil)
	}
	if about := c.first(e, m.About); about != "" {
		set("about", about, nil)
	}
	for _, name := range m.Settings {
		if value := c.first(e, Names{name}); value != "" {
			c.setting(set, name, Names{value}, true)
		}
	}
	for _, action := range estate.ActionWords() {
		if value := c.first(e, Names{"access." + action}); value != "" && len(m.Settings) > 0 {
			set("access."+action, value, nil)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.Set)) {
		value := m.Set[name]
		c.setting(set, name, c.value(e, &value), false)
	}
	for _, when := range m.SetWhen {
		if when.Match.matches(e) {
			for _, name := range slices.Sorted(maps.Keys(when.Set)) {
				value := when.Set[name]
				c.setting(set, name, c.value(e, &value), false)
			}
		}
	}
}

// setField adds a field to others; it takes the place of an earlier one of its name, so
// that a key is never there twice.
func setField(list []estatefile.Field, f estatefile.Field) []estatefile.Field {
	i := slices.IndexFunc(list, func(other estatefile.Field) bool { return other.Name == f.Name })
	if i < 0 {
		return append(list, f)
	}
	list[i] = f
	return list
}

// setting makes a setting of texts; split says that lists stand in one of them.
func (c *Collector) setting(set func(name, text string, list []string), name string, values Names, split bool) {
	if len(values) == 0 {
		return
	}
	if known, ok := estate.GroupSetting(name); !ok || !known.Form.IsList() {
		set(name, values[0], nil)
		return
	}
	list := []string(values)
	if split {
		list = estatefile.SplitList(values[0])
	}
	set(name, "", list)
}

// refer notes the references of a group in a role. It returns nil where the map
// has no attribute for them, else an empty list.
func (c *Collector) refer(e *Entry, g *Group, role string, maps []ReferenceMap) []string {
	if len(maps) == 0 {
		return nil
	}
	carried := false
	for i := range maps {
		m := maps[i]
		if len(m.Address) > 0 {
			c.records(e, g, &m)
			carried = true
			continue
		}
		carried = carried || e.has(m.From)
		texts := e.values(m.From)
		if m.By == "address" {
			var list []string
			for _, text := range texts {
				list = append(list, c.addressItems(text)...)
			}
			texts = list
		}
		if len(texts) > 0 {
			g.references = append(g.references, newReferences(role, m, texts))
		}
	}
	// A table without a column for them says nothing of them; an LDAP entry
	// without a value says that there are none.
	if !carried && maps[0].By == "address" {
		return nil
	}
	return []string{}
}
