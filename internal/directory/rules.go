package directory

import (
	"net/url"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
)

// addRule adds the members that an LDAP URL picks (RFC 4516) to a group, as a
// rule over attributes.
func (c *Collector) addRule(e *Entry, g *Group, text string) {
	if text == "everyone" || strings.HasPrefix(text, "where ") {
		g.Members, g.targets = append(g.Members, memberOf(text, estate.Membership{})), append(g.targets, 0)
		return
	}
	base, filter, reason := splitURL(text)
	if reason != "" {
		c.d.Remark(e.Line, true, "the rule "+text+" of "+g.Address+" is left out: "+reason)
		return
	}
	f, err := selector.ParseFilter(filter)
	if err != nil {
		c.d.Remark(e.Line, true, "the rule of "+g.Address+" is left out: "+err.Error())
		return
	}
	var lacking string
	f, all := c.translate(f, &lacking)
	if lacking != "" {
		c.d.Remark(e.Line, true, "the rule "+filter+" of "+g.Address+" is left out: no attribute comes from "+lacking)
		return
	}
	if base != "" && strings.Count(base, "=") > strings.Count(strings.ToLower(base), "dc=") {
		c.d.Remark(e.Line, false, "the rule of "+g.Address+" picks from all people, not just from those below "+base)
	}
	m := estatefile.Member{Everyone: all}
	if !all {
		m.Where = f.String()
	}
	g.Members, g.targets = append(g.Members, m), append(g.targets, 0)
}

// splitURL takes an LDAP URL apart: ldap://host/base?attributes?scope?filter.
func splitURL(text string) (base, filter, reason string) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "ldap" && u.Scheme != "ldaps" {
		return "", "", "it is no LDAP URL"
	}
	parts := strings.SplitN(u.RawQuery, "?", 4)
	filter = "(objectClass=*)"
	if len(parts) > 2 && parts[2] != "" {
		if filter, err = url.PathUnescape(parts[2]); err != nil {
			return "", "", "it is no LDAP URL"
		}
	}
	return strings.TrimPrefix(u.Path, "/"), filter, ""
}

// translate puts the names of attributes for those of attributes. What asks for a
// class of people is true of all. lacking becomes an attribute without an attribute.
func (c *Collector) translate(f selector.Filter, lacking *string) (out selector.Filter, all bool) {
	if slices.ContainsFunc(c.d.Map.People, func(p PeopleMap) bool {
		return p.Match.filter != nil && p.Match.filter.String() == f.String()
	}) {
		return f, true
	}
	switch f := f.(type) {
	case selector.FilterAnd:
		var parts selector.FilterAnd
		for _, part := range f {
			if one, all := c.translate(part, lacking); !all {
				parts = append(parts, one)
			}
		}
		if len(parts) == 1 {
			return parts[0], false
		}
		return parts, len(parts) == 0
	case selector.FilterOr:
		var parts selector.FilterOr
		for _, part := range f {
			one, all := c.translate(part, lacking)
			if all {
				return one, true
			}
			parts = append(parts, one)
		}
		return parts, false
	case selector.FilterNot:
		x, all := c.translate(f.X, lacking)
		if all {
			*lacking = "objectClass"
		}
		return selector.FilterNot{X: x}, false
	}
	item := *f.(*selector.Item)
	if item.Attribute == "objectclass" {
		return &item, true
	}
	name, ok := c.attributeOf(item.Attribute)
	if !ok {
		*lacking = item.Attribute
	}
	item.Attribute = name
	return &item, false
}

// attributeOf returns the attribute, or address or name, that an attribute becomes.
func (c *Collector) attributeOf(attribute string) (string, bool) {
	for _, p := range c.d.Map.People {
		for _, one := range p.attributes {
			if strings.EqualFold(one.Value, attribute) {
				return one.Name, true
			}
		}
		for _, from := range p.Address {
			if strings.EqualFold(from, attribute) {
				return "address", true
			}
		}
		for _, from := range p.Name {
			if strings.EqualFold(from, attribute) {
				return "name", true
			}
		}
	}
	return "", false
}

// fieldFor returns the field of the source that an attribute of people is read from: the
// other way round.
func fieldFor(m *Map, attribute string) (string, bool) {
	for _, p := range m.People {
		for _, f := range p.attributes {
			if strings.EqualFold(f.Name, attribute) {
				return f.Value, true
			}
		}
		switch {
		case strings.EqualFold(attribute, "address") && len(p.Address) > 0:
			return p.Address[0], true
		case strings.EqualFold(attribute, "name") && len(p.Name) > 0:
			return p.Name[0], true
		}
	}
	return "", false
}

// RuleURL returns a rule for members as an LDAP URL (RFC 4516), if the map has an
// attribute for all attributes that it asks for. A rule picks people inside, and so does
// the filter: entries that are no people, and people outside, are none of its.
func (m *Map) RuleURL(e *estate.Estate, base string, rule estate.MemberRule) (string, bool) {
	var all selector.FilterAnd
	var people selector.FilterOr
	for _, p := range m.People {
		filter := p.Match.filter
		if filter == nil {
			filter = &selector.Item{Attribute: "objectclass", Comparison: selector.Present}
		}
		people = append(people, filter)
	}
	mail, ok := fieldFor(m, "address")
	if !ok {
		return "", false
	}
	all = append(all, oneOf(people), domainsFilter(mail, domainNames(e)))
	inside := func(a address.Address) bool { return e.InsideDomain(a.Domain()) }
	for i := range e.People() {
		if id := e.PersonID(i); !e.Inside(id) && slices.ContainsFunc(e.Person(id).Also, inside) {
			item := &selector.Item{Attribute: mail, Value: strings.ToLower(e.Address(id).String())}
			all = append(all, selector.FilterNot{X: item})
		}
	}
	if rule.Filter != nil {
		translated, ok := untranslate(m, rule.Filter)
		if !ok {
			return "", false
		}
		all = append(all, translated)
	}
	return "ldap:///" + url.PathEscape(base) + "??sub?" + url.PathEscape(all.String()), true
}

func domainNames(e *estate.Estate) []string {
	var names []string
	for _, d := range e.Settings().Domains {
		names = append(names, d.Name)
	}
	return names
}

func oneOf(list selector.FilterOr) selector.Filter {
	if len(list) == 1 {
		return list[0]
	}
	return list
}

// domainsFilter picks entries with an address in one of some domains.
func domainsFilter(attribute string, domains []string) selector.Filter {
	var list selector.FilterOr
	for _, d := range slices.Sorted(slices.Values(domains)) {
		parts := []string{"", "@" + strings.ToLower(d)}
		list = append(list, &selector.Item{Attribute: attribute, Comparison: selector.Substring, Parts: parts})
	}
	return oneOf(list)
}

// withoutDomains takes from a rule for members that they have an address in a domain of
// the estate that all those have that a rule picks.
func withoutDomains(m estatefile.Member, domains []string) estatefile.Member {
	if m.Where == "" {
		return m
	}
	f, err := selector.ParseFilter(m.Where)
	if err != nil {
		return m
	}
	implied := domainsFilter("address", domains).String()
	parts, ok := f.(selector.FilterAnd)
	if !ok {
		parts = selector.FilterAnd{f}
	}
	kept := slices.DeleteFunc(slices.Clone(parts), func(f selector.Filter) bool { return f.String() == implied })
	switch {
	case len(kept) == len(parts):
	case len(kept) == 0:
		m.Everyone, m.Where = true, ""
	case len(kept) == 1:
		m.Where = kept[0].String()
	default:
		m.Where = kept.String()
	}
	return m
}

// untranslate puts the names of attributes for those of attributes.
func untranslate(m *Map, f selector.Filter) (selector.Filter, bool) {
	all := func(list []selector.Filter) ([]selector.Filter, bool) {
		parts := make([]selector.Filter, len(list))
		for i, part := range list {
			var ok bool
			if parts[i], ok = untranslate(m, part); !ok {
				return nil, false
			}
		}
		return parts, true
	}
	switch f := f.(type) {
	case selector.FilterAnd:
		parts, ok := all(f)
		return selector.FilterAnd(parts), ok
	case selector.FilterOr:
		parts, ok := all(f)
		return selector.FilterOr(parts), ok
	case selector.FilterNot:
		x, ok := untranslate(m, f.X)
		return selector.FilterNot{X: x}, ok
	}
	item := *f.(*selector.Item)
	name, ok := fieldFor(m, item.Attribute)
	item.Attribute = name
	return &item, ok
}
