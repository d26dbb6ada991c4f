package estatefile

import (
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

// Apply notes changes, which speak of the estate that Before returns.
func (d *Draft) Apply(changes ...change.Change) { d.changes = append(d.changes, changes...) }

// write edits the files so that they say what the changes come to.
func (d *Draft) write() error {
	edits, err := change.EditsOf(d.before, d.changes...)
	if err != nil {
		return err
	}
	for i := range edits.Groups {
		d.writeGroup(&edits.Groups[i])
	}
	for i := range edits.People {
		d.writePerson(&edits.People[i])
	}
	if edits.Settings != nil {
		d.writeSettings(edits.Settings)
	}
	return nil
}

func (d *Draft) writeGroup(e *change.GroupEdit) {
	switch {
	case e.ID == estate.None:
		if !e.Gone {
			d.addGroup(groupOf(e))
		}
		return
	case e.Gone:
		d.removeGroup(e.ID)
		return
	}
	g := d.before.Group(e.ID)
	if now := e.Address.String(); now != g.Address.String() {
		d.setGroup(e.ID, Field{Name: "address", Text: now})
		d.renameMemberships(e.ID, now)
		d.respellAll(e.ID, g.Address.String(), now)
	}
	for _, said := range e.Said {
		d.say(e.ID, said.Setting, said.Texts)
	}
	for i := range e.Members {
		d.writeMember(e.ID, &e.Members[i])
	}
}

func (d *Draft) writeMember(g estate.ID, m *change.MemberEdit) {
	switch {
	case m.At < 0:
		if !m.Gone {
			d.addMember(g, memberOf(m.Member))
		}
	case m.IsRule():
		d.writeRule(g, m)
	case m.Gone:
		d.dropMember(g, d.before.Entries(g)[m.At].Place)
	default:
		entry := d.before.Entries(g)[m.At]
		d.setMember(g, entry.Place, entry.Membership(), m.Membership)
	}
}

func (d *Draft) writePerson(e *change.PersonEdit) {
	switch {
	case e.ID == estate.None:
		if !e.Gone {
			d.addPerson(personOf(e))
		}
		return
	case e.Gone:
		d.dropItem(d.before.Person(e.ID).Place, "people")
		return
	}
	if was, now := d.before.Address(e.ID).String(), e.Person.Address.String(); now != was {
		d.setPerson(e.ID, Field{Name: "address", Text: now})
		d.respellAll(e.ID, was, now)
	}
	if e.Also {
		d.setPerson(e.ID, Field{Name: "also", List: texts(e.Person.Also)})
	}
	for _, said := range e.Said {
		d.setPerson(e.ID, Field{Name: said.Setting, Text: strings.Join(said.Texts, "")})
	}
	for _, said := range e.Attributes {
		d.inner(e.ID, attributeFields([]string{said.Setting}, [][]string{said.Texts})...)
	}
}

// writeSettings writes what the estate says otherwise of itself.
func (d *Draft) writeSettings(s *estate.Settings) {
	before := d.before.Settings()
	for _, a := range s.Accepted[len(before.Accepted):] {
		d.accept(a)
	}
	has := func(list []estate.Domain, one estate.Domain) bool {
		return slices.ContainsFunc(list, func(other estate.Domain) bool { return other.Name == one.Name })
	}
	for _, one := range s.Domains {
		if !has(before.Domains, one) {
			d.addDomain(one.Name)
		}
	}
	for _, one := range before.Domains {
		if !has(s.Domains, one) {
			d.removeDomain(one.Name)
		}
	}
	if s.OpenNestedGates != before.OpenNestedGates {
		d.setNestedGates(s.OpenNestedGates)
	}
}

// removeDomain takes a domain out of the list of them.
func (d *Draft) removeDomain(name string) {
	for _, file := range d.main {
		t := d.yamlFile(file)
		_, list := lookup(t.root, "domains")
		if list == nil {
			continue
		}
		for _, item := range list.Content {
			text := item.Value
			if _, inner := lookup(item, "domain"); inner != nil {
				text = inner.Value
			}
			if domain, err := address.ParseDomain(text); err == nil && domain == name {
				d.list(t, t.root, "domains", topFields).drop[item] = true
			}
		}
	}
}

// setNestedGates says whether nested groups ask their own gate again: where it is said
// already, or else in the first file.
func (d *Draft) setNestedGates(open bool) {
	word := estate.NestedGatesWord(open)
	for _, file := range d.main {
		t := d.yamlFile(file)
		if _, said := lookup(t.root, "nested-gates"); said != nil {
			d.key(t, t.root, "nested-gates", &value{text: word}, topFields)
			return
		}
	}
	t := d.yamlFile(d.main[0])
	d.key(t, t.root, "nested-gates", &value{text: word}, topFields)
}

// fieldOf returns what is said of a setting of a group as a field.
func fieldOf(setting string, said []string) Field {
	f := Field{Name: setting}
	switch s, ok := estate.GroupSetting(setting); {
	case ok && s.Form.IsList():
		f.List = said
	case len(said) > 0:
		f.Text = said[0]
	}
	return f
}

// say makes a group say something else of a setting.
func (d *Draft) say(g estate.ID, setting string, texts []string) {
	f := fieldOf(setting, texts)
	if action, ok := actionOf(setting); ok {
		d.inner(g, Field{Name: action, Text: f.Text})
		return
	}
	place := d.before.Group(g).Place
	s, _ := estate.GroupSetting(setting)
	was := s.Texts(d.before, d.before.Group(g))
	byItem := s.Form == estate.FormParties || s.Form == estate.FormAddresses || s.Form == estate.FormRules && len(was)*len(texts) > 0
	if drop, add, ok := listEdit(was, texts); ok && byItem {
		if s.Form == estate.FormParties {
			drop = d.spellings(drop)
		}
		d.setList(g, setting, drop, add)
		return
	}
	if f.List != nil && len(texts) == 0 && s.Default != "" &&
		d.isTable(place) {
		d.refuse(place, "an empty cell of "+setting+" is the default, and not an empty list; change it by hand")
		return
	}
	d.setGroup(g, f)
}

// refuse notes that a change cannot be written at a place.
func (d *Draft) refuse(p estate.Place, why string) {
	one := &Error{File: d.names[p.File], Line: int(p.Line), Column: int(p.Column), Text: why}
	d.fail(&Errors{List: []*Error{one}})
}

// inner notes fields that stand in a mapping of their own: the access of a group, the
// attributes of a person. They are written together, as they share a key.
func (d *Draft) inner(id estate.ID, fields ...Field) {
	for _, f := range fields {
		list := slices.DeleteFunc(d.within[id], func(other Field) bool { return other.Name == f.Name })
		d.within[id] = append(list, f)
	}
}

// applyInner makes the changes that inner has noted.
func (d *Draft) applyInner() {
	for _, id := range slices.Sorted(maps.Keys(d.within)) {
		if d.before.IsGroup(id) {
			d.setAccess(id, d.within[id]...)
		} else {
			d.setAttributes(id, d.within[id]...)
		}
	}
	d.within = map[estate.ID][]Field{}
}

// listEdit returns what goes from a list and what is added behind the rest, if that makes one list of another. Lists
// that have something twice are written as a whole.
func listEdit(was, is []string) (drop, add []string, ok bool) {
	same := func(list []string, text string) bool { return holdsAddress(list, text) }
	for i, text := range was {
		if same(was[:i], text) {
			return nil, nil, false
		}
		if !same(is, text) {
			drop = append(drop, text)
		}
	}
	kept := len(was) - len(drop)
	if kept > len(is) {
		return nil, nil, false
	}
	rest := slices.DeleteFunc(slices.Clone(was), func(text string) bool { return same(drop, text) })
	if !slices.EqualFunc(rest, is[:kept], address.Same) {
		return nil, nil, false
	}
	return drop, is[kept:], true
}

// spellings returns what is to be dropped from a list as it may be written there: of
// people and groups, all their addresses.
func (d *Draft) spellings(texts []string) []string {
	all := slices.Clone(texts)
	for _, text := range texts {
		id, ok := d.find(text)
		if !ok {
			continue
		}
		all = append(all, d.before.Address(id).String())
		for _, also := range d.before.Also(id) {
			all = append(all, also.String())
		}
	}
	return all
}

func (d *Draft) find(text string) (estate.ID, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, false
	}
	return d.before.Find(a)
}

func texts(list []address.Address) []string {
	out := []string{}
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}

// memberOf returns a membership to come as it is written.
func memberOf(m change.Member) Member {
	one := Member{Address: m.Address.String(), Membership: m.Membership, JustNow: m.JustNow}
	if m.IsRule() {
		one.Everyone = m.Filter == nil
		if m.Filter != nil {
			one.Where = m.Filter.String()
		}
	}
	return one
}

func groupOf(e *change.GroupEdit) NewGroup {
	g := NewGroup{Fields: []Field{{Name: "address", Text: e.Address.String()}}, Place: e.Place}
	for _, said := range e.Said {
		f := fieldOf(said.Setting, said.Texts)
		if action, ok := actionOf(said.Setting); ok {
			g.Access = append(g.Access, Field{Name: action, Text: f.Text})
		} else {
			g.Fields = append(g.Fields, f)
		}
	}
	for _, m := range e.Members {
		g.Members = append(g.Members, memberOf(m.Member))
	}
	return g
}

func personOf(e *change.PersonEdit) NewPerson {
	p := NewPerson{Place: e.Person.Place, Fields: []Field{{Name: "address", Text: e.Person.Address.String()}}}
	for _, said := range e.Said {
		p.Fields = append(p.Fields, Field{Name: said.Setting, Text: strings.Join(said.Texts, "")})
	}
	if e.Also {
		p.Fields = append(p.Fields, Field{Name: "also", List: texts(e.Person.Also)})
	}
	for _, said := range e.Attributes {
		for _, text := range said.Texts {
			p.Attributes = append(p.Attributes, estate.Attribute{Name: said.Setting, Value: text})
		}
	}
	byColumn := func(x, y Field) int {
		return slices.Index(personColumns(), x.Name) - slices.Index(personColumns(), y.Name)
	}
	slices.SortStableFunc(p.Fields, byColumn)
	return p
}

// writeRule changes a rule among the members of a group.
func (d *Draft) writeRule(g estate.ID, m *change.MemberEdit) {
	rule := d.before.Rules(g)[m.At]
	now := memberOf(m.Member)
	was := memberOf(change.Member{Filter: rule.Filter})
	switch {
	case m.Gone:
		d.dropRule(g, rule)
	case d.isTable(rule.Place) && m.Membership != (estate.Membership{}):
		d.refuse(rule.Place, "a filter in a table has no settings of its own; change it by hand")
	case was.Where != now.Where:
		d.dropRule(g, rule)
		d.addMember(g, now)
	default:
		d.setMember(g, rule.Place, rule.Membership, m.Membership)
	}
}

// respelling is another address of somebody where a group lists them.
type respelling struct {
	place    estate.Place
	role     string // the list: members, owners or moderators
	was, now string
}

// respellAll notes another address of somebody wherever groups list them.
func (d *Draft) respellAll(id estate.ID, was, now string) {
	for group := range estate.ID(d.before.Groups()) {
		g := d.before.Group(group)
		for _, role := range []struct {
			name string
			list []estate.Listed
		}{{"owners", g.Owners}, {"moderators", g.Moderators}} {
			for _, listed := range role.list {
				if listed.ID == id {
					d.respelt = append(d.respelt, respelling{listed.Place, role.name, was, now})
				}
			}
		}
		for _, entry := range d.before.Entries(group) {
			if entry.Member == id {
				d.respelt = append(d.respelt, respelling{entry.Place, "members", was, now})
			}
		}
	}
}
