package estatefile

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"slices"
	"sort"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
)

// rowText is a table of which rows are to be changed. All others stay as they
// are, to the byte.
type rowText struct {
	name    string
	data    []byte
	header  []string
	ends    []int // by record, the header first: the offset behind it
	lines   []int // by record: the line on which it begins
	rows    map[int][]string
	dropped map[int]bool
	added   []map[string]string
	newline string
}

func newRowText(name string, data []byte) (*rowText, error) {
	t := &rowText{name: name, data: data, rows: map[int][]string{}, dropped: map[int]bool{}, newline: "\n"}
	if end := bytes.IndexByte(data, '\n'); end > 0 && data[end-1] == '\r' {
		t.newline = "\r\n"
	}
	content := bytes.TrimPrefix(data, []byte("\ufeff"))
	if bytes.IndexByte(content, '"') < 0 {
		return t, t.cutPlain(content)
	}
	r := csv.NewReader(bytes.NewReader(content))
	r.ReuseRecord = true
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if t.header == nil {
			t.header = slices.Clone(record)
		}
		line, _ := r.FieldPos(0)
		t.lines = append(t.lines, line)
		t.ends = append(t.ends, len(data)-len(content)+int(r.InputOffset()))
	}
	if t.header == nil {
		return nil, errors.New(name + ": the table has no header row")
	}
	return t, nil
}

// cutPlain finds the records of a table without quotes: each is a line.
func (t *rowText) cutPlain(content []byte) error {
	lines := bytes.Count(content, []byte{'\n'}) + 1
	t.ends, t.lines = make([]int, 0, lines), make([]int, 0, lines)
	at := len(t.data) - len(content)
	number := 0
	for line := range bytes.Lines(content) {
		number++
		at += len(line)
		text := bytes.TrimSuffix(bytes.TrimSuffix(line, []byte{'\n'}), []byte{'\r'})
		if len(text) == 0 {
			continue
		}
		if t.header == nil {
			t.header = strings.Split(string(text), ",")
		}
		t.lines, t.ends = append(t.lines, number), append(t.ends, at)
	}
	if t.header == nil {
		return errors.New(t.name + ": the table has no header row")
	}
	return nil
}

// record returns the index of the record that a place is in.
func (t *rowText) record(p estate.Place) int {
	return sort.Search(len(t.lines), func(i int) bool { return t.lines[i] > int(p.Line) }) - 1
}

// cells returns the cells of a record, as they are to be.
func (t *rowText) cells(record int) []string {
	if row, ok := t.rows[record]; ok {
		return row
	}
	r := csv.NewReader(bytes.NewReader(t.data[t.ends[record-1]:t.ends[record]]))
	row, _ := r.Read() // it could be read before
	return row
}

// column returns the index of a column, a new one if need be.
func (t *rowText) column(name string) int {
	i := slices.Index(t.header, name)
	if i < 0 {
		i = len(t.header)
		t.header = append(t.header, name)
	}
	return i
}

// set sets a cell of a record.
func (t *rowText) set(record int, name, text string) {
	if slices.Index(t.header, name) < 0 && text == "" {
		return
	}
	column := t.column(name)
	row := slices.Clone(t.cells(record))
	for len(row) <= column {
		row = append(row, "")
	}
	row[column] = text
	t.rows[record] = row
}

// get returns a cell of a record.
func (t *rowText) get(record int, name string) string {
	row, column := t.cells(record), slices.Index(t.header, name)
	if column < 0 || column >= len(row) {
		return ""
	}
	return row[column]
}

// text returns the table with its changes.
func (t *rowText) text() []byte {
	width := len(t.cellsOf(t.data[:t.ends[0]]))
	widened := len(t.header) > width
	if len(t.rows)+len(t.dropped)+len(t.added) == 0 && !widened {
		return t.data
	}
	var b bytes.Buffer
	b.Grow(len(t.data) + len(t.data)/64 + 1<<12)
	w := csv.NewWriter(&b)
	w.UseCRLF = t.newline == "\r\n"
	write := func(row []string) {
		for len(row) < len(t.header) {
			row = append(row, "")
		}
		_ = w.Write(row)
		w.Flush()
	}
	for i, end := range t.ends {
		from := 0
		if i > 0 {
			from = t.ends[i-1]
		}
		row, changed := t.rows[i]
		switch {
		case t.dropped[i]:
		case changed:
			write(row)
		case widened && i == 0:
			if bytes.HasPrefix(t.data, []byte("\ufeff")) {
				b.WriteString("\ufeff")
			}
			write(t.header)
		case widened:
			write(t.cells(i))
		default:
			b.Write(t.data[from:end])
			if end == len(t.data) && t.data[end-1] != '\n' && len(t.added) > 0 {
				b.WriteString(t.newline)
			}
		}
	}
	for _, cells := range t.added {
		row := make([]string, len(t.header))
		for name, text := range cells {
			row[t.column(name)] = text
		}
		write(row)
	}
	return b.Bytes()
}

func (t *rowText) cellsOf(record []byte) []string {
	row, _ := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(record, []byte("\ufeff")))).Read()
	return row
}

// add adds a row. Columns that the table lacks are added where their cell is not
// empty.
func (t *rowText) add(cells map[string]string) {
	names := make([]string, 0, len(cells))
	for name, text := range cells {
		if text != "" {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	kept := map[string]string{}
	for _, name := range names {
		t.column(name)
		kept[name] = cells[name]
	}
	t.added = append(t.added, kept)
}

// joinCell joins the items of a list in a cell.
func joinCell(items []string) string { return strings.Join(items, ";") }
