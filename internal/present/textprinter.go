package present

import (
	"bufio"
	"io"
	"strconv"
	"strings"

	"github.com/mattn/go-runewidth"
)

// codes are the parameters of SGR (ECMA-48, section 8.3.117) that a style has.
var codes = map[Style]string{Strong: "1", Faint: "2", Good: "32", Doubtful: "33", Bad: "31"}

// A textPrinter lays out text of a certain width, with or without colour.
type textPrinter struct {
	w       *bufio.Writer
	options Options
}

// newPage returns a page of text that goes to w.
func newPage(w io.Writer, options Options) *Page {
	return &Page{to: &textPrinter{bufio.NewWriter(w), options}, options: options}
}

// flush ends a page.
func (p *Page) flush() error { return p.to.flush() }

func (t *textPrinter) flush() error { return t.w.Flush() }

func (t *textPrinter) gap() { t.write(nil) }

func (t *textPrinter) code(indent int, s Span) {
	if s.Text == "" {
		indent = 0
	}
	t.write([]Span{{Plain, strings.Repeat(" ", indent)}, t.clean(s)})
}

func (t *textPrinter) line(indent int, place string, spans []Span) {
	lines := t.broken(indent, spans)
	if place == "" {
		for _, line := range lines {
			t.put(line)
		}
		return
	}
	last := len(lines) - 1
	at := t.clean(Span{Faint, place})
	if gap := t.prose() - width(lines[last]...) - width(at); gap >= columnGap {
		lines[last] = append(lines[last], Span{Plain, strings.Repeat(" ", gap)}, at)
	} else {
		lines = append(lines, []Span{{Plain, strings.Repeat(" ", max(t.prose()-width(at), indent))}, at})
	}
	for _, line := range lines {
		t.put(line)
	}
}

// broken returns the lines into which spans are broken. Leading blanks are no part of what is broken.
func (t *textPrinter) broken(indent int, spans []Span) [][]Span {
	lead, list := "", make([]Span, 0, len(spans))
	for _, s := range spans {
		if len(list) == 0 {
			trimmed := strings.TrimLeft(s.Text, " ")
			lead += s.Text[:len(s.Text)-len(trimmed)]
			s.Text = trimmed
		}
		if s.Text != "" {
			list = append(list, t.clean(s))
		}
	}
	lines := wrap(list, max(t.prose()-max(indent, len(lead)), 20))
	for i := range lines {
		lines[i] = append([]Span{{Plain, lead}}, lines[i]...)
		lead = strings.Repeat(" ", indent)
	}
	return lines
}

// prose is how wide a line of prose is: what is longer is hard to read. Where lines are not for a
// page it is as wide as they are.
func (t *textPrinter) prose() int {
	if t.options.Width >= endless {
		return t.options.Width
	}
	return min(t.options.Width, 100)
}

// endless is the width from which on lines are not for a page.
const endless = 1 << 14

// clean returns a span without what could control a terminal, and without the folder that places are to be shown
// without.
func (t *textPrinter) clean(s Span) Span {
	if t.options.Folder != "" {
		s.Text = strings.ReplaceAll(s.Text, t.options.Folder, "")
	}
	s.Text = Clean(s.Text)
	return s
}

// put writes a line of clean spans, without blanks at its end.
func (t *textPrinter) put(line []Span) {
	for len(line) > 0 {
		last := &line[len(line)-1]
		if last.Text = strings.TrimRight(last.Text, " "); last.Text != "" {
			break
		}
		line = line[:len(line)-1]
	}
	t.write(line)
}

// write writes a line of clean spans.
func (t *textPrinter) write(line []Span) {
	for _, s := range line { // flush reports the errors
		if code := codes[s.Style]; t.options.Colour && code != "" && s.Text != "" {
			s.Text = "\x1b[" + code + "m" + s.Text + "\x1b[0m"
		}
		_, _ = t.w.WriteString(s.Text)
	}
	_ = t.w.WriteByte('\n')
}

const (
	tableIndent = 2
	columnGap   = 2
)

func (t *textPrinter) table(rows [][]Span) {
	clean := make([][]Span, len(rows))
	for r, row := range rows {
		clean[r] = make([]Span, len(row))
		for i, s := range row {
			clean[r][i] = t.clean(s)
		}
	}
	rows, apart := t.namesApart(clean)
	most := t.columns(rows)
	cells := make([][][][]Span, len(rows)) // by row and column: lines
	widths := make([]int, len(most))
	for r, row := range rows {
		cells[r] = make([][][]Span, len(row))
		for i, s := range row {
			cells[r][i] = wrap([]Span{s}, most[i])
			for _, line := range cells[r][i] {
				widths[i] = max(widths[i], width(line...))
			}
		}
	}
	if len(apart) > 0 {
		widths[0] = max(widths[0], 1)
	}
	for r := range rows {
		if name, ok := apart[r]; ok {
			t.put([]Span{{Plain, strings.Repeat(" ", tableIndent)}, name})
		}
		t.row(cells[r], widths, rows)
	}
}

// row writes the cells of a row, each of which may have several lines.
func (t *textPrinter) row(cells [][][]Span, widths []int, rows [][]Span) {
	height := 1
	for _, lines := range cells {
		height = max(height, len(lines))
	}
	for at := range height {
		line := []Span{{Plain, strings.Repeat(" ", tableIndent)}}
		for i, lines := range cells {
			var cell []Span
			if at < len(lines) {
				cell = lines[at]
			}
			pad := []Span{{Plain, strings.Repeat(" ", widths[i]-width(cell...))}}
			if isNumeric(rows, i) {
				cell, pad = pad, cell
			}
			line = append(append(append(line, cell...), pad...), Span{Plain, strings.Repeat(" ", columnGap)})
		}
		t.put(line)
	}
}

// namesApart takes the cells of the first column that are too wide out of a table that is
// wider than the page, and returns them by row.
func (t *textPrinter) namesApart(rows [][]Span) (narrow [][]Span, apart map[int]Span) {
	const least, last = 8, 12 // columns of the first, and of the last cell where it is broken
	if len(rows[0]) < 3 {
		return rows, nil
	}
	without := make([][]Span, len(rows))
	for i, row := range rows {
		without[i] = append([]Span{{}}, row[1:]...)
		if end := &without[i][len(row)-1]; width(*end) > last && longestWord(end.Text) < last {
			*end = Span{Text: strings.Repeat("x", last)}
		}
	}
	room := t.options.Width - tableWidth(without)
	if room < least {
		return rows, nil
	}
	apart = map[int]Span{}
	for i, row := range rows {
		if width(row[0]) > room {
			apart[i] = row[0]
			row = append([]Span{{}}, row[1:]...)
		}
		narrow = append(narrow, row)
	}
	return narrow, apart
}

// columnWidths returns how wide each column is in which nothing is broken, and the longest word of each.
func columnWidths(rows [][]Span) (widths, words []int) {
	for _, row := range rows {
		for i, s := range row {
			if i == len(widths) {
				widths, words = append(widths, 0), append(words, 0)
			}
			widths[i], words[i] = max(widths[i], width(s)), max(words[i], longestWord(s.Text))
		}
	}
	return widths, words
}

// tableWidth returns how wide a table of clean cells is in which nothing is broken.
func tableWidth(rows [][]Span) int {
	widths, _ := columnWidths(rows)
	all := tableIndent + columnGap*(len(widths)-1)
	for _, width := range widths {
		all += width
	}
	return all
}

// columns decides how wide each column may become.
func (t *textPrinter) columns(rows [][]Span) (most []int) {
	widths, words := columnWidths(rows)
	const fair = 12 // what a column in the middle gets at any rate
	left := t.options.Width - tableIndent - columnGap*(len(widths)-1)
	last := len(widths) - 1
	later := min(widths[last], left*2/5) // what the columns behind the one at hand get at any rate
	for _, width := range widths[1:max(last, 1)] {
		later += min(width, fair)
	}
	for i, width := range widths {
		one := max(left, 16)
		if i < last {
			one = max(left-later, fair)
			if i+1 < last {
				later -= min(widths[i+1], fair)
			}
		}
		one = max(one, words[i])
		most = append(most, one)
		left -= min(width, one)
	}
	return most
}

// isNumeric reports whether a column holds numbers, or marks for none, below its head.
func isNumeric(rows [][]Span, column int) bool {
	for _, row := range rows[1:] {
		cell := row[column].Text
		if _, err := strconv.Atoi(cell); err != nil && cell != "." && cell != "-" {
			return false
		}
	}
	return len(rows) > 1
}

// width returns how many columns of a terminal clean spans take.
func width(spans ...Span) (columns int) {
	for _, s := range spans {
		columns += runewidth.StringWidth(s.Text)
	}
	return columns
}

// Heading writes a heading to w.
func Heading(w io.Writer, s string, options Options) {
	p := newPage(w, options)
	p.Title(s)
	_ = p.flush()
}

// Paragraph writes a text to w, broken into lines.
func Paragraph(w io.Writer, s string, options Options) {
	p := newPage(w, options)
	p.Line(2, Span{Plain, s})
	_ = p.flush()
}
