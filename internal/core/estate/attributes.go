package estate

import (
	"maps"
	"slices"
	"sort"
	"strings"

	"yorvet.example/yorvet/internal/core/selector"
)

// An Attribute is one value of one attribute of a person or group.
type Attribute struct {
	Name  string
	Value string
}

// String returns the attribute as NAME: VALUE.
func (a Attribute) String() string { return a.Name + attributeSeparator + a.Value }

// attributeSeparator stands between the name and the value of an attribute in one text.
const attributeSeparator = ": "

// ParseAttribute reads NAME: VALUE. An error is a *ValueError.
func ParseAttribute(text string) (Attribute, error) {
	name, value, found := strings.Cut(text, ":")
	name, value = strings.TrimSpace(name), strings.TrimSpace(value)
	if !found || value == "" {
		return Attribute{}, &ValueError{Text: "expected NAME: VALUE, not " + quote(text)}
	}
	return Attribute{name, value}, CheckGroupAttribute(name)
}

// CheckGroupAttribute returns why no attribute of a group may have a name, or nil: filters
// of groups mean a setting or an answer by some. An error is a *ValueError.
func CheckGroupAttribute(name string) error {
	folded := selector.Fold(name)
	switch {
	case folded == "":
		return &ValueError{Text: "an attribute has no name"}
	case strings.Contains(name, ":"):
		return &ValueError{Text: "an attribute of a group has no colon in its name, not " + quote(name)}
	}
	_, isSetting := GroupSetting(folded)
	if isSetting || slices.Contains(answerNames, folded) {
		return &ValueError{Text: "an attribute of a group cannot be called " + quote(name) +
			": filters mean something else by that"}
	}
	return nil
}

// answerNames are what filters of groups ask about apart from settings and attributes: the
// columns of the matrix.
var answerNames = []string{
	"outside", "inside", "forged", "post", "held", "refused", "get", "miss", "invited", "sends-as", "approvers",
	"hazards", "hazard", "inbox", "digest", "waiting", "archive", "nothing", "stopped", "undeliverable",
}

// AnswerNames returns what filters of groups ask about apart from settings and attributes.
func AnswerNames() []string { return slices.Clone(answerNames) }

// attributes holds the attributes of all people by attribute. Equal values are stored
// once, so that a question is asked once for each of them.
type attributes struct {
	columns map[string]*column // by folded attribute
	written map[string]*column // by attribute as written
	values  []string
	known   map[string]uint32 // index into values
}

// column holds one attribute.
type column struct {
	name  string // as first written
	cells []cell // in the order of people
}

type cell struct {
	person uint32 // index among people
	value  uint32 // index into attributes.values
}

func (f *attributes) add(person int, attribute Attribute) {
	c, ok := f.written[attribute.Name]
	if !ok {
		folded := selector.Fold(attribute.Name)
		if c, ok = f.columns[folded]; !ok {
			c = &column{name: strings.Clone(attribute.Name)}
			f.columns[strings.Clone(folded)] = c
		}
		f.written[strings.Clone(attribute.Name)] = c
	}
	value, ok := f.known[attribute.Value]
	if !ok {
		value = uint32(len(f.values))
		text := strings.Clone(attribute.Value)
		f.values = append(f.values, text)
		f.known[text] = value
	}
	c.cells = append(c.cells, cell{uint32(person), value})
}

// all returns the cells of all columns, in the order of their folded names.
func (f *attributes) all() []cell {
	var all []cell
	for _, name := range slices.Sorted(maps.Keys(f.columns)) {
		all = append(all, f.columns[name].cells...)
	}
	return all
}

// of returns the cells of one person.
func (c *column) of(person int) []cell {
	from := sort.Search(len(c.cells), func(i int) bool { return c.cells[i].person >= uint32(person) })
	to := from
	for to < len(c.cells) && c.cells[to].person == uint32(person) {
		to++
	}
	return c.cells[from:to]
}

// Values returns the values that a person has for an attribute: of address and
// name, or of an attribute. attribute has to be in lower case.
func (e *Estate) Values(person ID, attribute string) []string {
	p := e.Person(person)
	switch attribute {
	case "address":
		return []string{p.Address.String()}
	case "name":
		if p.Name == "" {
			return nil
		}
		return []string{p.Name}
	}
	c, ok := e.attributes.columns[attribute]
	if !ok {
		return nil
	}
	var values []string
	for _, cell := range c.of(e.PersonIndex(person)) {
		values = append(values, e.attributes.values[cell.value])
	}
	return values
}

// AttributeName returns the name of an attribute as it is first written, or as it is
// given where nobody has it.
func (e *Estate) AttributeName(attribute string) string {
	if c, ok := e.attributes.columns[selector.Fold(attribute)]; ok {
		return c.name
	}
	return attribute
}

// Attributes returns the attributes of a person, sorted by attribute.
func (e *Estate) Attributes(person ID) []Attribute {
	var list []Attribute
	for _, c := range e.attributes.columns {
		for _, cell := range c.of(e.PersonIndex(person)) {
			list = append(list, Attribute{c.name, e.attributes.values[cell.value]})
		}
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].Name < list[j].Name })
	return list
}

// Matches reports whether a filter is true for a person.
func (e *Estate) Matches(person ID, f selector.Filter) bool {
	return selector.MatchFilter(f, func(item *selector.Item) bool {
		for _, value := range e.Values(person, item.Attribute) {
			if item.Matches(value) {
				return true
			}
		}
		return false
	})
}

// EachMatch calls visit with every person that item is true of, perhaps more
// than once.
func (e *Estate) EachMatch(item *selector.Item, visit func(ID)) {
	switch item.Attribute {
	case "address", "name":
		for i := range e.people {
			value := e.people[i].Name
			if item.Attribute == "address" {
				value = e.people[i].Address.String()
			}
			if value != "" && item.Matches(value) {
				visit(e.PersonID(i))
			}
		}
		return
	}
	c, ok := e.attributes.columns[item.Attribute]
	if !ok {
		return
	}
	const unasked, no, yes = 0, 1, 2
	answers := make([]uint8, len(e.attributes.values))
	for _, cell := range c.cells {
		if answers[cell.value] == unasked {
			answers[cell.value] = no
			if item.Matches(e.attributes.values[cell.value]) {
				answers[cell.value] = yes
			}
		}
		if answers[cell.value] == yes {
			visit(e.PersonID(int(cell.person)))
		}
	}
}

// AttributesByName returns the names of attributes in their order, each once whatever its
// case, and the values of each.
func AttributesByName(attributes []Attribute) (names []string, values [][]string) {
	for _, f := range attributes {
		i := slices.IndexFunc(names, func(name string) bool { return strings.EqualFold(name, f.Name) })
		if i < 0 {
			i = len(names)
			names, values = append(names, f.Name), append(values, nil)
		}
		values[i] = append(values[i], f.Value)
	}
	return names, values
}
