// Package table reads tables of people, groups and memberships (RFC 4180), with
// commas, semicolons or tabs, and neutralises cells that a spreadsheet would take
// for formulas.
package table

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/harmless"
)

// Neutral returns a cell so that no spreadsheet takes it for a formula: with an
// apostrophe in front. Plain undoes it.
func Neutral(cell string) string {
	if harmless.IsFormula(strings.TrimLeft(cell, "'")) {
		return "'" + cell
	}
	return cell
}

// Plain is the reverse of Neutral.
func Plain(cell string) string {
	if strings.HasPrefix(cell, "'") && harmless.IsFormula(strings.TrimLeft(cell, "'")) {
		return cell[1:]
	}
	return cell
}

// Options say how a table is read. The zero value finds all of it out.
type Options struct {
	Separator rune   // of cells; 0: the one that the first lines have
	Encoding  string // an IANA character set; "": UTF-8, or UTF-16 by its mark
	Heading   int    // the line with the names of the columns
	Sheet     string // of a workbook; "": the first
}

// A Reader reads a table with a header row.
type Reader struct {
	Sheets []string // of a workbook
	Header []string
	name   string
	rows   rows
	ahead  []row // that were looked at to find the heading
	failed error // of the row behind those
}

// row is a row of a table.
type row struct {
	cells []string
	line  int
}

// rows gives the rows of a table one after the other, and io.EOF at the end. The cells of a
// row are good until the next one.
type rows interface {
	next() (row, error)
	// width says how many cells every further row has to have, if the table is one where
	// that counts.
	width(cells int)
}

// NewReader reads the header row of a table. name is for messages.
func NewReader(r io.Reader, name string, options Options) (*Reader, error) {
	lines, err := newLines(r, name, options)
	if err != nil {
		return nil, err
	}
	return newReader(lines, name, options)
}

// lookedAt is how many rows may stand above the heading.
const lookedAt = 20

func newReader(source rows, name string, options Options) (*Reader, error) {
	t := &Reader{name: name, rows: source}
	for len(t.ahead) < max(lookedAt, options.Heading) {
		next, err := source.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			if len(t.ahead) == 0 || options.Heading > 0 {
				return nil, err
			}
			t.failed = err
			break
		}
		t.ahead = append(t.ahead, row{slices.Clone(next.cells), next.line})
	}
	if len(t.ahead) == 0 {
		return nil, fmt.Errorf("%s:1:1: the table has no header row", name)
	}
	at := heading(t.ahead, options.Heading)
	if at < 0 {
		return nil, fmt.Errorf("%s:%d:1: the table ends before its heading", name, options.Heading)
	}
	header := t.ahead[at]
	t.ahead = t.ahead[at+1:]
	if len(header.cells) > mostColumns {
		return nil, fmt.Errorf("%s:%d:1: the table has more than %d columns", name, header.line, mostColumns)
	}
	met := map[string]bool{"": true}
	for i, cell := range header.cells {
		cell = strings.TrimSpace(Plain(cell))
		twice := met[strings.ToLower(cell)]
		met[strings.ToLower(cell)] = true
		if twice && cell != "" {
			return nil, fmt.Errorf("%s:%d:%d: the column %q stands here for the second time", name, header.line, i+1, cell)
		}
		t.Header = append(t.Header, cell)
	}
	source.width(len(t.Header))
	return t, nil
}

// mostColumns is how many columns a table may have.
const mostColumns = 10_000

func filled(cells []string) (n int) {
	for _, cell := range cells {
		if strings.TrimSpace(cell) != "" {
			n++
		}
	}
	return n
}

// heading returns which of the first rows has the names of the columns: the first that is
// no title above a wider table.
func heading(list []row, line int) int {
	if line > 0 {
		return slices.IndexFunc(list, func(r row) bool { return r.line >= line })
	}
	widest := 0
	for _, r := range list {
		widest = max(widest, filled(r.cells))
	}
	at := slices.IndexFunc(list, func(r row) bool {
		n := filled(r.cells)
		return n > 0 && (n > 1 || widest < 3) && (n > 2 || widest < 5)
	})
	return max(at, 0)
}

// Each calls visit with every row as an entry, whose attributes are called as the
// columns. Empty cells are left out.
func (t *Reader) Each(visit func(*directory.Entry)) error {
	var e directory.Entry
	for {
		next, err := t.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		e.Reset()
		e.Line = next.line
		for i, cell := range next.cells {
			if i >= len(t.Header) {
				break
			}
			if cell = strings.TrimSpace(Plain(cell)); cell != "" && t.Header[i] != "" {
				e.Add(t.Header[i], plainDay(cell))
			}
		}
		if len(e.Attributes) > 0 {
			visit(&e)
		}
	}
}

// plainDay returns a cell that is a day of the month with dots, such as 15.11.2026, as a workbook
// would hand it out: 2026-11-15. Others stay, as 3/4/2026 may be two days.
func plainDay(cell string) string {
	if len(cell) < 8 || len(cell) > 10 || cell[len(cell)-5] != '.' {
		return cell
	}
	if day, err := time.Parse("2.1.2006", cell); err == nil {
		return day.Format(time.DateOnly)
	}
	return cell
}

func (t *Reader) next() (row, error) {
	if len(t.ahead) == 0 {
		if t.failed != nil {
			return row{}, t.failed
		}
		return t.rows.next()
	}
	next := t.ahead[0]
	t.ahead = t.ahead[1:]
	if lines, ok := t.rows.(*lines); ok && len(next.cells) != len(t.Header) {
		return row{}, lines.fail(&csv.ParseError{Line: next.line, Column: 1, Err: csv.ErrFieldCount})
	}
	return next, nil
}

// IsMemberships reports whether a table is one of memberships: it has a column
// group and one of addresses.
func (t *Reader) IsMemberships() bool { return t.column("group") >= 0 && t.column("address") >= 0 }

// IsGroups reports whether a table is one of groups: it has a column that only
// groups have.
func (t *Reader) IsGroups() bool {
	for _, name := range []string{"kind", "owners", "moderators", "members", "gate", "managed-in"} {
		if t.column(name) >= 0 {
			return true
		}
	}
	return false
}

func (t *Reader) column(name string) int {
	return slices.IndexFunc(t.Header, func(h string) bool { return strings.EqualFold(h, name) })
}

// Memberships adds the rows of a table of memberships to a directory: the groups,
// and who is in them.
func (t *Reader) Memberships(d *directory.Directory) error {
	at := map[string]int{}
	for i := range d.Groups {
		at[strings.ToLower(d.Groups[i].Address)] = i
	}
	return t.Each(func(e *directory.Entry) {
		cell := func(name string) string {
			for _, a := range e.Attributes {
				if strings.EqualFold(a.Name, name) {
					return a.Values[0]
				}
			}
			return ""
		}
		group, err := address.Parse(cell("group"))
		if err != nil {
			d.Remark(e.Line, true, err.Error())
			return
		}
		i, ok := at[strings.ToLower(group.String())]
		if !ok {
			i = len(d.Groups)
			at[strings.ToLower(group.String())] = i
			d.Groups = append(d.Groups, directory.Group{Line: e.Line, Address: group.String()})
		}
		g := &d.Groups[i]
		if g.Members == nil {
			g.Members = []estatefile.Member{}
		}
		if err := t.add(g, cell); err != nil {
			d.Remark(e.Line, true, err.Error())
		}
	})
}

// add adds a membership, or an owner or moderator, to a group.
func (t *Reader) add(g *directory.Group, cell func(string) string) error {
	text := cell("address")
	filter, isRule := strings.CutPrefix(text, "where ")
	m := estatefile.Member{Everyone: text == "everyone", Where: filter}
	if !isRule {
		m.Where = ""
	}
	if !isRule && !m.Everyone {
		a, err := address.Parse(text)
		if err != nil {
			return err
		}
		m.Address = a.String()
	}
	switch role := strings.ToLower(cell("role")); role {
	case "owner", "moderator":
		if m.Address == "" {
			return fmt.Errorf("address is %q, expected the address of a person or group, as role is %s", text, role)
		}
	}
	switch role := strings.ToLower(cell("role")); role {
	case "owner":
		g.Owners = append(g.Owners, m.Address)
		return nil
	case "moderator":
		g.Mods = append(g.Mods, m.Address)
		return nil
	case "", "member":
	default:
		return fmt.Errorf("%q is no role, expected member, owner or moderator", role)
	}
	for _, s := range estate.MembershipSettings() {
		if text := cell(s.Name); text != "" {
			if err := s.Set(&m.Membership, text); err != nil {
				return fmt.Errorf("%s: %w", s.Name, err)
			}
		}
	}
	g.Members = append(g.Members, m)
	return nil
}
