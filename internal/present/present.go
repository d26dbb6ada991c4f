// Package present turns answers into output: text for people, JSON and CSV.
//
// An answer is a value with everything in it, in words; each way of printing it
// takes from it what it needs. The JSON names are stable.
package present

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// A Format is a kind of output.
type Format string

// The formats.
const (
	Text Format = "text"
	JSON Format = "json"
	CSV  Format = "csv"
	// Markdown is for tickets (CommonMark).
	Markdown Format = "markdown"

	// SARIF is for hazards only (OASIS SARIF 2.1.0).
	SARIF Format = "sarif"
	// JUnit is for what passes or fails: expectations and probes; TAP for expectations.
	JUnit Format = "junit"
	TAP   Format = "tap"
)

// Options say how text looks.
type Options struct {
	Width  int // columns of the page
	Colour bool
	All    bool   // show long lists in full
	Folder string // what places begin with that is not shown, or ""
}

// An Answer can be printed. Its exported fields are its JSON.
type Answer interface {
	// writeText writes the answer for people: counts, exceptions, the rest.
	writeText(p *Page)
	// table tells the answer as rows: its columns, then one after the other.
	table(t *table)
}

// Print writes an answer in a format.
func Print(w io.Writer, a Answer, format Format, options Options) error {
	switch format {
	case JSON:
		if long, ok := a.(interface{ writeJSON(*jsonStream) }); ok {
			return streamJSON(w, long.writeJSON)
		}
		return encode(w, a, "", "  ")
	case CSV:
		return writeCSV(w, a)
	case Markdown:
		p := newMarkdownPage(w, options)
		a.writeText(p)
		return p.flush()
	case SARIF:
		if hazards, ok := a.(*Hazards); ok {
			return encode(w, hazards.sarif(), "", "  ")
		}
		return errors.New("only hazards can be printed as SARIF")
	case TAP:
		if expectations, ok := a.(*Expectations); ok {
			return expectations.writeTAP(w)
		}
		return errors.New("only expectations can be printed as TAP")
	case JUnit:
		if tests, ok := a.(interface{ junit() (string, []junitCase) }); ok {
			return writeJUnit(w, tests)
		}
		return errors.New("this cannot be printed as JUnit")
	}
	p := newPage(w, options)
	a.writeText(p)
	return p.flush()
}

// FirstLine returns the first line of an answer as text, however long.
func FirstLine(a Answer) string {
	first := &firstLine{}
	if long, ok := a.(interface{ head() []Span }); ok { // the rest may be very long
		first.line(0, "", long.head())
	} else {
		a.writeText(&Page{to: first, options: Options{Width: endless}})
	}
	return first.text
}

// A firstLine is a printer that keeps the first line alone.
type firstLine struct{ text string }

func (f *firstLine) line(_ int, _ string, spans []Span) {
	if f.text != "" {
		return
	}
	for _, s := range spans {
		f.text += Clean(s.Text)
	}
	f.text, _, _ = strings.Cut(strings.TrimRight(f.text, " "), "\n")
}

func (f *firstLine) code(_ int, s Span)  { f.line(0, "", []Span{s}) }
func (f *firstLine) gap()                {}
func (f *firstLine) table(rows [][]Span) { f.line(0, "", rows[0]) }
func (f *firstLine) flush() error        { return nil }

// writeCSV writes a table after RFC 4180.
func writeCSV(w io.Writer, a Answer) error {
	t := &table{w: csv.NewWriter(w)}
	t.w.UseCRLF = true
	a.table(t)
	t.w.Flush()
	return errors.Join(t.err, t.w.Error())
}

// A table takes the rows of an answer. A cell that a spreadsheet would take
// for a formula gets an apostrophe in front, and control characters are made
// visible.
type table struct {
	w       *csv.Writer
	columns int
	err     error
}

// head begins with the names of the columns.
func (t *table) head(columns ...string) {
	t.columns = len(columns)
	t.write(columns)
}

// row takes the cells of a row: texts, numbers, whether something is true, and lists, whose items are joined.
func (t *table) row(cells ...any) {
	row := make([]string, len(cells))
	for i, cell := range cells {
		switch cell := cell.(type) {
		case string:
			row[i] = cell
		case []string:
			row[i] = strings.Join(cell, "; ")
		case int:
			row[i] = strconv.Itoa(cell)
		default:
			row[i] = fmt.Sprint(cell)
		}
	}
	if len(row) != t.columns && t.err == nil {
		t.err = fmt.Errorf("a row of %d cells in a table of %d columns", len(row), t.columns)
	}
	t.write(row)
}

func (t *table) write(row []string) {
	if t.err == nil {
		t.err = t.w.Write(cells(slices.Clone(row)))
	}
}
