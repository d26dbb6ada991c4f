package estatefile

import (
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/localfile"
)

// table reads a table: RFC 4180, UTF-8, with a header row.
type table struct {
	l       *loader
	file    uint16
	header  []string
	batches <-chan *batch
	used    chan<- *batch
	batch   *batch // the one at hand
	next    int    // index in it of the row after the one at hand
	row     *row   // the one at hand
	passed  int    // cells of it before the one whose place was asked for last
	wider   int    // how many more bytes than characters they have
}

// readTable opens the table that a YAML file names at a place, and calls use
// with it. A table that cannot be opened is an error of the load.
func (l *loader) readTable(path string, at estate.Place, use func(*table)) {
	path = beside(l.files[at.File], path)
	f, err := l.open(path)
	if err != nil {
		var cause error = err
		if e := (*os.PathError)(nil); errors.As(err, &e) {
			cause = e.Err
		}
		l.fail(at, fmt.Sprintf("the table %s cannot be read: %v", strconv.Quote(l.called(path)), cause), "")
		return
	}
	defer f.Close()
	const ahead = 4
	full, used := make(chan *batch, ahead), make(chan *batch, ahead+1)
	for range ahead {
		used <- &batch{}
	}
	t := &table{l: l, file: l.addFile(path), batches: full, used: used, batch: &batch{}}
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer close(full)
		newRowReader(
			&localfile.Bounded{Ctx: l.ctx, R: f, Name: l.called(path), Most: maxTable},
			t.file,
		).send(
			full,
			used,
		)
	}()
	use(t)
	close(used)
	for range t.batches { // let the reader notice
	}
	<-done
}

// beside returns a path that is meant from the folder of a file.
func beside(file, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(file), path)
}

// findAhead looks up the cells of some columns of the rows that are not read
// yet, so that it is done when they are.
func (t *table) findAhead(columns []int, findAll func([]string, []estate.ID)) {
	read, found := t.batches, make(chan *batch, cap(t.batches))
	t.batches = found
	go func() {
		defer close(found)
		for b := range read {
			b.find(columns, findAll)
			found <- b
		}
	}()
}

// mostColumns is how many columns a table may have.
const mostColumns = 10_000

// readHeader reads the header row. Columns that are none of known are errors,
// unless others are allowed. It returns the index of each known column, or -1.
func (t *table) readHeader(what string, known, required []string, others bool) (map[string]int, bool) {
	columns := map[string]int{}
	for _, name := range known {
		columns[name] = -1
	}
	if !t.read() {
		if t.header == nil {
			t.l.fail(
				t.start(),
				"the table has no header row, expected one such as "+strings.Join(known[:min(3, len(known))], ","),
				"",
			)
		}
		return columns, false
	}
	if len(t.row.cells) > mostColumns {
		t.l.fail(t.start(), fmt.Sprintf("the table has more than %d columns", mostColumns), "")
		return columns, false
	}
	for i := range t.row.cells {
		t.header = append(t.header, strings.Clone(t.text(i)))
	}
	ok := true
	met := map[string]bool{}
	for i, name := range t.header {
		twice := met[name]
		met[name] = true
		if twice {
			t.fail(i, "the column "+quote(name)+" stands here for the second time")
			ok = false
		}
		if _, isKnown := columns[name]; isKnown {
			columns[name] = i
		} else if now, old := estate.Former(name); old && slices.Contains(known, now) {
			t.l.fail(t.place(i), quote(name)+" is "+quote(now)+" now", "")
			ok = false
		} else if !others {
			text, near := "unknown column "+quote(name)+" in a table of "+what, nearest.Word(name, known)
			if near == "" {
				text += ", expected one of " + strings.Join(known, ", ")
			}
			t.l.fail(t.place(i), text, near)
			ok = false
		}
	}
	for _, name := range required {
		if columns[name] < 0 {
			t.l.fail(t.start(), "the column "+quote(name)+" is missing", nearest.Word(name, t.header))
			ok = false
		}
	}
	return columns, ok
}

// read goes to the next row that is well formed, and reports whether there is
// one. What is wrong with the others is an error of the load.
func (t *table) read() bool {
	for {
		for t.next == len(t.batch.rows) {
			t.used <- t.batch
			b, ok := <-t.batches
			if !ok {
				t.batch = &batch{}
				t.next = 0
				return false
			}
			t.batch, t.next = b, 0
		}
		t.row = &t.batch.rows[t.next]
		t.next++
		t.passed, t.wider = 0, 0
		if t.row.err == nil {
			return true
		}
		t.failRow()
	}
}

// failRow notes why the row at hand could not be read.
func (t *table) failRow() {
	var bad *csv.ParseError
	if !errors.As(t.row.err, &bad) {
		t.l.fail(t.row.cells[0].place, t.row.err.Error(), "")
		return
	}
	place := estate.Place{File: t.file, Line: uint32(bad.Line), Column: capColumn(bad.Column)}
	text := bad.Err.Error()
	switch {
	case errors.Is(bad.Err, csv.ErrFieldCount):
		place.Line, place.Column = t.row.cells[0].place.Line, 1
		text = fmt.Sprintf("the row has %d cells, expected %d as in the header", len(t.row.cells), len(t.header))
	case errors.Is(bad.Err, csv.ErrBareQuote):
		text = `a quote stands in a cell that is not in quotes, expected the whole cell in quotes and "" for the quote`
	case errors.Is(bad.Err, csv.ErrQuote):
		text = `a cell in quotes does not end here as it should, expected a quote, then a comma or the end of the row`
	}
	t.l.fail(place, text, "")
}

// text returns the content of a cell of the row. It keeps all that was read with
// it in memory; what stays is to be cloned.
func (t *table) text(column int) string {
	c := t.row.cells[column]
	return t.batch.text[c.from:c.to]
}

// start returns the beginning of the table.
func (t *table) start() estate.Place { return estate.Place{File: t.file, Line: 1, Column: 1} }

// place returns where a cell of the row begins; for one in quotes, where its
// content does.
func (t *table) place(column int) estate.Place {
	place := t.row.cells[column].place
	if column < t.passed {
		t.passed, t.wider = 0, 0
	}
	for ; t.passed < column; t.passed++ {
		text := t.text(t.passed)
		t.wider += len(text) - utf8.RuneCountInString(text)
	}
	at := int(place.Column) - t.wider
	if strings.ContainsAny(t.text(column), "\",\n\r") {
		at++
	}
	place.Column = capColumn(at)
	return place
}

func (t *table) fail(column int, text string) { t.l.fail(t.place(column), text, "") }

// cell returns a cell as an item that outlives the row.
func (t *table) cell(column int) item {
	return item{strings.Clone(t.text(column)), t.place(column)}
}

// cells returns the items of a cell that holds a list. Semicolons separate,
// except inside a quoted because or a quoted local part.
func (t *table) cells(column int) []item {
	text, place := strings.Clone(t.text(column)), t.place(column)
	var items []item
	passed, width := 0, 0 // of the text
	for _, part := range splitList(text) {
		trimmed := strings.Trim(text[part.from:part.to], " \t\r\n")
		if trimmed == "" {
			continue
		}
		begin := part.from + strings.Index(text[part.from:part.to], trimmed)
		width += widthInTable(text[passed:begin])
		passed = begin
		at := place
		at.Column = capColumn(int(at.Column) + width)
		items = append(items, item{trimmed, at})
	}
	return items
}

// widthInTable returns how many characters a part of a cell takes in its file: a
// quote stands there twice.
func widthInTable(s string) int { return utf8.RuneCountInString(s) + strings.Count(s, `"`) }

// span is a part of a text, in bytes.
type span struct{ from, to int }

// SplitList returns the items of a list that stands in one text, as in a cell of
// a table: semicolons separate, except inside a quoted because or local part.
func SplitList(text string) []string {
	list := []string{}
	for _, part := range splitList(text) {
		if item := strings.TrimSpace(text[part.from:part.to]); item != "" {
			list = append(list, item)
		}
	}
	return list
}

// splitList finds the items of a list in a cell.
func splitList(text string) []span {
	var parts []span
	from := 0
	quoted := false
	for i := range len(text) {
		switch {
		case quoted:
			quoted = text[i] != '"' || isEscaped(text, i)
		case text[i] == '"':
			before := strings.TrimRight(text[from:i], " \t\r\n")
			opensWord := i == 0 || strings.IndexByte(" \t\r\n;(", text[i-1]) >= 0
			quoted = strings.HasSuffix(before, "because") || opensWord
		case text[i] == ';':
			parts = append(parts, span{from, i})
			from = i + 1
		}
	}
	return append(parts, span{from, len(text)})
}

// isEscaped reports whether an odd number of backslashes stands before i.
func isEscaped(text string, i int) bool {
	n := 0
	for n < i && text[i-1-n] == '\\' {
		n++
	}
	return n%2 == 1
}

// validText reports whether all cells of the row are UTF-8; the first that is
// not is an error.
func (t *table) validText() bool {
	for i := range t.row.cells {
		cell := t.text(i)
		if !utf8.ValidString(cell) {
			t.fail(i, "this is not UTF-8, expected text in UTF-8")
			return false
		}
	}
	return true
}
