package present

import (
	"fmt"
	"strconv"
	"strings"
)

// ImportCoverage says what of a source was taken, and what not.
type ImportCoverage struct {
	Source  string         `json:"source"`
	Records int            `json:"records"`
	Skipped int            `json:"skipped"` // records that no part of the map is about
	Parts   []ImportPart   `json:"parts"`
	Columns []ImportColumn `json:"columns"`
	Words   []ImportWord   `json:"words"`  // that the map skips
	Absent  []string       `json:"absent"` // names in the map that no record has
	Lost    []string       `json:"lost"`   // what was taken, and is not in the estate
}

// ImportPart is what became of the records of one part of a map.
type ImportPart struct {
	Part    string `json:"part"`
	Records int    `json:"records"`
	Made    int    `json:"made"` // groups or people
}

// ImportColumn is an attribute, column or path of a source.
type ImportColumn struct {
	Name    string `json:"name"`
	Records int    `json:"records"` // that have a value
	Taken   int    `json:"taken"`   // of these, for what the map reads it
	Example string `json:"example"`
}

// ImportWord is a value that a map skips.
type ImportWord struct {
	Column  string `json:"column"`
	Word    string `json:"word"`
	Records int    `json:"records"`
}

// coverage says in short, or in full, what of the sources was not taken.
func (a *Import) coverage(p *Page) {
	for i := range a.Coverage {
		c := &a.Coverage[i]
		if a.InFull {
			c.inFull(p)
		} else {
			c.inShort(p)
		}
	}
}

// left says what was taken, and is not in the estate.
func (c *ImportCoverage) left(p *Page) {
	if len(c.Lost) > 0 {
		p.Line(2, Span{Doubtful, "Taken from " + c.Source + ", and not in the estate: "},
			Span{Plain, strings.Join(c.Lost, "; ")})
	}
}

// inShort says what is lost.
func (c *ImportCoverage) inShort(p *Page) {
	var lost []string
	for _, column := range c.Columns {
		if column.Taken == 0 {
			lost = append(lost, column.Name)
		}
	}
	if len(lost) > 0 {
		p.Line(2, Span{Doubtful, fmt.Sprintf("Not taken from %s, %d of %d columns: ", c.Source, len(lost), len(c.Columns))},
			Span{Plain, p.some(lost)}, Span{Faint, "   (--coverage says more)"})
	}
	c.left(p)
	if len(c.Absent) > 0 {
		p.Line(2, Span{Doubtful, "In the map, and in no record of " + c.Source + ": "}, Span{Plain, p.some(c.Absent)})
	}
	if c.Skipped > 0 {
		p.Line(2, Span{Doubtful, "The map is not about " + count(c.Skipped, "record", "records") + " of " + c.Source})
	}
	for _, w := range c.Words {
		p.Line(2, Span{Doubtful, fmt.Sprintf("Skipped: %s %q in %s", w.Column, w.Word, count(w.Records, "record",
			"records"))})
	}
}

// inFull says of each column whether it was taken.
func (c *ImportCoverage) inFull(p *Page) {
	p.Gap()
	p.Title("Coverage of " + c.Source + " (" + count(c.Records, "record", "records") + ")")
	for _, part := range c.Parts {
		p.Line(2, Span{Plain, fmt.Sprintf("  %s of the map: %s, %d made", part.Part, count(part.Records, "record", "records"),
			part.Made)})
	}
	if c.Skipped > 0 {
		p.Line(2, Span{Doubtful, "  no part of the map: " + count(c.Skipped, "record", "records")})
	}
	rows := [][]Span{{{Faint, "column"}, {Faint, "records"}, {Faint, "taken"}, {Faint, "for example"}}}
	for _, column := range c.Columns {
		taken := Span{Plain, strconv.Itoa(column.Taken)}
		if column.Taken == 0 {
			taken = Span{Doubtful, "no"}
		}
		rows = append(rows, []Span{{Plain, column.Name}, {Plain, strconv.Itoa(column.Records)}, taken,
			{Faint, strings.Join(strings.Fields(column.Example), " ")}})
	}
	p.Table(rows)
	c.left(p)
	for _, w := range c.Words {
		p.Line(2, Span{Doubtful, fmt.Sprintf("Skipped: %s %q in %s", w.Column, w.Word, count(w.Records, "record",
			"records"))})
	}
	if len(c.Absent) > 0 {
		p.Line(2, Span{Doubtful, "In the map, and in no record: "}, Span{Plain, strings.Join(c.Absent, ", ")})
	}
}
