package estatefile

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
)

// cell is a cell of a row: a part of the text of its batch, and where it begins
// in the file, with the column in bytes.
type cell struct {
	from, to uint32
	place    estate.Place
}

// row is a record of a table, or why there is none.
type row struct {
	cells []cell
	ids   []estate.ID // what findAhead found, if it was asked to
	err   error       // a *csv.ParseError, or what ended the reading
}

// batch is a number of rows that are read ahead.
type batch struct {
	rows  []row
	text  string // that the cells are parts of
	bytes []byte // text, while it grows
	cells []cell // of all rows

	texts []string // for find
	found []estate.ID
	ids   []estate.ID // of all rows
}

// clear makes a batch ready for new rows.
func (b *batch) clear() {
	b.rows, b.cells, b.bytes = b.rows[:0], b.cells[:0], b.bytes[:0]
}

const batchSize = 256

// rowReader reads the rows of a table (RFC 4180). Rows without quotes are cut
// at their commas; from the first row with one on, package csv reads.
type rowReader struct {
	file  uint16
	guard *lineGuard
	plain *bufio.Reader
	line  int // the number of lines that are read as plain
	width int // cells of the first row, 0 before it
	csv   *csv.Reader
}

func newRowReader(r io.Reader, file uint16) *rowReader {
	guard := &lineGuard{r: r, line: 1}
	plain := bufio.NewReaderSize(guard, 1<<18)
	if mark, _ := plain.Peek(3); bytes.Equal(mark, []byte("\ufeff")) {
		_, _ = plain.Discard(3)
	}
	return &rowReader{file: file, guard: guard, plain: plain}
}

// send sends all rows in batches, so that they are read while those before are
// still being worked on. It takes the batches from used, and gives up when that
// is closed.
func (r *rowReader) send(full chan<- *batch, used <-chan *batch) {
	for b := range used {
		b.clear()
		more := false
		if r.csv == nil {
			more = r.fillPlain(b)
		} else {
			more = r.fill(b)
		}
		b.text = string(b.bytes)
		full <- b
		if !more {
			return
		}
	}
}

// fillPlain reads rows that have no quotes, and reports whether there may be
// more rows.
func (r *rowReader) fillPlain(b *batch) bool {
	more := true
	for len(b.rows) < batchSize && more {
		line, err := r.plain.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) || bytes.IndexByte(line, '"') >= 0 {
			r.startCSV(line)
			break
		}
		r.line++
		more = err == nil
		line = bytes.TrimSuffix(bytes.TrimSuffix(line, []byte{'\n'}), []byte{'\r'})
		if err != nil && !errors.Is(err, io.EOF) {
			b.rows = append(b.rows, r.ended(err))
		} else if len(line) > 0 {
			r.cut(b, line)
		}
	}
	return more
}

// cut adds a plain line to a batch.
func (r *rowReader) cut(b *batch, line []byte) {
	first, start := len(b.cells), 0
	base := len(b.bytes)
	b.bytes = append(b.bytes, line...)
	for start <= len(line) {
		length := bytes.IndexByte(line[start:], ',')
		if length < 0 {
			length = len(line) - start
		}
		b.cells = append(b.cells, cell{
			from:  uint32(base + start),
			to:    uint32(base + start + length),
			place: estate.Place{File: r.file, Line: uint32(r.line), Column: capColumn(start + 1)},
		})
		start += length + 1
	}
	one := row{cells: b.cells[first:]}
	if r.width == 0 {
		r.width = len(one.cells)
	}
	if len(one.cells) != r.width {
		one.err = &csv.ParseError{StartLine: r.line, Line: r.line, Column: 1, Err: csv.ErrFieldCount}
	}
	b.rows = append(b.rows, one)
}

// startCSV has package csv read all that follows, a line that was read already
// first.
func (r *rowReader) startCSV(line []byte) {
	r.csv = csv.NewReader(io.MultiReader(bytes.NewReader(bytes.Clone(line)), r.plain))
	r.csv.ReuseRecord = true
	r.csv.FieldsPerRecord = r.width
}

// fill reads the next rows, and reports whether there may be more.
func (r *rowReader) fill(b *batch) bool {
	for len(b.rows) < batchSize {
		r.guard.beginRow()
		record, err := r.csv.Read()
		if errors.Is(err, io.EOF) {
			return false
		}
		bad := (*csv.ParseError)(nil)
		if errors.As(err, &bad) {
			bad.StartLine += r.line
			bad.Line += r.line
		} else if err != nil {
			b.rows = append(b.rows, r.ended(err))
			return false
		}
		first := len(b.cells)
		for i, text := range record {
			line, column := r.csv.FieldPos(i)
			from := len(b.bytes)
			b.bytes = append(b.bytes, text...)
			b.cells = append(b.cells, cell{
				from:  uint32(from),
				to:    uint32(len(b.bytes)),
				place: estate.Place{File: r.file, Line: uint32(r.line + line), Column: capColumn(column)},
			})
		}
		b.rows = append(b.rows, row{cells: b.cells[first:], err: err})
	}
	return true
}

// find looks up the cells of some columns of all rows. What stands in the first of them is
// often the same in many rows in turn, and looked up once for those.
func (b *batch) find(columns []int, findAll func([]string, []estate.ID)) {
	b.texts = b.texts[:0]
	first := "" // of the rows at hand
	for i := range b.rows {
		if b.rows[i].err != nil {
			continue
		}
		for n, column := range columns {
			c := b.rows[i].cells[column]
			text := b.text[c.from:c.to]
			if n == 0 && text == first && len(b.texts) > 0 {
				continue
			}
			if n == 0 {
				first = text
			}
			b.texts = append(b.texts, text)
		}
	}
	b.found = slices.Grow(b.found[:0], len(b.texts))[:len(b.texts)]
	findAll(b.texts, b.found)
	b.ids = slices.Grow(b.ids[:0], len(b.rows)*len(columns))[:0]
	first = ""
	next, of := 0, estate.None
	for i := range b.rows {
		if b.rows[i].err != nil {
			continue
		}
		c := b.rows[i].cells[columns[0]]
		if text := b.text[c.from:c.to]; text != first || next == 0 {
			first, of = text, b.found[next]
			next++
		}
		from := len(b.ids)
		b.ids = append(append(b.ids, of), b.found[next:next+len(columns)-1]...)
		next += len(columns) - 1
		b.rows[i].ids = b.ids[from:]
	}
}

// ended is a row for an error that ends the reading.
func (r *rowReader) ended(err error) row {
	return row{cells: []cell{{place: estate.Place{File: r.file, Line: r.guard.line, Column: 1}}}, err: err}
}

// lineGuard stops reading at a line that is longer than maxLine, or at a row of
// several lines that is.
type lineGuard struct {
	r      io.Reader
	line   uint32 // that is being read
	length int    // of it, so far
	rows   bool   // whether the places where rows begin are kept
	row    int    // bytes read since a row began, with what is read ahead
}

func (g *lineGuard) beginRow() { g.rows, g.row = true, 0 }

func (g *lineGuard) Read(p []byte) (int, error) {
	n, err := g.r.Read(p)
	g.row += n
	if last := bytes.LastIndexByte(p[:n], '\n'); last >= 0 {
		g.line += uint32(bytes.Count(p[:n], []byte{'\n'}))
		g.length = n - last - 1
	} else if g.length += n; g.length > maxLine {
		return 0, fmt.Errorf("the line is longer than %d MiB", maxLine>>20)
	}
	if g.rows && g.row > maxLine {
		return 0, fmt.Errorf("the row is longer than %d MiB; perhaps a quote does not end", maxLine>>20)
	}
	return n, err
}
