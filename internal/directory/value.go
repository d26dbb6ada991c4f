package directory

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/yamlfile"
)

// A Value says how a value of the estate is made of a record: as it stands in the map, of
// an attribute, or of an attribute by what its words mean.
type Value struct {
	Fixed     Names     // as it stands in the map
	From      Names     // attributes, or texts with {attribute} in them: the first with a value
	As        []Meaning // what the words of From mean; empty: what they say
	Otherwise Otherwise // of a word that As does not know
	Format    string    // of a day, such as DD.MM.YYYY

	mark mark
}

// A Meaning is what a word of a source means, as one value or several.
type Meaning struct {
	Word   string
	Values []string

	mark mark
}

// Otherwise says what becomes of a word that a map does not know: an error, unless
// something else is said.
type Otherwise struct {
	Skip   bool
	Values []string // instead of the word
}

// mark is a place in a map, from 1.
type mark struct{ line, column int }

func markOf(n *yaml.Node) mark { return mark{n.Line, n.Column} }

// UnmarshalYAML reads a value: a text or list, or keys.
func (v *Value) UnmarshalYAML(node *yaml.Node) error {
	*v = Value{mark: markOf(node)}
	if node.Kind != yaml.MappingNode {
		var err error
		v.Fixed, err = textsOf(node)
		return err
	}
	var keys struct {
		From      Names     `yaml:"from"`
		As        yaml.Node `yaml:"as"`
		Otherwise yaml.Node `yaml:"otherwise"`
		Format    string    `yaml:"format"`
		Optional  bool      `yaml:"optional"`
	}
	if err := node.Load(&keys, yaml.WithKnownFields()); err != nil {
		return err
	}
	v.From, v.Format = keys.From, keys.Format
	if len(v.From) == 0 {
		return &yamlfile.Problem{Text: "a value needs from, the name of an attribute"}
	}
	return v.words(&keys.As, &keys.Otherwise)
}

// words reads what words mean, and what becomes of others.
func (v *Value) words(as, otherwise *yaml.Node) (err error) {
	if as.Kind != 0 && as.Kind != yaml.MappingNode {
		return &yamlfile.Problem{Text: "as has words with what they mean, {WORD: VALUE, ...}"}
	}
	for i := 0; i+1 < len(as.Content); i += 2 {
		m := Meaning{Word: as.Content[i].Value, mark: markOf(as.Content[i+1])}
		if m.Values, err = textsOf(as.Content[i+1]); err != nil {
			return err
		}
		v.As = append(v.As, m)
	}
	switch {
	case otherwise.Kind == 0:
	case otherwise.Kind == yaml.ScalarNode && otherwise.Value == "skip":
		v.Otherwise.Skip = true
	case otherwise.Kind == yaml.ScalarNode && otherwise.Value == "error":
	default:
		v.Otherwise.Values, err = textsOf(otherwise)
	}
	return err
}

// textsOf returns a scalar as one text, and a list of them as several.
func textsOf(node *yaml.Node) (list Names, err error) {
	switch node.Kind {
	case yaml.ScalarNode:
		return Names{node.Value}, nil
	case yaml.SequenceNode:
		list = Names{}
		for _, one := range node.Content {
			if one.Kind != yaml.ScalarNode {
				return nil, &yamlfile.Problem{Text: "expected a text, or a list of texts"}
			}
			list = append(list, one.Value)
		}
		return list, nil
	}
	return nil, &yamlfile.Problem{Text: "expected a text, or a list of texts"}
}

// said returns all texts of the estate that a value can come to, with their places.
func (v *Value) said() (list []Meaning) {
	if v == nil {
		return nil
	}
	if v.Fixed != nil {
		list = append(list, Meaning{Values: v.Fixed, mark: v.mark})
	}
	list = append(list, v.As...)
	if v.Otherwise.Values != nil {
		list = append(list, Meaning{Values: v.Otherwise.Values, mark: v.mark})
	}
	return list
}

// isFixed returns the one text of a value that is the same for every record, or "".
func (v *Value) isFixed() string {
	if v == nil || len(v.Fixed) != 1 {
		return ""
	}
	return v.Fixed[0]
}

// value returns what a value is of a record. A word that the map does not know is noted.
func (c *Collector) value(e *Entry, v *Value) []string {
	switch {
	case v == nil:
		return nil
	case v.Fixed != nil:
		return v.Fixed
	}
	text := c.first(e, v.From)
	if len(v.As) == 0 {
		if text == "" {
			return nil
		}
		return []string{text}
	}
	values, known := v.Meant(text)
	switch {
	case known:
		return values
	case text == "":
	case v.Otherwise.Skip:
		c.coverage.skips[[2]string{strings.Join(v.From, ", "), text}]++
	default:
		c.unknown(e, v, text)
	}
	return nil
}

// Meant returns what a word of a source means, by As and Otherwise, and whether anything is
// said of it; one that is to be skipped means nothing.
func (v *Value) Meant(text string) (values []string, known bool) {
	for i := range v.As {
		if strings.EqualFold(strings.TrimSpace(v.As[i].Word), text) {
			return v.As[i].Values, true
		}
	}
	if text != "" && v.Otherwise.Values != nil {
		return v.Otherwise.Values, true
	}
	return nil, false
}

// WrongWord returns a text about the first value that v can come to and that is not one of
// some words, with its place in the map, from 1; "": there is none.
func (v *Value) WrongWord(name string, words []string) (text string, line, column int) {
	for _, m := range v.said() {
		for _, value := range m.Values {
			if wrong := wrongWord(name, value, words...); len(wrong) > 0 {
				return wrong[0], m.mark.line, m.mark.column
			}
		}
	}
	return "", 0, 0
}

// unknownWord is a word of a source for which a map has no meaning.
type unknownWord struct {
	from, text string
	known      []string
	line       int // of the first record
	count      int
}

// unknown notes a word that a map does not know, or that is none of the known ones.
func (c *Collector) unknown(e *Entry, v *Value, text string, known ...string) {
	from := strings.Join(v.From, ", ")
	for i := range c.unknowns {
		if one := &c.unknowns[i]; one.from == from && one.text == text {
			one.count++
			return
		}
	}
	if len(c.unknowns) == mostRemarks {
		return
	}
	one := unknownWord{from: from, text: text, line: e.Line, count: 1, known: known}
	for _, m := range v.As {
		one.known = append(one.known, m.Word)
	}
	c.unknowns = append(c.unknowns, one)
}

// Problems returns the errors of records that a map does not cover, or nil. allowEmpty says
// that a list of a map of one's own may be empty in all records.
func (c *Collector) Problems(allowEmpty bool) error {
	var errs []error
	if c.tabular {
		errs = append(errs, c.missing()...)
	}
	switch {
	case allowEmpty || len(errs) > 0:
	case c.tabular && c.coverage.records == 0:
		errs = append(errs, fmt.Errorf("%s: there is no record in it; if that is intended: --allow-empty", c.d.File))
	case !c.d.Map.isBuiltIn:
		for _, text := range c.coverage.empties(c.d.Map) {
			errs = append(errs, fmt.Errorf("%s: %s; if that is intended: --allow-empty", c.d.File, text))
		}
	}
	for _, one := range c.unknowns {
		errs = append(errs, fmt.Errorf("%s:%d: %s is %q in %d of its records, and the map knows %s; add it to \"as\", "+
			"or say \"otherwise\"", c.d.File, one.line, one.from, one.text, one.count, strings.Join(one.known, ", ")))
	}
	return errors.Join(append(errs, c.problems...)...)
}

// Columns says that the source is a table with these columns, or one of several. Without
// names it is a list of records that say themselves what they have.
func (c *Collector) Columns(names ...string) {
	c.tabular = true
	for _, name := range names {
		c.columns = append(c.columns, strings.TrimSpace(name))
	}
}

// missing returns an error for each name in a map of one's own that no column of the source
// has: a service may have given it another one.
func (c *Collector) missing() (errs []error) {
	if c.d.Map.isBuiltIn || c.columns == nil && c.coverage.records == 0 {
		return nil
	}
	have := map[string]bool{}
	columns := c.columns
	if columns == nil {
		columns = slices.Sorted(maps.Keys(c.coverage.byName))
	}
	for _, name := range columns {
		name, _, _ = strings.Cut(strings.ToLower(name), ";")
		have[name] = true
	}
	told := map[string]bool{}
	for part, choices := range c.coverage.choices {
		if c.columns == nil && c.coverage.partRecords[part] == 0 {
			continue
		}
		for _, names := range choices {
			known := func(name string) bool { return have[strings.ToLower(name)] || c.d.Map.optional[strings.ToLower(name)] }
			text := strings.Join(names, " or ")
			if slices.ContainsFunc(names, known) || told[text] {
				continue
			}
			told[text] = true
			few := slices.DeleteFunc(slices.Clone(columns), func(name string) bool { return name == "" })
			more := ""
			if most := 40; len(few) > most {
				few, more = few[:most], ", ..."
			}
			errs = append(errs, fmt.Errorf("%s: the map reads %s, and there is no such column; there are %s%s. If it may be "+
				"missing, the map says \"optional: true\" there%s", c.d.File, text, strings.Join(few, ", "), more,
				nearest.Hint(names[0], few)))
		}
	}
	return errs
}

// problem notes that a record cannot be read by the map.
func (c *Collector) problem(line int, text string) {
	if len(c.problems) < mostRemarks {
		c.problems = append(c.problems, fmt.Errorf("%s:%d: %s", c.d.File, line, text))
	}
}

// day returns a day that a value gives: YYYY-MM-DD, with or without a time behind it
// (RFC 3339), or in the format of the map.
func (c *Collector) day(e *Entry, v *Value) estate.Day {
	texts := c.value(e, v)
	if len(texts) == 0 {
		return 0
	}
	text := strings.TrimSpace(texts[0])
	layout := time.DateOnly
	if v.Format != "" {
		layout = LayoutOf(v.Format)
		if !strings.ContainsAny(v.Format, " T") {
			text, _, _ = strings.Cut(text, " ")
		}
	} else if len(text) > len(time.DateOnly) && (text[10] == 'T' || text[10] == ' ') {
		text = text[:10]
	}
	parsed, err := time.Parse(layout, text)
	if err != nil && len(text) == len(time.DateOnly) { // as a table hands out days that are plain
		parsed, err = time.Parse(time.DateOnly, text)
	}
	if err != nil {
		wanted := v.Format
		if wanted == "" {
			wanted = "YYYY-MM-DD; another format can be said in the map, such as DD.MM.YYYY"
		}
		c.problem(e.Line, fmt.Sprintf("%s is %q, expected a day as %s", strings.Join(v.From, ", "), text, wanted))
		return 0
	}
	day, err := estate.ParseDay(parsed.Format(time.DateOnly))
	if err != nil {
		return 0
	}
	return day
}

// LayoutOf returns a format of days, of YYYY, MM, M, DD, D and what stands between them,
// as package time has it; with hh, mm and ss, of times, too, and AM where they have halves
// of days.
func LayoutOf(format string) string {
	hours := []string{"hh", "15", "h", "15"}
	if strings.Contains(format, "AM") {
		hours = []string{"hh", "03", "h", "3", "AM", "PM"}
	}
	return strings.NewReplacer(append(hours, "YYYY", "2006", "YY", "06", "MM", "01", "DD", "02", "M", "1", "D", "2",
		"mm", "04", "ss", "05")...).Replace(format)
}
