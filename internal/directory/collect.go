package directory

import (
	"slices"
	"strings"
	"unicode"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
)

// reference is what an attribute says about whom it means.
type reference struct {
	role string // member, owner, moderator
	by   string
	text string
	copy estate.Copy
}

// A Collector turns entries into a Directory.
type Collector struct {
	d      *Directory
	domain string              // for groups without an address; "" for none
	normal func(string) string // the canonical form of an identifier

	byID  map[string]int // people from 0 up, groups from -1 down
	byKey map[string]int // people
}

// NewCollector returns a Collector for a source. domain is what {domain} in a
// map stands for. normal gives the canonical form of an identifier; nil: as it is.
func NewCollector(name, file string, m *Map, domain string, normal func(string) string) *Collector {
	if normal == nil {
		normal = func(s string) string { return s }
	}
	return &Collector{d: &Directory{Name: name, File: file, Map: m}, domain: domain, normal: normal, byID: map[string]int{}, byKey: map[string]int{}}
}

// Directory is what has been collected so far, for remarks.
func (c *Collector) Directory() *Directory { return c.d }

// Add takes an entry. It keeps nothing of it but texts.
func (c *Collector) Add(e *Entry) {
	for i := range c.d.Map.Groups {
		if g := &c.d.Map.Groups[i]; g.Match.matches(e) {
			c.addGroup(e, g, i)
			return
		}
	}
	for i := range c.d.Map.People {
		if p := &c.d.Map.People[i]; p.Match.matches(e) {
			c.addPerson(e, p)
			return
		}
	}
}

// first returns the first value of some attributes, or a text filled in.
func (c *Collector) first(e *Entry, names Names) string {
	value := ""
	for _, name := range names {
		if strings.Contains(name, "{") {
			value = c.fill(e, name)
		} else {
			e.each(name, func(v string) {
				if value == "" {
					value = strings.TrimSpace(v)
				}
			})
		}
		if value != "" {
			return value
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

// addresses returns the addresses in some attributes, the first of them apart.
// What is none is noted.
func (c *Collector) addresses(e *Entry, names Names, also Names) (main string, others []string) {
	seen := map[string]bool{}
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
		if seen[a.Key()] {
			return
		}
		seen[a.Key()] = true
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
				for _, one := range c.items(value) {
					take(one)
				}
			}
		}
	}
	return main, others
}

// items returns the items of a value that is a list in a cell of a table.
func (c *Collector) items(value string) []string {
	if !strings.Contains(value, ";") {
		return []string{value}
	}
	return estatefile.SplitList(value)
}

func (c *Collector) addPerson(e *Entry, m *PeopleMap) {
	p := Person{Line: e.Line, ID: e.ID}
	p.Address, p.Also = c.addresses(e, m.Address, m.Also)
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
		p.Mailbox = m.Mailbox.state(c.first(e, Names{m.Mailbox.From}))
	}
	for _, fact := range sortedKeys(m.Facts) {
		e.each(m.Facts[fact], func(v string) {
			if v = strings.TrimSpace(v); v != "" {
				p.Facts = append(p.Facts, estate.Fact{Attribute: fact, Value: v})
			}
		})
	}
	if m.Others {
		p.Facts = append(p.Facts, c.otherFacts(e, m)...)
	}
	for _, r := range m.MemberOf {
		for _, text := range e.values(r.From) {
			p.memberOf = append(p.memberOf, newReference("member", r, text))
		}
	}
	if e.ID != "" {
		c.identify(e, len(c.d.People))
	}
	if p.key != "" {
		c.byKey[strings.ToLower(p.key)] = len(c.d.People)
	}
	c.d.People = append(c.d.People, p)
}

// identify notes the identifier of an entry, as it is and in canonical form.
func (c *Collector) identify(e *Entry, at int) {
	id := c.normal(e.ID)
	if _, taken := c.byID[id]; taken {
		c.d.Remark(e.Line, true, "the identifier "+e.ID+" is there already")
		return
	}
	c.byID[id], c.byID[e.ID] = at, at
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

// otherFacts returns the attributes that no field takes.
func (c *Collector) otherFacts(e *Entry, m *PeopleMap) []estate.Fact {
	taken := slices.Concat(m.Address, m.Also, m.Name, m.Key)
	if m.Mailbox != nil {
		taken = append(taken, m.Mailbox.From)
	}
	var facts []estate.Fact
	for _, a := range e.Attributes {
		if slices.ContainsFunc(taken, func(name string) bool { return strings.EqualFold(name, a.Name) }) || a.Name == "" {
			continue
		}
		name := a.Name
		if folded := selector.Fold(name); folded == "address" || folded == "name" {
			name += "-2"
		}
		for _, value := range a.Values {
			for _, one := range c.items(value) {
				if one = strings.TrimSpace(one); one != "" {
					facts = append(facts, estate.Fact{Attribute: name, Value: one})
				}
			}
		}
	}
	return facts
}

// state returns the word of the estate that a value means.
func (m *MailboxMap) state(value string) string {
	for i, values := range [][]string{m.Open, m.Full, m.Closed, m.None} {
		if slices.ContainsFunc(values, func(v string) bool { return strings.EqualFold(v, value) }) {
			return estate.MailboxWords[i]
		}
	}
	if value != "" && len(m.Open) == 0 {
		return "open"
	}
	return ""
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func newReference(role string, m ReferenceMap, text string) reference {
	copy, _ := estate.WordIndex[estate.Copy](estate.CopyWords, m.Copy)
	by := m.By
	if by == "" {
		by = "id"
	}
	return reference{role, by, text, copy}
}

func (c *Collector) addGroup(e *Entry, m *GroupsMap, rule int) {
	g := Group{Line: e.Line, ID: e.ID, Rule: rule}
	g.Address, g.Also = c.addresses(e, m.Address, m.Also)
	if g.Address == "" {
		text := called(e, c.first(e, m.Title)) + " has no address and is left out"
		if c.domain == "" && slices.ContainsFunc(m.Address, func(s string) bool { return strings.Contains(s, "{domain}") }) {
			text += "; name a domain to call it NAME@DOMAIN"
		}
		c.d.Remark(e.Line, true, text)
		return
	}
	set := func(name, text string, list []string) {
		if action, ok := strings.CutPrefix(name, "access."); ok {
			g.Access = append(g.Access, estatefile.Field{Name: action, Text: text})
		} else {
			g.Settings = append(g.Settings, estatefile.Field{Name: name, Text: text, List: list})
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
	for _, action := range estate.ActionWords {
		if value := c.first(e, Names{"access." + action}); value != "" && len(m.Settings) > 0 {
			set("access."+action, value, nil)
		}
	}
	for _, name := range sortedKeys(m.Set) {
		c.setting(set, name, m.Set[name], false)
	}
	for _, when := range m.SetWhen {
		if when.Match.matches(e) {
			for _, name := range sortedKeys(when.Set) {
				c.setting(set, name, when.Set[name], false)
			}
		}
	}
	g.Owners, g.Mods = c.refer(e, &g, "owner", m.Owners), c.refer(e, &g, "moderator", m.Moderators)
	if members := c.refer(e, &g, "member", m.Members); members != nil {
		g.Members = []estatefile.Member{}
	}
	for _, name := range m.Rules {
		e.each(name, func(url string) { c.addRule(e, &g, url) })
	}
	if e.ID != "" {
		c.identify(e, -1-len(c.d.Groups))
	}
	c.d.Groups = append(c.d.Groups, g)
}

// setting makes a setting of texts; split says that lists stand in one of them.
func (c *Collector) setting(set func(name, text string, list []string), name string, values Names, split bool) {
	if !slices.Contains(estatefile.ListSettings(), name) {
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
	for _, m := range maps {
		carried = carried || e.has(m.From)
		e.each(m.From, func(text string) {
			if m.By == "address" {
				for _, one := range c.items(text) {
					g.references = append(g.references, newReference(role, m, one))
				}
				return
			}
			g.references = append(g.references, newReference(role, m, text))
		})
	}
	// A table without a column for them says nothing of them; an LDAP entry
	// without a value says that there are none.
	if !carried && maps[0].By == "address" {
		return nil
	}
	return []string{}
}

// Finish links what refers to each other and returns the directory.
func (c *Collector) Finish() *Directory {
	for i := range c.d.Groups {
		g := &c.d.Groups[i]
		if n := len(g.references); n > 0 && g.Members != nil {
			g.Members = slices.Grow(g.Members, n)
		}
		for _, r := range g.references {
			c.link(g, r)
		}
		g.references = nil
	}
	for i := range c.d.People {
		p := &c.d.People[i]
		for _, r := range p.memberOf {
			if at, ok := c.byID[c.normal(r.text)]; ok && at < 0 {
				g := &c.d.Groups[-1-at]
				g.Members = append(g.Members, estatefile.Member{Address: p.Address, Membership: estate.Membership{Copy: r.copy}})
			} else {
				c.d.Remark(p.Line, false, "the group "+r.text+", of which "+p.Address+" is a member, is not in this source")
			}
		}
		p.memberOf = nil
	}
	return c.d
}

// link resolves one reference of a group.
func (c *Collector) link(g *Group, r reference) {
	text, ok := c.target(r)
	if !ok {
		if r.text != "" {
			c.d.Remark(g.Line, true, "the "+r.role+" "+r.text+" of "+g.Address+" is not in this source")
		}
		return
	}
	switch r.role {
	case "owner":
		g.Owners = append(g.Owners, text)
	case "moderator":
		g.Mods = append(g.Mods, text)
	default:
		g.Members = append(g.Members, memberOf(text, r.copy))
	}
}

// memberOf returns a member that a text names: an address, or as in a table
// everyone, or where and a filter.
func memberOf(text string, copy estate.Copy) estatefile.Member {
	m := estatefile.Member{Membership: estate.Membership{Copy: copy}}
	if filter, ok := strings.CutPrefix(text, "where "); ok {
		m.Where = filter
	} else if text == "everyone" {
		m.Everyone = true
	} else {
		m.Address = text
	}
	return m
}

// target returns the address that a reference means.
func (c *Collector) target(r reference) (string, bool) {
	switch r.by {
	case "address":
		text := strings.TrimSpace(r.text)
		if text == "everyone" || strings.HasPrefix(text, "where ") {
			return text, r.role == "member"
		}
		a, err := address.Parse(text)
		return a.String(), err == nil
	case "key":
		at, ok := c.byKey[strings.ToLower(strings.TrimSpace(r.text))]
		if ok {
			return c.d.People[at].Address, true
		}
		return "", false
	}
	at, ok := c.byID[r.text]
	if !ok {
		at, ok = c.byID[c.normal(r.text)]
	}
	switch {
	case ok && at >= 0:
		return c.d.People[at].Address, true
	case ok:
		return c.d.Groups[-1-at].Address, true
	}
	// Some say mailto:a@b, or an address, where an identifier belongs.
	text := r.text
	if len(text) > 7 && strings.EqualFold(text[:7], "mailto:") {
		text = text[7:]
	}
	if a, err := address.Parse(text); err == nil {
		return a.String(), true
	}
	return "", false
}
