package estatefile

import (
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// topFields are the keys of an estate.
var topFields = []string{
	"yorvet",
	"name",
	"domains",
	"subaddress",
	"nested-gates",
	"code-sender",
	"edge",
	"accept",
	"people",
	"groups",
	"memberships",
}

// readTop reads the settings of the estate and notes its sections.
func (d *document) readTop(root *yaml.Node) {
	later := func(to *[]section) field {
		return func(_, value *yaml.Node) { *to = append(*to, section{d, value}) }
	}
	d.mapping(d.resolve(root), "the estate", topFields, map[string]field{
		"yorvet": d.readVersion,
		"name":   d.readScalar,
		"domains": func(_, value *yaml.Node) {
			d.list(value, "a list of domains", d.readDomain)
		},
		"subaddress":   d.readScalar,
		"nested-gates": d.readScalar,
		"code-sender":  d.readScalar,
		"edge": func(_, value *yaml.Node) {
			d.list(value, "a list of rules", d.readEdgeRule)
		},
		"accept":      later(&d.accepted),
		"people":      later(&d.people),
		"groups":      later(&d.groups),
		"memberships": later(&d.memberships),
	})
}

func (d *document) readVersion(key, value *yaml.Node) {
	if value.Kind != yaml.ScalarNode || d.what(value) != "a number" || value.Value != "1" {
		d.wrong(value, "format version 1")
	}
	d.setScalar("yorvet", value.Value, d.place(value))
}

// readScalar reads a setting of the estate that is one text.
func (d *document) readScalar(key, value *yaml.Node) {
	text, ok := d.text(value)
	if !ok {
		return
	}
	place := d.place(value)
	switch key.Value {
	case "nested-gates":
		var open uint8
		setWord(d.loader, &open, key.Value, item{text, place}, []string{"enforce", "open"})
	case "subaddress":
		if _, err := address.Parse("a" + text + "a@example"); err != nil || text == "" || text[0] == '"' {
			d.fail(place, `expected a separator of subaddresses such as "+", not `+quote(text), "")
		}
	}
	d.setScalar(key.Value, text, place)
}

// setScalar notes a setting; several files may give it only the same value.
func (d *document) setScalar(name, value string, place estate.Place) {
	if d.scalars == nil {
		d.loader.scalars = map[string]scalar{}
	}
	earlier, given := d.scalars[name]
	switch {
	case !given:
		d.scalars[name] = scalar{value, place}
	case earlier.value != value:
		e := d.newError(
			place,
			name+" is "+quote(value)+" here and "+quote(earlier.value)+" elsewhere, expected one value",
			"",
		)
		e.See = d.position(earlier.place)
		d.errs.add(e)
	}
}

// readEdgeRule reads a rule that is asked before the gate of any group.
func (d *document) readEdgeRule(n *yaml.Node) {
	text, ok := d.text(n)
	it := item{text, d.place(n)}
	if !ok || d.tooMany(len(d.loader.settings.Edge), it) {
		return
	}
	if rule, ok := d.parseRule(text, edgeVerdicts, selector.ForEdge, it.place); ok {
		d.loader.settings.Edge = append(d.loader.settings.Edge, estate.NewGateRule(rule, it.place))
	}
}

func (d *document) readDomain(n *yaml.Node) {
	domain := estate.Domain{Place: d.place(n)}
	if n.Kind == yaml.MappingNode {
		ok := d.mapping(n, "a domain", []string{"domain", "same-as"}, map[string]field{
			"domain": func(_, value *yaml.Node) {
				domain.Name, _ = d.text(value)
				domain.Place = d.place(value)
			},
			"same-as": func(_, value *yaml.Node) { domain.SameAs, _ = d.text(value) },
		})
		if ok && domain.Name == "" {
			d.fail(domain.Place, "the domain is missing, expected {domain: NAME, same-as: OTHER}", "")
			return
		}
	} else if domain.Name, _ = d.text(n); domain.Name == "" {
		return
	}
	d.loader.settings.Domains = append(d.loader.settings.Domains, domain)
}

// each reads a section: a list, or a table in a file of its own.
func (d *document) each(n *yaml.Node, what string, read func(*yaml.Node), table func(*table)) {
	n = d.resolve(n)
	if n.Kind != yaml.MappingNode {
		d.list(n, "a list of "+what+" or {table: FILE.csv}", read)
		return
	}
	var path string
	var place estate.Place
	ok := d.mapping(n, what, []string{"table"}, map[string]field{
		"table": func(_, value *yaml.Node) {
			path, _ = d.text(value)
			place = d.place(value)
		},
	})
	if path != "" {
		d.readTable(path, place, table)
	} else if ok && len(n.Content) == 0 {
		d.wrong(n, "a list of "+what+" or {table: FILE.csv}")
	}
}

func (d *document) readGroup(n *yaml.Node) {
	var s groupSpec
	names := make([]string, 0, len(groupFields)+2)
	fields := map[string]field{
		"members": func(_, value *yaml.Node) {
			d.list(value, "a list of members", func(n *yaml.Node) { d.readMember(&s, n) })
		},
		"access": func(_, value *yaml.Node) { d.readAccess(&s, value) },
		"accept": func(_, value *yaml.Node) {
			d.list(value, "a list of accepted hazards", func(n *yaml.Node) {
				s.group.Accepted = append(s.group.Accepted, d.readAcceptance(n, groupAcceptFields))
			})
		},
	}
	for _, f := range groupFields {
		names = append(names, f.Name)
		fields[f.Name] = func(_, value *yaml.Node) { d.readGroupField(&s, f, value) }
	}
	if d.mapping(n, "a group", append(names, "members", "access", "accept"), fields) {
		s.finish(d.loader, d.place(n))
	}
}

func (d *document) readGroupField(s *groupSpec, f groupField, value *yaml.Node) {
	s.give(f, d.place(value))
	if f.Form == estate.FormAttributes {
		d.readGroupAttributes(s, f, value)
		return
	}
	if f.Form.IsList() {
		d.list(value, "a list", func(n *yaml.Node) {
			if text, ok := d.text(n); ok {
				f.set(d.loader, s, item{text, d.place(n)})
			}
		})
		return
	}
	if text, ok := d.scalar(value, f.Form); ok {
		f.set(d.loader, s, item{text, d.place(value)})
	}
}

// scalar returns the text of one value that has to have a form.
func (d *document) scalar(n *yaml.Node, want estate.Form) (string, bool) {
	expected := map[estate.Form]string{estate.FormFlag: "true or false", estate.FormNumber: "a number"}[want]
	if expected == "" {
		return d.text(n)
	}
	if n.Kind != yaml.ScalarNode || d.what(n) != expected {
		d.wrong(n, expected)
		return "", false
	}
	return n.Value, true
}

func (d *document) readAccess(s *groupSpec, n *yaml.Node) {
	fields := map[string]field{}
	for i, name := range actionWords {
		fields[name] = func(_, value *yaml.Node) {
			if text, ok := d.text(value); ok {
				s.setAccess(d.loader, estate.Action(i), item{text, d.place(value)})
			}
		}
	}
	d.mapping(n, "access", actionWords, fields)
}

// readMember reads an entry of a group: an address, or a mapping.
func (d *document) readMember(s *groupSpec, n *yaml.Node) {
	r := relation{role: "member", place: d.place(n)}
	if n.Kind != yaml.MappingNode {
		if text, ok := d.text(n); ok {
			if r.address, ok = d.parseAddress(text, r.place); ok {
				s.relations = append(s.relations, r)
			}
		}
		return
	}
	d.readMemberMapping(s, n, r)
}

// readMemberMapping reads a member that is a mapping: of an address, or a rule.
func (d *document) readMemberMapping(s *groupSpec, n *yaml.Node, r relation) {
	var rule estate.MemberRule
	named, given, bad := 0, map[string]bool{}, false
	one := func(want estate.Form, use func(it item)) field {
		return func(key, value *yaml.Node) {
			given[key.Value] = true
			text, ok := d.scalar(value, want)
			if !ok {
				bad = true
				return
			}
			use(item{text, d.place(value)})
		}
	}
	fields := map[string]field{
		"address": one(estate.FormText, func(it item) {
			named++
			var ok bool
			r.place = it.place
			r.address, ok = d.parseAddress(it.text, it.place)
			bad = bad || !ok
		}),
		"where": one(estate.FormText, func(it item) {
			named++
			var ok bool
			rule.Filter, ok = d.parseFilter(it.text, it)
			bad = bad || !ok
		}),
		"everyone": one(estate.FormFlag, func(it item) {
			named++
			if !d.parseBool("everyone", it, true) {
				d.fail(it.place, "everyone is true or left out, not false", "")
				bad = true
			}
		}),
	}
	for _, s := range estate.MembershipSettings() {
		fields[s.Name] = one(s.Scalar(), func(it item) { d.setMembership(&r.membership, s.Name, it) })
	}
	ok := d.mapping(n, "a member", entryFields, fields)
	switch {
	case !ok || bad:
	case named != 1:
		d.fail(d.place(n), "expected exactly one of address, where and everyone in a member", "")
	case given["address"]:
		s.relations = append(s.relations, r)
	case given["since"] || given["paused"]:
		d.fail(d.place(n), "a member rule takes copy and invitations, not since or paused", "")
	default:
		rule.Membership, rule.Place = r.membership, d.place(n)
		r.rule = &rule
		s.relations = append(s.relations, r)
	}
}

func (d *document) readPerson(n *yaml.Node) {
	var s personSpec
	one := func(use func(it item)) field {
		return func(_, value *yaml.Node) {
			if text, ok := d.text(value); ok {
				use(item{text, d.place(value)})
			}
		}
	}
	fields := map[string]field{
		"address": one(func(it item) { s.setAddress(d.loader, it) }),
		"also": func(_, value *yaml.Node) {
			d.list(value, "a list of addresses", func(n *yaml.Node) {
				one(func(it item) { s.addAlso(d.loader, it) })(nil, n)
			})
		},
		"attributes": func(_, value *yaml.Node) {
			d.readAttributes(value, d.checkAttributeName, func(a estate.Attribute, _ estate.Place) {
				s.attributes = append(s.attributes, a)
			})
		},
	}
	for _, setting := range estate.PersonSettings() {
		fields[setting.Name] = one(func(it item) { s.set(d.loader, &setting, it) })
	}
	if d.mapping(n, "a person", personFields, fields) {
		s.finish(d.loader, d.place(n))
	}
}

// readGroupAttributes reads the attributes of a group.
func (d *document) readGroupAttributes(s *groupSpec, f groupField, n *yaml.Node) {
	check := func(name string, place estate.Place) bool {
		err := estate.CheckGroupAttribute(name)
		d.failValue(err, f.Name, item{name, place})
		return err == nil
	}
	d.readAttributes(n, check, func(a estate.Attribute, place estate.Place) {
		if strings.TrimSpace(a.Value) != "" {
			f.set(d.loader, s, item{a.String(), place})
		}
	})
}

// readAttributes reads a mapping with any keys to a value or a list of values, which
// all are text as written: those whose name check finds good are given to add.
func (d *document) readAttributes(
	n *yaml.Node,
	check func(name string, place estate.Place) bool,
	add func(estate.Attribute, estate.Place),
) {
	if n.Kind != yaml.MappingNode {
		d.wrong(n, "a mapping for attributes")
		return
	}
	if !d.spend(n) {
		return
	}
	seen := map[string]*yaml.Node{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := d.resolve(n.Content[i]), d.resolve(n.Content[i+1])
		if key.Kind != yaml.ScalarNode {
			d.wrong(key, "a key")
			continue
		}
		folded := selector.Fold(key.Value)
		if earlier := seen[folded]; earlier != nil {
			d.failTwice(key, earlier)
			continue
		}
		seen[folded] = key
		if !check(key.Value, d.place(key)) {
			continue
		}
		values := []*yaml.Node{value}
		if value.Kind == yaml.SequenceNode {
			if !d.spend(value) {
				return
			}
			values = value.Content
		}
		for _, v := range values {
			v = d.resolve(v)
			switch {
			case v.Kind != yaml.ScalarNode:
				d.wrong(v, "text or a list of texts for an attribute")
			case d.what(v) != "nothing":
				add(estate.Attribute{Name: key.Value, Value: v.Value}, d.place(v))
			}
		}
	}
}

// readMembership reads a membership that stands on its own.
func (d *document) readMembership(n *yaml.Node) {
	var group, member item
	var m estate.Membership
	one := func(want estate.Form, use func(it item)) field {
		return func(_, value *yaml.Node) {
			if text, ok := d.scalar(value, want); ok {
				use(item{text, d.place(value)})
			}
		}
	}
	fields := map[string]field{
		"group":   one(estate.FormText, func(it item) { group = it }),
		"address": one(estate.FormText, func(it item) { member = it }),
	}
	for _, s := range estate.MembershipSettings() {
		fields[s.Name] = one(s.Scalar(), func(it item) { d.setMembership(&m, s.Name, it) })
	}
	if !d.mapping(n, "a membership", membershipFields, fields) {
		return
	}
	if group.text == "" || member.text == "" {
		d.fail(d.place(n), "expected group and address in a membership", "")
		return
	}
	d.addMembership(group, member, m)
}
