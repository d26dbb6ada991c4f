package draft

import (
	"fmt"
	"slices"
	"strings"
)

// Map drafts a map for what was seen of a source, with what it is made of as comments.
// encoding is that of a table, if it is none that finds itself; sheet that of a workbook
// which was chosen, or "".
func Map(name, encoding, sheet string, lists []*List) (string, error) {
	d := &drafter{}
	d.line(0, "# A map for %s, drafted from %s. Read it: what is marked as guessed is a guess.", name, recordsOf(lists))
	d.line(0, "yorvet-map: 1")
	if encoding != "" {
		d.line(0, "encoding: %s # guessed", encoding)
	}
	if sheet != "" {
		d.line(0, "sheet: %s", quote(sheet))
	}
	var groups, people []string
	for _, l := range lists {
		if text, isGroups := d.list(l); text == "" {
			continue
		} else if isGroups {
			groups = append(groups, text)
		} else {
			people = append(people, text)
		}
	}
	if len(groups)+len(people) == 0 {
		return "", fmt.Errorf("%s: no column has an address in each of its rows, so there is nothing to go by", name)
	}
	for _, part := range []struct {
		name  string
		texts []string
	}{{"people", people}, {"groups", groups}} {
		if len(part.texts) > 0 {
			d.line(0, "%s:", part.name)
			d.b.WriteString(strings.Join(part.texts, ""))
		}
	}
	return d.b.String(), nil
}

func recordsOf(lists []*List) string {
	n := 0
	for _, l := range lists {
		n += l.Records
	}
	if n == 1 {
		return "one record"
	}
	return fmt.Sprintf("%d records", n)
}

// drafter writes a map.
type drafter struct{ b strings.Builder }

func (d *drafter) line(indent int, format string, args ...any) {
	d.b.WriteString(strings.Repeat("  ", indent))
	fmt.Fprintf(&d.b, format, args...)
	d.b.WriteByte('\n')
}

// part is a part of a map that is being drafted.
type part struct {
	drafter
	l    *List
	left []*Column // that nothing has taken yet
}

// take takes the first column that is as asked for, or nil.
func (p *part) take(is func(*Column) bool) *Column {
	i := slices.IndexFunc(p.left, is)
	if i < 0 {
		return nil
	}
	c := p.left[i]
	p.left = slices.Delete(slices.Clone(p.left), i, i+1)
	return c
}

// list drafts the part for a list. text is "" where nothing in it has an address.
func (d *drafter) list(l *List) (text string, isGroups bool) {
	p := &part{l: l, left: slices.Clone(l.Columns)}
	group, member := l.memberships()
	isGroups = member != nil || l.isGroups()
	id := group
	if id == nil {
		if id = l.address(isGroups); id == nil {
			return "", false
		}
	}
	p.take(func(c *Column) bool { return c == id })
	p.line(1, "- # %s%s", recordsOf([]*List{l}), at(l.Path))
	if l.Path != "" {
		p.line(2, "records: %s", quote(l.Path))
	}
	if id.Filled < l.Records {
		p.line(2, "match: %s # %d of %d have one", quote("("+column(id.Name)+"=*)"), id.Filled, l.Records)
	}
	if wrong := id.mistyped(); wrong != "" {
		p.line(2, "# %s: correct the source", wrong)
	}
	if isGroups {
		if member != nil {
			p.line(2, "rows-by: %s # %d groups, by their rows", quote(id.Name), len(id.values))
		}
		p.group(id, member)
	} else {
		p.person(id)
	}
	return p.b.String(), isGroups
}

func at(path string) string {
	if path == "" {
		return ""
	}
	return " at " + path
}

// isGroups reports whether the records of a list are groups rather than people.
func (l *List) isGroups() bool {
	if slices.ContainsFunc(l.Inner, func(inner *List) bool {
		return inner.address(false) != nil || inner.addressOfMember() != nil &&
			has(inner.Path, "member", "owner", "keeper", "moderator", "manager", "subscriber", "recipient", "reader")
	}) {
		return true
	}
	return slices.ContainsFunc(l.Columns, func(c *Column) bool {
		return c.isAddresses() && c.called("member", "owner", "keeper", "moderator", "manager", "subscriber", "recipient", "reader") ||
			c.isAddress() && c.called("group", "list") || c.isWords() && c.called("post", "moderation")
	})
}

// address returns the column with the address of a record, or nil.
func (l *List) address(ofGroups bool) *Column {
	var best *Column
	for _, c := range l.Columns {
		if !c.isAddress() || c.Filled*2 < l.Records || !c.many && len(c.values) < c.Filled {
			continue
		}
		if best == nil || !best.called("mail", "email", "address", "group") && c.called("mail", "email", "address") ||
			ofGroups && c.called("group", "list") && !best.called("group", "list") {
			best = c
		}
	}
	return best
}

// memberships returns the columns with the groups and the members of a list of memberships,
// where the same group is in many rows, or nil.
func (l *List) memberships() (group, member *Column) {
	var singles []*Column
	for _, c := range l.Columns {
		if c.isAddress() {
			singles = append(singles, c)
		}
	}
	if len(singles) < 2 {
		return nil, nil
	}
	for _, c := range singles {
		if c.called("group", "list") && c.Filled > c.distinct() && c.Filled == l.Records {
			group = c
		}
	}
	for _, c := range singles {
		if c != group && c.called("member", "user", "subscriber", "person", "recipient", "address", "mail", "email") &&
			member == nil {
			member = c
		}
	}
	if group == nil || member == nil {
		return nil, nil
	}
	return group, member
}

// person drafts a part for people.
func (p *part) person(id *Column) {
	p.line(2, "address: %s", quote(id.Name))
	if c := p.take(func(c *Column) bool {
		return c.called("alias", "also", "other") && (c.isAddress() ||
			c.isAddresses())
	}); c != nil {
		p.line(2, "also: %s", quote(c.Name))
	}
	p.names("name")
	if c := p.take(func(c *Column) bool {
		return c.isWords() && c.called("status", "state", "active", "enabled", "suspended")
	}); c != nil {
		var open, closed []string
		for _, w := range c.words() {
			if isClosed(c, w) {
				closed = append(closed, quote(w))
			} else {
				open = append(open, quote(w))
			}
		}
		p.line(2, "mailbox: {from: %s, open: [%s], closed: [%s]} # guessed: %s", quote(c.Name), strings.Join(open, ", "),
			strings.Join(closed, ", "), c.summary())
	}
	p.rest(func(name string) bool { return name != "address" && name != "name" })
}

// isClosed guesses whether a word says that an account is not in use.
func isClosed(c *Column, word string) bool {
	if has(word, "no", "false", "n", "0", "off") {
		return !c.called("suspended", "disabled")
	}
	if has(word, "yes", "true", "y", "1", "on") {
		return c.called("suspended", "disabled")
	}
	return has(word, "inactive", "suspend", "disabled", "closed", "left", "deleted", "archived", "gone", "terminated")
}

// names drafts what somebody or something is called.
func (p *part) names(key string) {
	var names []string
	if c := p.take(func(c *Column) bool { return c.called("display", "full") && c.called("name") }); c != nil {
		names = append(names, quote(c.Name))
	}
	first := p.take(func(c *Column) bool { return c.called("first", "given", "forename") })
	last := p.take(func(c *Column) bool { return c.called("last", "family", "surname") })
	if first != nil && last != nil {
		names = append(names, quote("{"+first.Name+"} {"+last.Name+"}"))
	}
	if len(names) == 0 {
		if c := p.take(func(c *Column) bool {
			return c.called("name", "title", "subject") && (!c.isWords() || c.distinct() == c.Filled)
		}); c != nil {
			names = append(names, quote(c.Name))
		}
	}
	if len(names) > 0 {
		p.line(2, "%s: [%s]", key, strings.Join(names, ", "))
	}
}

// rest drafts attributes for all columns that nothing has taken.
// free reports whether an attribute may be called so.
func (p *part) rest(free func(name string) bool) {
	if len(p.left) == 0 {
		return
	}
	p.line(2, "attributes: # everything else; take out what nobody asks about")
	seen := map[string]bool{}
	for _, c := range p.left {
		name := strings.Join(wordsOf(c.Name), "-")
		for name == "" || seen[name] || !free(name) {
			name += "-2"
		}
		seen[name] = true
		p.line(3, "%s: %s # %s", quote(name), quote(c.Name), c.summary())
	}
}

// summary says which values a column has.
func (c *Column) summary() string {
	if layout, ok := c.isDay(); ok {
		return "days, " + layout
	}
	if c.isAddress() || c.isAddresses() {
		text := fmt.Sprintf("addresses in %d of the records", c.Filled)
		if wrong := c.mistyped(); wrong != "" {
			text += "; " + wrong
		}
		return text
	}
	const most = 4
	var said []string
	for i, w := range c.words() {
		if i == most {
			break
		}
		said = append(said, fmt.Sprintf("%s (%d)", shortened(w), c.values[w]))
	}
	text := strings.Join(said, ", ")
	if more := c.distinct() - len(said); c.many {
		text += " and many more"
	} else if more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func shortened(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if r := []rune(text); len(r) > 24 {
		return string(r[:24]) + "..."
	}
	return text
}

// column escapes the name of a column for a filter.
func column(name string) string {
	return strings.NewReplacer(`\`, `\5c`, "=", `\3d`, "<", `\3c`, ">", `\3e`, "(", `\28`, ")", `\29`, "*",
		`\2a`).Replace(name)
}

// quote writes a text as a scalar of YAML, between single quotes.
func quote(text string) string {
	for _, r := range text {
		if r < 0x20 || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xfeff {
			return fmt.Sprintf("%q", text) // escapes that YAML knows, too
		}
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}
