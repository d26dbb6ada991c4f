package directory

import (
	"slices"
	"strconv"
	"strings"
	"unicode"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
)

// copyWords are at hand, as there are many memberships.
var copyWords = estate.CopyWords()

// references are what an attribute says about the one it means.
type references struct {
	role  string // member, owner, moderator
	by    string
	texts []string
	what  estate.Membership // of members
}

// A Collector turns entries into a Directory.
type Collector struct {
	d      *Directory
	domain string              // for groups without an address; "" for none
	normal func(string) string // the canonical form of an identifier

	byID  map[string]who
	byKey map[string]int // people

	ruleOf  map[string]int // by the classes of an entry
	classes []byte         // of the entry at hand

	rows     map[string]int // groups of several records, by part of the map and value
	coverage *coverage
	tabular  bool     // the source is a table, or records that are alike
	columns  []string // of the table
	unknowns []unknownWord
	problems []error
}

// NewCollector returns a Collector for a source. domain is what {domain} in a
// map stands for. normal gives the canonical form of an identifier; nil: as it is.
func NewCollector(name, file string, m *Map, domain string, normal func(string) string) *Collector {
	if normal == nil {
		normal = func(s string) string { return s }
	}
	return &Collector{
		d:      &Directory{Name: name, File: file, Map: m},
		domain: domain,
		normal: normal,
		byID:   map[string]who{},
		byKey:  map[string]int{},
		ruleOf: map[string]int{},
		rows:   map[string]int{},

		coverage: newCoverage(m),
	}
}

// Directory is what has been collected so far, for remarks.
func (c *Collector) Directory() *Directory { return c.d }

// Add takes an entry. It keeps nothing of it but texts.
func (c *Collector) Add(e *Entry) {
	rule := c.rule(e)
	c.coverage.note(e, rule)
	switch {
	case rule < 0:
	case rule < len(c.d.Map.Groups):
		c.addGroup(e, &c.d.Map.Groups[rule], rule)
	default:
		c.addPerson(e, &c.d.Map.People[rule-len(c.d.Map.Groups)], rule-len(c.d.Map.Groups))
	}
}

// rule returns the first part of the map that an entry matches: of groups, then
// of people, or -1. Where only classes are asked for it remembers the answers.
func (c *Collector) rule(e *Entry) int {
	if !c.d.Map.classesOnly {
		return c.findRule(e)
	}
	c.classes = c.classes[:0]
	for i := range e.Attributes {
		if a := &e.Attributes[i]; a.is("objectClass") {
			for _, class := range a.Values {
				c.classes = append(append(c.classes, class...), 0)
			}
		}
	}
	rule, known := c.ruleOf[string(c.classes)]
	if !known {
		rule = c.findRule(e)
		if len(c.ruleOf) < 10_000 {
			c.ruleOf[string(c.classes)] = rule
		}
	}
	return rule
}

func (c *Collector) findRule(e *Entry) int {
	for i := range c.d.Map.Groups {
		if c.d.Map.Groups[i].Records == e.Records && c.d.Map.Groups[i].Match.matches(e) {
			return i
		}
	}
	for i := range c.d.Map.People {
		if c.d.Map.People[i].Records == e.Records && c.d.Map.People[i].Match.matches(e) {
			return len(c.d.Map.Groups) + i
		}
	}
	return -1
}

// first returns the first value of some attributes, or a text filled in.
func (c *Collector) first(e *Entry, names Names) string {
	for _, name := range names {
		if strings.Contains(name, "{") {
			if value := c.fill(e, name); value != "" {
				return value
			}
			continue
		}
		for i := range e.Attributes {
			if a := &e.Attributes[i]; a.is(name) {
				for _, value := range a.Values {
					if value = strings.TrimSpace(value); value != "" {
						return value
					}
				}
			}
		}
	}
	return ""
}

// fill puts attributes into a text, or returns "" where one is missing. In an
// address blanks become hyphens.
func (c *Collector) fill(e *Entry, text string) string {
	var b strings.Builder
	isAddress := strings.Contains(text, "@")
	for rest := text; rest != ""; {
		before, after, ok := strings.Cut(rest, "{")
		b.WriteString(before)
		if !ok {
			break
		}
		name, tail, _ := strings.Cut(after, "}")
		rest = tail
		value := c.domain
		if name != "domain" {
			value = c.first(e, Names{name})
		}
		if value == "" {
			return ""
		}
		if isAddress {
			value = slug(value)
		}
		b.WriteString(value)
	}
	return b.String()
}

// slug returns a text as the part of an address.
func slug(text string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(text) {
		switch {
		case r < 0x80 && (unicode.IsLetter(r) || unicode.IsDigit(r) || r == '.' || r == '_' || r == '-'):
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	return strings.Trim(b.String(), "-.")
}

// addresses returns the addresses in some attributes, the first of them apart, and
// the keys of all. What is none is noted.
func (c *Collector) addresses(e *Entry, names Names, also Names) (main string, others, seen []string) {
	take := func(text string) {
		text = strings.TrimSpace(text)
		// proxy forms such as SMTP:a@b and mailto:a@b
		if i := strings.IndexByte(text, ':'); i > 0 && i < 8 && !strings.Contains(text[:i], "@") {
			if !strings.EqualFold(text[:i], "smtp") && !strings.EqualFold(text[:i], "mailto") {
				return
			}
			text = text[i+1:]
		}
		if text == "" {
			return
		}
		a, err := address.Parse(text)
		if err != nil {
			c.d.Remark(e.Line, true, err.Error())
			return
		}
		if slices.Contains(seen, a.Key()) {
			return
		}
		seen = append(seen, a.Key())
		if main == "" {
			main = a.String()
		} else {
			others = append(others, a.String())
		}
	}
	for _, name := range names {
		if main != "" {
			break
		}
		if strings.Contains(name, "{") {
			take(c.fill(e, name))
			continue
		}
		for _, value := range e.values(name) {
			if name == "displayName" || name == "userName" || name == "name" || name == "title" {
				if _, err := address.Parse(value); err != nil {
					continue // a name that happens to be no address
				}
			}
			take(value)
		}
	}
	if main != "" {
		for _, name := range also {
			for _, value := range e.values(name) {
				c.d.AlsoApart = true
				for _, one := range c.addressItems(value) {
					take(one)
				}
			}
		}
	}
	return main, others, seen
}

// items returns the items of a value that is a list in a cell of a table.
func (c *Collector) items(value string) []string {
	if !strings.Contains(value, ";") {
		return []string{value}
	}
	return estatefile.SplitList(value)
}

// addressItems returns the addresses of a cell: apart by semicolons or line breaks, or by commas
// where an address stands on both sides.
func (c *Collector) addressItems(value string) (list []string) {
	for line := range strings.FieldsFuncSeq(value, func(r rune) bool { return r == '\n' || r == '\r' }) {
		for _, item := range c.items(line) {
			parts := strings.Split(item, ",")
			if slices.ContainsFunc(parts, func(part string) bool { return strings.Count(part, "@") != 1 }) {
				parts = []string{item}
			}
			for _, part := range parts {
				if part = strings.TrimSpace(part); part != "" {
					list = append(list, part)
				}
			}
		}
	}
	return list
}

// Identify has the groups keep what they name as it stands, for IdentifiersOf.
func (c *Collector) Identify() { c.d.identify = true }

func (c *Collector) addPerson(e *Entry, m *PeopleMap, rule int) {
	if m.ID != nil {
		e.ID = c.first(e, m.ID)
	}
	p := Person{Line: e.Line, ID: e.ID, rule: rule}
	p.Address, p.Also, p.keys = c.addresses(e, m.Address, m.Also)
	if p.Address == "" {
		c.d.Remark(e.Line, false, called(e, c.first(e, m.Name))+" has no address and is left out")
		return
	}
	p.Name = c.first(e, m.Name)
	if p.Name == p.Address {
		p.Name = ""
	}
	p.key = c.first(e, m.Key)
	if m.Mailbox != nil {
		value := c.first(e, Names{m.Mailbox.From})
		if p.Mailbox = m.Mailbox.state(value); value != "" && p.Mailbox == "" {
			c.d.RemarkUnknown(e.Line, m.Mailbox.From+" of "+p.Address+" is "+strconv.Quote(value)+
				", which the map does not know")
		}
	}
	p.Attributes = make([]estate.Attribute, 0, len(m.attributes))
	for _, attribute := range m.attributes {
		for i := range e.Attributes {
			if a := &e.Attributes[i]; a.is(attribute.Value) {
				for _, v := range a.Values {
					if v = strings.TrimSpace(v); v != "" {
						p.Attributes = append(p.Attributes, estate.Attribute{Name: attribute.Name, Value: v})
						if v == p.key && slices.Contains(m.Key, attribute.Value) {
							p.identity = p.Attributes[len(p.Attributes)-1]
						}
					}
				}
			}
		}
	}
	if m.Others {
		p.Attributes = append(p.Attributes, c.otherAttributes(e, m)...)
	}
	for _, r := range m.MemberOf {
		p.memberOf = append(p.memberOf, newReferences("member", r, e.values(r.From)))
	}
	if e.ID != "" {
		c.identify(e, person(len(c.d.People)))
	}
	if p.key != "" {
		c.byKey[strings.ToLower(p.key)] = len(c.d.People)
	}
	c.d.People = append(c.d.People, p)
}

// identify notes the identifier of an entry, as it is and in canonical form.
func (c *Collector) identify(e *Entry, at who) {
	id := c.normal(e.ID)
	if _, taken := c.byID[id]; taken {
		c.d.Remark(e.Line, true, "the identifier "+e.ID+" is there already")
		return
	}
	c.byID[id] = at
	if id != e.ID {
		c.byID[e.ID] = at
	}
}

// called names an entry for a remark.
func called(e *Entry, name string) string {
	switch {
	case name != "":
		return name
	case e.ID != "":
		return e.ID
	}
	return "this"
}

// otherAttributes returns the attributes that no field takes.
func (c *Collector) otherAttributes(e *Entry, m *PeopleMap) []estate.Attribute {
	taken := slices.Concat(m.Address, m.Also, m.Name, m.Key)
	if m.Mailbox != nil {
		taken = append(taken, m.Mailbox.From)
	}
	var attributes []estate.Attribute
	for _, a := range e.Attributes {
		if slices.ContainsFunc(taken, func(name string) bool { return strings.EqualFold(name, a.Name) }) ||
			a.Name == "" {
			continue
		}
		name := a.Name
		if folded := selector.Fold(name); folded == "address" || folded == "name" {
			name += "-2"
		}
		for _, value := range a.Values {
			for _, one := range c.items(value) {
				if one = strings.TrimSpace(one); one != "" {
					attributes = append(attributes, estate.Attribute{Name: name, Value: one})
				}
			}
		}
	}
	return attributes
}

// state returns the word of the estate that a value means.
func (m *MailboxMap) state(value string) string {
	for i, values := range [][]string{m.Open, m.Full, m.Closed, m.None} {
		if slices.ContainsFunc(values, func(v string) bool { return strings.EqualFold(v, value) }) {
			return estate.MailboxWords()[i]
		}
	}
	if value != "" && len(m.Open) == 0 {
		return "open"
	}
	return ""
}
