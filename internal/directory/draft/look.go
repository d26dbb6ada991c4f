// Package draft looks at the columns and values of a table or of JSON, and drafts a map to
// start from: what is sure, what was guessed, and which values there are.
package draft

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/directory"
)

// A List is a table, or a list of objects in JSON.
type List struct {
	Path    string // of the list, "" for a table or the document itself
	Columns []*Column
	Records int
	Inner   []*List // lists of objects within a record; Path is from the record
}

// A Column is what was seen of a column.
type Column struct {
	Name   string
	Filled int // records with a value

	values    map[string]int // up to mostValues of them
	many      bool           // there are more
	addresses int            // values that are one address
	lists     int            // values that are several addresses
	domains   int            // values that are domains alone
	others    int            // values that are none of these
	other     string         // the first of them
	otherAt   int            // its line, or its record where lines are not known
	layouts   []string       // formats of days that all values have
	texts     int            // values that are longer than a few words
}

// mostValues is how many different values of a column are kept.
const mostValues = 40

// Look looks at a record.
func (l *List) Look(e *directory.Entry) {
	l.Records++
	seen := map[string]bool{}
	for i := range e.Attributes {
		a := &e.Attributes[i]
		if l.isInner(a.Name, e) {
			continue
		}
		c := l.column(a.Name)
		if !seen[a.Name] {
			seen[a.Name] = true
			c.Filled++
		}
		others := c.others
		c.look(a.Values)
		if others == 0 && c.others > 0 {
			c.otherAt = cmp.Or(e.Line, l.Records)
		}
	}
	for path, list := range e.Nested {
		inner := l.inner(path)
		for _, one := range list {
			inner.Look(one)
		}
	}
}

// isInner reports whether an attribute is one of a record within the record.
func (l *List) isInner(name string, e *directory.Entry) bool {
	for path := range e.Nested {
		if strings.HasPrefix(name, path+".") {
			return true
		}
	}
	return false
}

func (l *List) inner(path string) *List {
	i := slices.IndexFunc(l.Inner, func(one *List) bool { return one.Path == path })
	if i < 0 {
		l.Inner = append(l.Inner, &List{Path: path})
		i = len(l.Inner) - 1
	}
	return l.Inner[i]
}

func (l *List) column(name string) *Column {
	i := slices.IndexFunc(l.Columns, func(c *Column) bool { return c.Name == name })
	if i < 0 {
		l.Columns = append(l.Columns, &Column{Name: name, values: map[string]int{}, layouts: slices.Clone(layouts)})
		i = len(l.Columns) - 1
	}
	return l.Columns[i]
}

// layouts are formats of days, as a map says them.
var layouts = []string{"YYYY-MM-DD", "DD.MM.YYYY", "MM/DD/YYYY", "DD/MM/YYYY", "DD-MM-YYYY", "YYYY/MM/DD", "D.M.YYYY",
	"M/D/YYYY"}

var layoutWords = strings.NewReplacer("YYYY", "2006", "MM", "01", "DD", "02", "M", "1", "D", "2")

func (c *Column) look(values []string) {
	if len(values) > 1 {
		if c.addressesIn(strings.Join(values, ";")) != 0 {
			c.lists++
		}
	}
	for _, value := range values {
		value = strings.TrimSpace(value)
		if _, known := c.values[value]; known || len(c.values) < mostValues {
			c.values[value]++
		} else {
			c.many = true
		}
		switch n := c.addressesIn(value); {
		case n == 1 && len(values) == 1:
			c.addresses++
		case n > 1:
			c.lists++
		case n < 0:
			c.domains++
		case n == 0 && value != "":
			if c.others++; c.others == 1 {
				c.other = value
			}
		}
		if len(strings.Fields(value)) > 6 {
			c.texts++
		}
		day, _, _ := strings.Cut(strings.Replace(value, "T", " ", 1), " ")
		c.layouts = slices.DeleteFunc(c.layouts, func(layout string) bool {
			_, err := time.Parse(layoutWords.Replace(layout), day)
			return err != nil
		})
	}
}

// addressesIn returns how many addresses and domains a value consists of, 0 if it has
// something else, and less than 0 if it has domains alone.
func (c *Column) addressesIn(value string) int {
	parts := strings.FieldsFunc(value, func(r rune) bool { return strings.ContainsRune(";,|\n\t ", r) })
	mails := 0
	for _, part := range parts {
		if strings.HasPrefix(part, "@") && strings.Contains(part, ".") {
			continue
		}
		if !strings.Contains(part, "@") {
			if isDomain.MatchString(part) {
				continue
			}
			return 0
		}
		if _, err := address.Parse(part); err != nil {
			return 0
		}
		mails++
	}
	if mails == 0 {
		return -len(parts)
	}
	return len(parts)
}

var isDomain = regexp.MustCompile(`^[a-z0-9-]+(\.[a-z0-9-]+)*\.[a-z]{2,}$`)

// distinct returns how many different values were seen, at most mostValues and one.
func (c *Column) distinct() int {
	if c.many {
		return mostValues + 1
	}
	return len(c.values)
}

// isAddress reports whether each value is one address, but for a few that are mistyped.
func (c *Column) isAddress() bool {
	return c.addresses > 0 && c.lists == 0 && c.domains == 0 && c.addresses+c.others == c.Filled && c.fewOthers()
}

// fewOthers reports whether so few values are no addresses that they are mistakes.
func (c *Column) fewOthers() bool { return c.others*10 <= c.Filled || c.others == 1 && c.Filled > 3 }

// mistyped says which values of addresses are none, or is "".
func (c *Column) mistyped() string {
	if c.others == 0 {
		return ""
	}
	text := fmt.Sprintf("%s at %d is no address", quote(shortened(c.other)), c.otherAt)
	if c.others > 1 {
		text += fmt.Sprintf(", nor are %d more", c.others-1)
	}
	return text
}

// isAddresses reports whether the values are lists of addresses, of which some have more
// than one.
func (c *Column) isAddresses() bool {
	return c.lists > 0 && c.addresses+c.lists+c.domains+c.others >= c.Filled && c.fewOthers()
}

// isDay reports whether each value is a day, and in which format.
func (c *Column) isDay() (string, bool) {
	if len(c.layouts) == 0 || c.Filled == 0 {
		return "", false
	}
	return c.layouts[0], true
}

// isWords reports whether the values are a few words that come again and again.
func (c *Column) isWords() bool {
	if c.many || len(c.values) > 12 || c.Filled == 0 || c.addresses+c.lists > 0 || c.texts > 0 {
		return false
	}
	return len(c.values) <= 3 || c.Filled >= 3*len(c.values)
}

// words returns the values, the most frequent first.
func (c *Column) words() []string {
	var list []string
	for value := range c.values {
		list = append(list, value)
	}
	slices.SortFunc(list, func(a, b string) int {
		if c.values[a] != c.values[b] {
			return c.values[b] - c.values[a]
		}
		return strings.Compare(a, b)
	})
	return list
}

// called reports whether one of some words is in the name of a column, without case.
func (c *Column) called(words ...string) bool { return has(c.Name, words...) }

// has reports whether a text has one of some words as the beginning of a word of its own.
func has(text string, words ...string) bool {
	for _, part := range wordsOf(text) {
		if slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(part, w) }) {
			return true
		}
	}
	return false
}

// wordsOf returns the words of a name such as "Who may post", whoMayPost or WHO_MAY_POST.
func wordsOf(text string) []string {
	var b strings.Builder
	before := ' '
	for _, r := range text {
		if unicode.IsUpper(r) && unicode.IsLower(before) {
			b.WriteByte(' ')
		}
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			b.WriteRune(unicode.ToLower(r))
		} else {
			b.WriteByte(' ')
		}
		before = r
	}
	return strings.Fields(b.String())
}
