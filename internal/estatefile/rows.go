package estatefile

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"

	"yorvet.example/yorvet/internal/core/estate"
)

// row is a record of a table, or why there is none.
type row struct {
	cells  []string
	places []estate.Place // where each cell begins, with columns in bytes
	ids    []estate.ID    // what findAhead found, if it was asked to
	err    error          // a *csv.ParseError, or what ended the reading
}

// batch is a number of rows that are read ahead.
type batch struct {
	rows   []row
	cells  []string // of all rows
	places []estate.Place
	ids    []estate.ID
	text   []byte // of plain rows
	ends   []int  // where each of their cells ends in text
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
		b.rows, b.cells, b.places = b.rows[:0], b.cells[:0], b.places[:0]
		more := false
		if r.csv == nil {
			more = r.fillPlain(b)
		} else {
			more = r.fill(b)
		}
		full <- b
		if !more {
			return
		}
	}
}

// fillPlain reads rows that have no quotes, and reports whether there may be
// more rows.
func (r *rowReader) fillPlain(b *batch) bool {
	b.text, b.ends = b.text[:0], b.ends[:0]
	more := true
	var failure error
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
			failure = err
		} else if len(line) > 0 {
			r.cut(b, line)
		}
	}
	b.fillCells()
	if failure != nil {
		b.rows = append(b.rows, r.ended(failure))
	}
	return more
}

// cut adds a plain line to a batch. Its cells are filled in later.
func (r *rowReader) cut(b *batch, line []byte) {
	from, start := len(b.places), 0
	base := len(b.text)
	b.text = append(b.text, line...)
	for start <= len(line) {
		end := bytes.IndexByte(line[start:], ',')
		if end < 0 {
			end = len(line) - start
		}
		b.places = append(b.places, estate.Place{File: r.file, Line: uint32(r.line), Column: capColumn(start + 1)})
		b.ends = append(b.ends, base+start+end)
		start += end + 1
	}
	one := row{places: b.places[from:]}
	if r.width == 0 {
		r.width = len(one.places)
	}
	if len(one.places) != r.width {
		one.err = &csv.ParseError{StartLine: r.line, Line: r.line, Column: 1, Err: csv.ErrFieldCount}
	}
	b.rows = append(b.rows, one)
}

// fillCells makes the cells of plain rows out of the text of all of them.
func (b *batch) fillCells() {
	text := string(b.text)
	from, end := 0, 0
	for i := range b.rows {
		first := len(b.cells)
		for n := range b.rows[i].places {
			if n > 0 {
				from = end + 1
			}
			end = b.ends[len(b.cells)]
			b.cells = append(b.cells, text[from:end])
		}
		from = end
		b.rows[i].cells = b.cells[first:]
	}
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
		from := len(b.cells)
		b.cells = append(b.cells, record...)
		for i := range record {
			line, column := r.csv.FieldPos(i)
			b.places = append(b.places, estate.Place{File: r.file, Line: uint32(r.line + line), Column: capColumn(column)})
		}
		b.rows = append(b.rows, row{cells: b.cells[from:], places: b.places[from:], err: err})
	}
	return true
}

// find looks up the cells of some columns of all rows. None is for what is not
// found.
func (b *batch) find(columns []int, find func(string) (estate.ID, bool)) {
	last := make([]struct { // by column, of the row before: often it is the same
		text string
		id   estate.ID
	}, len(columns))
	b.ids = b.ids[:0]
	for i := range b.rows {
		from := len(b.ids)
		for n, column := range columns {
			if b.rows[i].err != nil {
				break
			}
			if text := b.rows[i].cells[column]; text != last[n].text || i == 0 {
				id, ok := find(text)
				if !ok {
					id = estate.None
				}
				last[n].text, last[n].id = text, id
			}
			b.ids = append(b.ids, last[n].id)
		}
		b.rows[i].ids = b.ids[from:]
	}
}

// ended is a row for an error that ends the reading.
func (r *rowReader) ended(err error) row {
	return row{places: []estate.Place{{File: r.file, Line: r.guard.line, Column: 1}}, err: err}
}

// lineGuard stops reading at a line that is longer than maxLine.
type lineGuard struct {
	r      io.Reader
	line   uint32 // that is being read
	length int    // of it, so far
}

func (g *lineGuard) Read(p []byte) (int, error) {
	n, err := g.r.Read(p)
	if last := bytes.LastIndexByte(p[:n], '\n'); last >= 0 {
		g.line += uint32(bytes.Count(p[:n], []byte{'\n'}))
		g.length = n - last - 1
	} else if g.length += n; g.length > maxLine {
		return 0, fmt.Errorf("the line is longer than %d MiB", maxLine>>20)
	}
	return n, err
}
