// Package table reads tables of people, groups and memberships (RFC 4180), with
// commas, semicolons or tabs, and neutralises cells that a spreadsheet would take
// for formulas.
package table

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
)

// The words are at hand, as there are many memberships.
var copyWords, invitationsWords = estate.CopyWords(), estate.InvitationsWords()

// formula are the characters at which spreadsheets begin a formula.
const formula = "=+-@\t\r"

// Neutral returns a cell so that no spreadsheet takes it for a formula: with an
// apostrophe in front. Plain undoes it.
func Neutral(cell string) string {
	if rest := strings.TrimLeft(cell, "'"); rest != "" && strings.IndexByte(formula, rest[0]) >= 0 {
		return "'" + cell
	}
	return cell
}

// Plain is the reverse of Neutral.
func Plain(cell string) string {
	if strings.HasPrefix(cell, "'") {
		if rest := strings.TrimLeft(cell, "'"); rest != "" && strings.IndexByte(formula, rest[0]) >= 0 {
			return cell[1:]
		}
	}
	return cell
}

// A Reader reads a table with a header row.
type Reader struct {
	Header []string
	name   string
	rows   *rowLimit
	csv    *csv.Reader
	line   int // of the last row that was read
}

// mostRow is the size in bytes of a row that is read.
const mostRow = 4 << 20

// rowLimit ends the reading at a row that is larger than mostRow, before it is in
// memory.
type rowLimit struct {
	r    io.Reader
	read int // since the row began, with what is read ahead
}

func (l *rowLimit) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	if l.read += n; l.read > mostRow {
		return 0, fmt.Errorf("the row is longer than %d MiB; perhaps a quote does not end", mostRow>>20)
	}
	return n, err
}

// next returns the next row.
func (t *Reader) next() ([]string, error) {
	t.rows.read = 0
	record, err := t.csv.Read()
	if err == nil {
		t.line, _ = t.csv.FieldPos(0)
	}
	return record, err
}

// NewReader reads the header row of a table. separator is 0 where it has to be
// found out. name is for messages.
func NewReader(r io.Reader, name string, separator rune) (*Reader, error) {
	rows := &rowLimit{r: r}
	buffered := bufio.NewReaderSize(rows, 1<<16)
	if mark, _ := buffered.Peek(3); string(mark) == "\ufeff" {
		_, _ = buffered.Discard(3)
	}
	if separator == 0 {
		separator = findSeparator(buffered)
	}
	t := &Reader{name: name, rows: rows, csv: csv.NewReader(buffered)}
	t.csv.Comma, t.csv.ReuseRecord, t.csv.LazyQuotes = separator, true, separator == '\t'
	header, err := t.next()
	if errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s:1:1: the table has no header row", name)
	}
	if err != nil {
		return nil, t.fail(err)
	}
	for i, cell := range header {
		if cell = strings.TrimSpace(cell); cell != "" &&
			slices.ContainsFunc(t.Header, func(h string) bool { return strings.EqualFold(h, cell) }) {
			return nil, fmt.Errorf("%s:1:%d: the column %q stands here for the second time", name, i+1, cell)
		}
		t.Header = append(t.Header, cell)
	}
	return t, nil
}

// findSeparator returns what separates the cells of the first line.
func findSeparator(r *bufio.Reader) rune {
	line, _ := r.Peek(r.Size())
	text, _, _ := strings.Cut(string(line), "\n")
	best, most := ',', strings.Count(text, ",")
	for _, c := range []rune{'\t', ';'} {
		if n := strings.Count(text, string(c)); n > most {
			best, most = c, n
		}
	}
	return best
}

func (t *Reader) fail(err error) error {
	var bad *csv.ParseError
	if errors.As(err, &bad) {
		text := "a cell in quotes does not end here as it should, expected a quote, then a separator or the end of the row"
		switch {
		case errors.Is(bad.Err, csv.ErrFieldCount):
			text = fmt.Sprintf("the row has not %d cells, as the header has", len(t.Header))
		case errors.Is(bad.Err, csv.ErrBareQuote):
			text = "a quote stands in a cell that is not in quotes, expected the whole cell in quotes and two for the quote"
		}
		return fmt.Errorf("%s:%d:%d: %s", t.name, bad.Line, bad.Column, text)
	}
	return fmt.Errorf("%s:%d:1: %w", t.name, t.line+1, err)
}

// Each calls visit with every row as an entry, whose attributes are called as the
// columns. Empty cells are left out.
func (t *Reader) Each(visit func(*directory.Entry)) error {
	var e directory.Entry
	for {
		record, err := t.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return t.fail(err)
		}
		e.Reset()
		e.Line, _ = t.csv.FieldPos(0)
		for i, cell := range record {
			if cell = strings.TrimSpace(Plain(cell)); cell != "" && t.Header[i] != "" {
				e.Add(t.Header[i], cell)
			}
		}
		visit(&e)
	}
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
	var ok1, ok2 = true, true
	if word := cell("copy"); word != "" {
		m.Copy, ok1 = estate.WordIndex[estate.Copy](copyWords, word)
	}
	if word := cell("invitations"); word != "" {
		m.Invitations, ok2 = estate.WordIndex[estate.Invitations](invitationsWords, word)
	}
	if !ok1 || !ok2 {
		return fmt.Errorf(
			"copy is %q and invitations %q, expected every, digest, replies or none, and follow, every or none",
			cell("copy"),
			cell("invitations"),
		)
	}
	m.Paused = strings.EqualFold(cell("paused"), "true")
	if since := cell("since"); since != "" {
		day, err := estate.ParseDay(since)
		if err != nil {
			return err
		}
		m.Since = day
	}
	g.Members = append(g.Members, m)
	return nil
}
