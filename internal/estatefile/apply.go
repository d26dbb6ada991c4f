package estatefile

import (
	"fmt"
	"maps"
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

// Apply notes changes, which speak of the estate that Before returns.
func (d *Draft) Apply(changes ...change.Change) {
	for _, c := range changes {
		d.apply(c)
	}
}

func (d *Draft) apply(c change.Change) {
	switch c := c.(type) {
	case change.SetSetting:
		d.say(c.Group, c.Setting, c.Texts)
	case change.SetList:
		d.setList(c.Group, c.Setting, d.spellings(c), d.missing(c))
	case change.InsertRule:
		d.say(c.Group, c.Setting, slices.Insert(d.rules(c.Group, c.Setting), c.At, c.Text))
	case change.SetRule:
		texts := d.rules(c.Group, c.Setting)
		texts[c.At] = c.Text
		d.say(c.Group, c.Setting, texts)
	case change.RemoveRule:
		d.say(c.Group, c.Setting, slices.Delete(d.rules(c.Group, c.Setting), c.At, c.At+1))
	case change.AddMember:
		d.addMember(c.Group, memberOf(c.Member))
	case change.SetMember:
		entry := d.before.Entries(c.Group)[c.Entry]
		d.setMember(c.Group, entry.Place, entry.Membership(), c.Membership)
	case change.RemoveMember:
		d.dropMember(c.Group, d.before.Entries(c.Group)[c.Entry].Place)
	case change.SetMemberRule:
		d.setMemberRule(c)
	case change.RemoveMemberRule:
		d.dropRule(c.Group, d.before.Rules(c.Group)[c.Rule])
	case change.AddGroup:
		d.addGroup(groupOf(c))
	case change.RenameGroup:
		d.renameGroup(c)
	case change.RemoveGroup:
		d.removeGroup(c.Group)
	case change.AddPerson:
		d.addPerson(personOf(c))
	case change.SetPerson:
		f := Field{Name: c.Field, Text: c.Text}
		if f.isDefault() {
			f.Text = ""
		}
		d.setPerson(c.Person, f)
	case change.SetAttribute:
		name := d.before.AttributeName(c.Attribute)
		d.inner(c.Person, attributeFields([]string{name}, [][]string{c.Values})...)
	case change.SetPersonAlso:
		d.setPerson(c.Person, Field{Name: "also", List: texts(c.Also)})
	case change.RenamePerson:
		d.renamePerson(c)
	case change.RemovePerson:
		d.dropItem(d.before.Person(c.Person).Place, "people")
	case change.Accept:
		d.accept(c.Acceptance)
	case change.AddDomain:
		d.addDomain(c.Name)
	case change.RemoveDomain:
		d.removeDomain(c.Name)
	case change.SetNestedGates:
		d.setNestedGates(c.Open)
	default:
		d.fail(fmt.Errorf("%T cannot be written into files", c))
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
	if s, ok := estate.GroupSetting(setting); ok && f.List != nil && len(texts) == 0 && s.Default != "" &&
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

// rules returns the rules that hold for a group, as they are written.
func (d *Draft) rules(g estate.ID, setting string) []string {
	s, ok := estate.GroupSetting(setting)
	if !ok {
		return nil
	}
	return slices.Clone(s.Holds(d.before, d.before.Group(g)))
}

// spellings returns what is to be dropped from a list as it may be written there: of
// people and groups, all their addresses.
func (d *Draft) spellings(c change.SetList) []string {
	all := slices.Clone(c.Drop)
	if s, ok := estate.GroupSetting(c.Setting); !ok || s.Form != estate.FormParties {
		return all
	}
	for _, text := range c.Drop {
		id, ok := d.find(text)
		if !ok {
			continue
		}
		all = append(all, d.before.Address(id).String())
		if d.before.IsGroup(id) {
			all = append(all, texts(d.before.Group(id).Also)...)
		} else {
			all = append(all, texts(d.before.Person(id).Also)...)
		}
	}
	return all
}

// missing returns what is to be added to a list; who is listed already is not added
// once more.
func (d *Draft) missing(c change.SetList) []string {
	group := d.before.Group(c.Group)
	listed := map[string][]estate.Listed{"owners": group.Owners, "moderators": group.Moderators}[c.Setting]
	return slices.DeleteFunc(slices.Clone(c.Add), func(text string) bool {
		id, ok := d.find(text)
		return ok && slices.ContainsFunc(listed, func(one estate.Listed) bool { return one.ID == id })
	})
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

func groupOf(c change.AddGroup) NewGroup {
	g := NewGroup{Fields: []Field{{Name: "address", Text: c.Address.String()}}, Place: c.Place}
	for _, said := range c.Settings {
		f := fieldOf(said.Setting, said.Texts)
		if action, ok := actionOf(said.Setting); ok {
			g.Access = append(g.Access, Field{Name: action, Text: f.Text})
		} else {
			g.Fields = append(g.Fields, f)
		}
	}
	for _, m := range c.Members {
		g.Members = append(g.Members, memberOf(m))
	}
	return g
}

func personOf(c change.AddPerson) NewPerson {
	p := NewPerson{Attributes: c.Attributes, Place: c.Place}
	for _, name := range personColumns() {
		f := Field{Name: name}
		switch setting, _ := estate.PersonSetting(name); {
		case setting != nil:
			f.Text = setting.Text(c.Person)
		case name == "also":
			f.List = texts(c.Also)
		default:
			f.Text = c.Address.String()
		}
		if f.Text != "" || len(f.List) > 0 {
			p.Fields = append(p.Fields, f)
		}
	}
	return p
}

// setMemberRule changes a rule among the members of a group.
func (d *Draft) setMemberRule(c change.SetMemberRule) {
	rule := d.before.Rules(c.Group)[c.Rule]
	was, where := "", ""
	if rule.Filter != nil {
		was = rule.Filter.String()
	}
	if c.Filter != nil {
		where = c.Filter.String()
	}
	if d.isTable(rule.Place) && c.Membership != (estate.Membership{}) {
		d.refuse(rule.Place, "a filter in a table has no settings of its own; change it by hand")
		return
	}
	if was != where {
		d.dropRule(c.Group, rule)
		d.addMember(c.Group, Member{Where: where, Everyone: where == "", Membership: c.Membership})
		return
	}
	d.setMember(c.Group, rule.Place, rule.Membership, c.Membership)
}

// respelling is another address of somebody where a group lists them.
type respelling struct {
	place    estate.Place
	role     string // the list: members, owners or moderators
	was, now string
}

// renameGroup gives a group another address, also where it is listed.
func (d *Draft) renameGroup(c change.RenameGroup) {
	g, now := d.before.Group(c.Group), c.To.String()
	d.setGroup(c.Group, Field{Name: "address", Text: now})
	var drop, add []string
	for _, also := range g.Also {
		if also.Key() == c.To.Key() {
			drop = append(drop, also.String())
		}
	}
	if !c.Forget && g.Address.Key() != c.To.Key() {
		add = append(add, g.Address.String())
	}
	d.setList(c.Group, "also", drop, add)
	d.renameMemberships(c.Group, now)
	d.respellAll(c.Group, g.Address.String(), now)
}

// renamePerson gives a person another address, also where they are listed.
func (d *Draft) renamePerson(c change.RenamePerson) {
	p := d.before.Person(c.Person)
	d.setPerson(c.Person, Field{Name: "address", Text: c.To.String()})
	also := slices.DeleteFunc(slices.Clone(p.Also), func(a address.Address) bool { return a.Key() == c.To.Key() })
	if len(also) < len(p.Also) {
		d.setPerson(c.Person, Field{Name: "also", List: texts(also)})
	}
	d.respellAll(c.Person, p.Address.String(), c.To.String())
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
