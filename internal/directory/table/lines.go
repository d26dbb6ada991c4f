package table

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
)

// lines are the rows of a text with separators (RFC 4180).
type lines struct {
	name    string
	bound   *rowLimit
	csv     *csv.Reader
	skipped int // lines above what csv reads
	cells   int // of every row; 0: not known yet
	last    int // line of the last row that was read
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

func newLines(r io.Reader, name string, options Options) (*lines, error) {
	text, err := decoded(r, name, options.Encoding)
	if err != nil {
		return nil, err
	}
	bound := &rowLimit{r: text}
	buffered := bufio.NewReaderSize(bound, 1<<16)
	l := &lines{name: name, bound: bound}
	separator := options.Separator
	// Some spreadsheets say in the first line what separates the cells.
	if mark, _ := buffered.Peek(6); len(mark) == 6 && strings.EqualFold(string(mark[:4]), "sep=") {
		line, err := buffered.ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, l.fail(err)
		}
		if rest := strings.TrimRight(line[4:], "\r\n"); len(rest) == 1 {
			separator = rune(rest[0])
		}
		l.skipped = 1
	}
	if separator == 0 {
		separator = findSeparator(buffered)
	}
	l.csv = csv.NewReader(buffered)
	l.csv.Comma, l.csv.ReuseRecord, l.csv.LazyQuotes, l.csv.FieldsPerRecord = separator, true, separator == '\t', -1
	return l, nil
}

// findSeparator returns what separates the cells of the first line that has any of them.
func findSeparator(r *bufio.Reader) rune {
	start, _ := r.Peek(r.Size())
	for line := range strings.Lines(string(start)) {
		best, most := ',', strings.Count(line, ",")
		for _, c := range []rune{'\t', ';'} {
			if n := strings.Count(line, string(c)); n > most {
				best, most = c, n
			}
		}
		if most > 0 {
			return best
		}
	}
	return ','
}

func (l *lines) next() (row, error) {
	l.bound.read = 0
	record, err := l.csv.Read()
	if errors.Is(err, io.EOF) {
		return row{}, err
	}
	if err != nil {
		return row{}, l.fail(err)
	}
	line, _ := l.csv.FieldPos(0)
	l.last = line + l.skipped
	return row{record, l.last}, nil
}

func (l *lines) width(cells int) { l.cells, l.csv.FieldsPerRecord = cells, cells }

func (l *lines) fail(err error) error {
	if bad, ok := errors.AsType[*csv.ParseError](err); ok {
		text := "a cell in quotes does not end here as it should, expected a quote, then a separator or the end of the row"
		switch {
		case errors.Is(bad.Err, csv.ErrFieldCount):
			text = fmt.Sprintf("the row has not %d cells, as the header has", l.cells)
		case errors.Is(bad.Err, csv.ErrBareQuote):
			text = "a quote stands in a cell that is not in quotes, expected the whole cell in quotes and two for the quote"
		}
		return fmt.Errorf("%s:%d:%d: %s", l.name, bad.Line+l.skipped, bad.Column, text)
	}
	if _, ok := errors.AsType[*Undecodable](err); ok {
		return err
	}
	return fmt.Errorf("%s:%d:1: %w", l.name, l.last+1, err)
}
