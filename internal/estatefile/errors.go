package estatefile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/core/estate"
)

// mostErrors is how many errors of one load are kept; the rest is counted.
const mostErrors = 10000

// An Error is one thing that is wrong in a file.
type Error struct {
	File    string
	Line    int    // from 1
	Column  int    // in characters, from 1
	Text    string // what is wrong, what was expected
	Nearest string // what may have been meant, or ""
	See     string // a second place that has to do with it, or ""
	Excerpt string // for rules and selectors: the text, and a caret under the spot

	file int // for sorting
}

// Error returns the error as file:line:column: text, on one line. The Excerpt
// is not in it.
func (e *Error) Error() string {
	var b strings.Builder
	if e.Line > 0 {
		fmt.Fprintf(&b, "%s:%d:%d: %s", e.File, e.Line, e.Column, e.Text)
	} else {
		fmt.Fprintf(&b, "%s: %s", e.File, e.Text)
	}
	if e.See != "" {
		fmt.Fprintf(&b, " (see %s)", e.See)
	}
	if e.Nearest != "" {
		fmt.Fprintf(&b, "; did you mean %s?", strconv.Quote(e.Nearest))
	}
	return b.String()
}

// Errors are all errors of one load, by file and place.
type Errors struct {
	List []*Error
	More int // errors beyond those in List
}

// Error returns all errors, each on a line of its own and with its excerpt.
func (e *Errors) Error() string {
	var b strings.Builder
	for i, one := range e.List {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(one.Error())
		b.WriteString(one.Excerpt)
	}
	if e.More > 0 {
		fmt.Fprintf(&b, "\n... and %d more errors", e.More)
	}
	return b.String()
}

func (e *Errors) add(one *Error) {
	if len(e.List) < mostErrors {
		e.List = append(e.List, one)
	} else {
		e.More++
	}
}

func (e *Errors) sort() {
	slices.SortStableFunc(e.List, func(a, b *Error) int {
		if a.file != b.file {
			return a.file - b.file
		}
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
}

// fail notes an error at a place.
func (l *loader) fail(place estate.Place, text, nearest string) {
	l.errs.add(l.newError(place, text, nearest))
}

func (l *loader) newError(place estate.Place, text, nearest string) *Error {
	return &Error{
		File: l.called(l.files[place.File]), Line: int(place.Line), Column: int(place.Column),
		Text: text, Nearest: nearest, file: int(place.File),
	}
}

// failWithin notes an error in a text that begins at a place: at a spot given
// in bytes.
func (l *loader) failWithin(place estate.Place, source string, offset, length int, text, nearest string) {
	e := l.newError(l.within(place, source, offset), text, nearest)
	e.Excerpt = excerpt(source, offset, length)
	l.errs.add(e)
}

// failProblem notes a problem that the core has found.
func (l *loader) failProblem(p estate.Problem) {
	if p.Source != "" {
		l.failWithin(p.Place, p.Source, p.Offset, p.Length, p.Text, p.Nearest)
		return
	}
	e := l.newError(p.Place, p.Text, p.Nearest)
	if p.See != (estate.Place{}) {
		e.See = l.position(p.See)
	}
	l.errs.add(e)
}

// within returns the place of a spot in a text that begins at place. Where the
// file does not hold the text letter by letter (it is folded, or has escapes),
// that is where the text begins.
func (l *loader) within(place estate.Place, source string, offset int) estate.Place {
	before := source[:min(offset, len(source))]
	lines, isYAML := l.lines[int(place.File)]
	if !isYAML {
		place.Column = capColumn(int(place.Column) + widthInTable(before))
		return place
	}
	line := lines.at(int(place.Line))
	start := byteColumn(line, int(place.Column))
	if start < len(line) && (line[start] == '"' || line[start] == '\'') && !strings.HasPrefix(line[start:], source) {
		start++ // the text begins behind its quote
		place.Column = capColumn(int(place.Column) + 1)
	}
	if strings.HasPrefix(line[start:], before) && !strings.Contains(before, "\n") {
		place.Column = capColumn(int(place.Column) + utf8.RuneCountInString(before))
	}
	return place
}

// byteColumn returns the byte offset of a column in a line.
func byteColumn(line string, column int) int {
	for i := range line {
		if column == 1 {
			return i
		}
		column--
	}
	return len(line)
}

func capColumn(column int) uint16 { return uint16(min(column, 1<<16-1)) }

// position returns a place as file:line:column.
func (l *loader) position(p estate.Place) string {
	return (&estate.Settings{Files: l.names()}).Position(p)
}

// excerpt shows the line of a text that holds a spot, with carets under the
// spot. What is too far from the spot is cut.
func excerpt(source string, offset, length int) string {
	const around = 60
	offset = min(offset, len(source))
	start := strings.LastIndexByte(source[:offset], '\n') + 1
	line := source[start:]
	if end := strings.IndexByte(line, '\n'); end >= 0 {
		line = line[:end]
	}
	offset -= start
	before, rest := []rune(line[:min(offset, len(line))]), []rune(line[min(offset, len(line)):])
	spot := utf8.RuneCountInString(line[min(offset, len(line)):min(offset+length, len(line))])
	if len(before) > around {
		before = append([]rune("..."), before[len(before)-around:]...)
	}
	if len(rest) > around {
		rest = append(rest[:around:around], []rune("...")...)
	}
	spot = min(max(spot, 1), around)
	return "\n    " + string(before) + string(rest) +
		"\n    " + strings.Repeat(" ", len(before)) + strings.Repeat("^", spot)
}
