package directory

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Coverage says what of a source a map has taken, and what not.
type Coverage struct {
	Source  string   `json:"source"`
	Records int      `json:"records"`
	Skipped int      `json:"skipped"` // records that no part of the map is about
	Parts   []Part   `json:"parts"`
	Columns []Column `json:"columns"` // by name
	Words   []Word   `json:"words"`   // that the map skips
	Absent  []string `json:"absent"`  // names in the map that no record has
	Lost    []Loss   `json:"lost"`    // what was taken, and is not in what all sources come to
}

// A Part is what became of the records of one part of a map.
type Part struct {
	Part    string `json:"part"` // such as "groups 1"
	Records int    `json:"records"`
	Made    int    `json:"made"` // groups or people
}

// A Column is an attribute, column or path of a source.
type Column struct {
	Name    string `json:"name"`
	Records int    `json:"records"` // that have a value
	Taken   int    `json:"taken"`   // of these, for what the map reads it
	Example string `json:"example"`
}

// A Word is a value that a map skips.
type Word struct {
	Column  string `json:"column"`
	Word    string `json:"word"`
	Records int    `json:"records"`
}

// Untaken returns the columns that nothing takes.
func (c *Coverage) Untaken() (list []Column) {
	for _, one := range c.Columns {
		if one.Taken == 0 {
			list = append(list, one)
		}
	}
	return list
}

// mostColumns is how many columns of a source are counted.
const mostColumns = 2000

// coverage counts what of the records is taken.
type coverage struct {
	records, skipped int
	byName           map[string]*Column
	reads            []map[string]bool // by part of the map: the names it reads, in lower case
	choices          [][][]string      // by part: of the names of each one will do
	others           []bool            // by part: it takes all that is there
	partRecords      []int
	skips            map[[2]string]int
}

func newCoverage(m *Map) *coverage {
	c := &coverage{byName: map[string]*Column{}, skips: map[[2]string]int{}}
	if m == nil {
		return c
	}
	add := func(r *reads, others bool) {
		set := map[string]bool{}
		for _, name := range r.names {
			set[strings.ToLower(name)] = true
		}
		c.reads, c.others, c.partRecords = append(c.reads, set), append(c.others, others), append(c.partRecords, 0)
		c.choices = append(c.choices, r.choices)
	}
	for i := range m.Groups {
		r := &reads{}
		r.groups(&m.Groups[i])
		add(r, false)
	}
	for i := range m.People {
		r := &reads{}
		r.people(&m.People[i])
		add(r, m.People[i].Others)
	}
	return c
}

// note counts a record that a part of the map is about, or none.
func (c *coverage) note(e *Entry, part int) {
	c.records++
	if part < 0 {
		c.skipped++
	} else {
		c.partRecords[part]++
	}
	for i := range e.Attributes {
		a := &e.Attributes[i]
		if i > 0 && e.Attributes[i-1].Name == a.Name || a.Name == "" {
			continue
		}
		column, ok := c.byName[a.Name]
		if !ok {
			if len(c.byName) >= mostColumns {
				continue
			}
			name := strings.Clone(a.Name)
			column = &Column{Name: name}
			c.byName[name] = column
		}
		if column.Records++; column.Example == "" && len(a.Values) > 0 {
			column.Example = strings.Clone(a.Values[0][:min(len(a.Values[0]), 60)])
		}
		if part >= 0 && (c.others[part] || c.isRead(part, a.Name)) {
			column.Taken++
		}
	}
}

// isRead reports whether a part of a map reads an attribute; options do not count.
func (c *coverage) isRead(part int, name string) bool {
	if c.reads[part][name] {
		return true
	}
	name, _, _ = strings.Cut(strings.ToLower(name), ";")
	return c.reads[part][name]
}

// finish returns what was counted. made says how many groups and people each part has made.
func (c *coverage) finish(d *Directory) *Coverage {
	out := &Coverage{Source: d.Name, Records: c.records, Skipped: c.skipped}
	for _, name := range slices.Sorted(maps.Keys(c.byName)) {
		out.Columns = append(out.Columns, *c.byName[name])
	}
	made := make([]int, len(c.partRecords))
	groups := 0
	if d.Map != nil {
		groups = len(d.Map.Groups)
	}
	for i := range d.Groups {
		if rule := d.Groups[i].Rule; rule < groups {
			made[rule]++
		}
	}
	for i := range d.People {
		if rule := groups + d.People[i].rule; rule < len(made) {
			made[rule]++
		}
	}
	for i, n := range c.partRecords {
		name := fmt.Sprint("groups ", i+1)
		if i >= groups {
			name = fmt.Sprint("people ", i-groups+1)
		}
		out.Parts = append(out.Parts, Part{name, n, made[i]})
	}
	for key, n := range c.skips {
		out.Words = append(out.Words, Word{key[0], key[1], n})
	}
	slices.SortFunc(out.Words, func(a, b Word) int {
		return cmp.Or(strings.Compare(a.Column, b.Column), strings.Compare(a.Word, b.Word))
	})
	have := map[string]bool{}
	for name := range c.byName {
		base, _, _ := strings.Cut(strings.ToLower(name), ";")
		have[strings.ToLower(name)], have[base] = true, true
	}
	absent := map[string]bool{}
	for part, names := range c.reads {
		for name := range names {
			if c.partRecords[part] > 0 && !have[name] {
				absent[name] = true
			}
		}
	}
	if d.Map != nil && !d.Map.isBuiltIn { // which has a choice of names
		out.Absent = slices.Sorted(maps.Keys(absent))
	}
	return out
}

// empties returns what of a map is empty in every record that it is about, and would be taken
// from groups by that: lists of people, and what the source alone says.
func (c *coverage) empties(m *Map) (list []string) {
	for part := range m.Groups {
		g := &m.Groups[part]
		if c.partRecords[part] == 0 {
			continue
		}
		for _, of := range []struct {
			name string
			list []ReferenceMap
		}{{"owners", g.Owners}, {"moderators", g.Moderators}, {"members", g.Members}} {
			r := &reads{}
			if r.references(of.list); len(of.list) > 0 && !c.isFilled(r.names) && !m.isOptional(r.names) {
				list = append(list, fmt.Sprintf("%s of all %d records is empty (%s)", of.name, c.partRecords[part],
					strings.Join(r.names, ", ")))
			}
		}
		r := &reads{}
		for _, name := range g.Owns {
			r.any(map[string]Names{"title": g.Title, "about": g.About, "also": g.Also}[name]...)
		}
		for _, names := range r.choices {
			if !c.isFilled(names) && !m.isOptional(names) {
				list = append(list, fmt.Sprintf("%s is empty in all %d records", strings.Join(names, ", "), c.partRecords[part]))
			}
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// isFilled reports whether any record has a value of one of some names.
func (c *coverage) isFilled(names []string) bool {
	return slices.ContainsFunc(names, func(name string) bool {
		for _, column := range c.byName {
			base, _, _ := strings.Cut(column.Name, ";")
			if (strings.EqualFold(column.Name, name) || strings.EqualFold(base, name)) && column.Taken > 0 {
				return true
			}
		}
		return false
	})
}

// isOptional reports whether a source need not have any of some names.
func (m *Map) isOptional(names []string) bool {
	return slices.ContainsFunc(names, func(name string) bool { return m.optional[strings.ToLower(name)] })
}
