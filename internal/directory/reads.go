package directory

import (
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Lists returns the paths of the lists of a JSON document that a map is about, each once.
func (m *Map) Lists() []string {
	var lists []string
	add := func(path string) {
		if !slices.Contains(lists, path) {
			lists = append(lists, path)
		}
	}
	for i := range m.People {
		add(m.People[i].Records)
	}
	for i := range m.Groups {
		add(m.Groups[i].Records)
	}
	return lists
}

// Attributes returns the names of all attributes that a map reads, or nil for all.
func (m *Map) Attributes() []string {
	r := &reads{}
	for i := range m.People {
		if m.People[i].Others {
			return nil
		}
		r.people(&m.People[i])
	}
	for i := range m.Groups {
		r.groups(&m.Groups[i])
	}
	return r.names
}

// reads gathers the names of attributes that a part of a map reads.
type reads struct {
	names   []string
	choices [][]string // of the names of each one will do
}

// any adds names of attributes, of which one will do.
func (r *reads) any(list ...string) {
	inner := &reads{}
	inner.add(list...)
	if r.add(inner.names...); len(inner.names) > 0 {
		r.choices = append(r.choices, inner.names)
	}
}

// each adds names of attributes that are all to be there.
func (r *reads) each(list ...string) {
	for _, name := range list {
		r.any(name)
	}
}

// add adds attributes, and those that stand in a text in braces.
func (r *reads) add(list ...string) {
	for _, text := range list {
		for part := range strings.SplitSeq(text, "{") {
			name, _, filled := strings.Cut(part, "}")
			if strings.Contains(text, "{") && !filled || name == "" || name == "domain" {
				continue
			}
			if !slices.Contains(r.names, name) {
				r.names = append(r.names, name)
			}
		}
	}
}

func (r *reads) condition(c condition) {
	if c.filter != nil {
		selector.Items(c.filter, func(item *selector.Item) { r.any(item.Attribute) })
	}
}

func (r *reads) values(list ...*Value) {
	for _, v := range list {
		if v != nil {
			r.any(v.From...)
		}
	}
}

// references adds what members, owners or moderators are read from. What stands in a list
// of records within the record is called by its whole path.
func (r *reads) references(list []ReferenceMap) {
	for i := range list {
		one := &list[i]
		inner := &reads{}
		inner.any(one.From)
		inner.any(one.Address...)
		inner.values(one.Role)
		for _, s := range estate.MembershipSettings() {
			inner.values(one.says(s.Name))
		}
		for _, names := range inner.choices {
			if one.Each != "" {
				names = slices.Clone(names)
				for j := range names {
					names[j] = one.Each + "." + names[j]
				}
			}
			r.any(names...)
		}
	}
}

func (r *reads) people(p *PeopleMap) {
	r.condition(p.Match)
	for _, names := range []Names{p.ID, p.Address, p.Also, p.Name, p.Key} {
		r.any(names...)
	}
	for _, attribute := range slices.Sorted(maps.Keys(p.Attributes)) {
		r.any(string(p.Attributes[attribute]))
	}
	if p.Mailbox != nil {
		r.any(p.Mailbox.From)
	}
	r.references(p.MemberOf)
}

func (r *reads) groups(g *GroupsMap) {
	r.condition(g.Match)
	for _, names := range []Names{{g.RowsBy}, g.ID, g.Address, g.Also, g.Title, g.About, g.Rules} {
		r.any(names...)
	}
	if r.each(g.Settings...); len(g.Settings) > 0 {
		for _, action := range estate.ActionWords() {
			r.add("access." + action)
		}
	}
	for _, list := range [][]ReferenceMap{g.Owners, g.Moderators, g.Members} {
		r.references(list)
	}
	set := func(values map[string]Value) {
		for _, name := range slices.Sorted(maps.Keys(values)) {
			value := values[name]
			r.values(&value)
		}
	}
	set(g.Set)
	for _, when := range g.SetWhen {
		r.condition(when.Match)
		set(when.Set)
	}
	for _, name := range slices.Sorted(maps.Keys(g.Attributes)) {
		r.any(g.Attributes[name]...)
	}
	for _, rules := range [][]RuleMap{g.Gate, g.SendAs} {
		for i := range rules {
			r.condition(rules[i].When)
			r.values(rules[i].As)
			for _, m := range rules[i].said() {
				for _, text := range m.Values {
					for _, found := range placeholder.FindAllStringSubmatch(text, -1) {
						r.any(found[1])
					}
				}
			}
		}
	}
}
