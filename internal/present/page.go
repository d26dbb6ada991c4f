package present

import (
	"bufio"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// A Style is how a piece of text stands out on a terminal.
type Style uint8

// The styles.
const (
	Plain Style = iota
	Strong
	Faint
	Good
	Doubtful
	Bad
)

var colours = map[Style]text.Colors{
	Strong:   {text.Bold},
	Faint:    {text.Faint},
	Good:     {text.FgGreen},
	Doubtful: {text.FgYellow},
	Bad:      {text.FgRed},
}

// A Span is a piece of text with a style. It may hold data of any kind: what
// could control a terminal is made visible when it is written.
type Span struct {
	Style Style
	Text  string
}

// A Page is text for people, of a certain width and with or without colour.
type Page struct {
	w       *bufio.Writer
	options Options
}

func newPage(w io.Writer, options Options) *Page {
	return &Page{w: bufio.NewWriter(w), options: options}
}

// clean returns a text without what could control a terminal, and without the folder
// that places are to be shown without.
func (p *Page) clean(s string) string {
	if p.options.Folder != "" {
		s = strings.ReplaceAll(s, p.options.Folder, "")
	}
	return Clean(s)
}

// render returns a span as it goes to the terminal.
func (p *Page) render(s Span) string {
	clean := p.clean(s.Text)
	if !p.options.Colour || s.Style == Plain || clean == "" {
		return clean
	}
	codes := make([]string, 0, 1)
	for _, c := range colours[s.Style] {
		codes = append(codes, strconv.Itoa(int(c)))
	}
	return "\x1b[" + strings.Join(codes, ";") + "m" + clean + "\x1b[0m"
}

// Line writes spans on a line, broken where it is too long. What follows a
// break is set in by indent.
func (p *Page) Line(indent int, spans ...Span) {
	for _, line := range p.broken(indent, spans) {
		p.write(line, "\n")
	}
}

// prose is how wide a line of prose is: what is longer is hard to read. Where lines are not for a
// page it is as wide as they are.
func (p *Page) prose() int {
	if p.options.Width >= endless {
		return p.options.Width
	}
	return min(p.options.Width, 100)
}

// endless is the width from which on lines are not for a page.
const endless = 1 << 14

// broken returns the lines into which spans are broken.
func (p *Page) broken(indent int, spans []Span) []string {
	// Leading blanks are no part of what is broken into lines.
	lead := ""
	for i, s := range spans {
		trimmed := strings.TrimLeft(s.Text, " ")
		lead += s.Text[:len(s.Text)-len(trimmed)]
		spans[i].Text = trimmed
		if trimmed != "" {
			break
		}
	}
	var b strings.Builder
	for _, s := range spans {
		b.WriteString(p.render(s))
	}
	margin := strings.Repeat(" ", indent)
	lines := strings.Split(wrap(b.String(), max(p.prose()-max(indent, len(lead)), 20)), "\n")
	for i := range lines {
		lines[i] = lead + strings.TrimRight(lines[i], " ")
		lead = margin
	}
	return lines
}

// LineAt is Line with a place at the right margin: on the last line if there is room, else
// on one of its own.
func (p *Page) LineAt(indent int, place string, spans ...Span) {
	if place == "" {
		p.Line(indent, spans...)
		return
	}
	lines := p.broken(indent, spans)
	last := len(lines) - 1
	size := text.StringWidth(p.clean(place))
	if gap := p.prose() - text.StringWidthWithoutEscSequences(lines[last]) - size; gap >= columnGap {
		lines[last] += strings.Repeat(" ", gap) + p.render(Span{Faint, place})
	} else {
		lines = append(lines, strings.Repeat(" ", max(p.prose()-size, indent))+p.render(Span{Faint, place}))
	}
	for _, line := range lines {
		p.write(line, "\n")
	}
}

// Gap writes an empty line.
func (p *Page) Gap() { p.write("\n") }

// Title writes a heading.
func (p *Page) Title(s string) { p.Line(0, Span{Strong, s}) }

func (p *Page) write(parts ...string) {
	for _, part := range parts {
		_, _ = p.w.WriteString(part) // Flush reports the error
	}
}

const (
	tableIndent = 2
	columnGap   = 2
)

// Table writes rows in aligned columns. The last column is broken where the
// page is not wide enough, and the others where even that does not help.
func (p *Page) Table(rows [][]Span) {
	if len(rows) == 0 {
		return
	}
	rows, apart := p.namesApart(rows)
	w := table.NewWriter()
	style := table.Style{Box: table.StyleBoxDefault, Options: table.OptionsNoBordersAndSeparators}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", strings.Repeat(" ", columnGap)
	w.SetStyle(style)
	w.SetColumnConfigs(p.columns(rows))
	for _, row := range rows {
		cells := make(table.Row, len(row))
		for i, s := range row {
			if cells[i] = p.render(s); s.Text == apartMark {
				cells[i] = apartMark
			}
		}
		w.AppendRow(cells)
	}
	for line := range strings.SplitSeq(w.Render(), "\n") {
		if rest, ok := strings.CutPrefix(line, apartMark); ok && len(apart) > 0 {
			p.write(strings.Repeat(" ", tableIndent), p.render(apart[0]), "\n")
			apart, line = apart[1:], " "+rest
		}
		p.write(strings.Repeat(" ", tableIndent), strings.TrimRight(line, " "), "\n")
	}
}

// apartMark stands in a table for a cell that is on a line of its own. It is a character for
// private use, which Clean leaves in no text.
const apartMark = "\ue000"

// namesApart takes the cells of the first column that are too wide out of a table that is
// wider than the page, and returns them. Marks stand for them.
func (p *Page) namesApart(rows [][]Span) (narrow [][]Span, apart []Span) {
	const least, last = 8, 12 // columns of the first, and of the last cell where it is broken
	if len(rows[0]) < 3 {
		return rows, nil
	}
	without := make([][]Span, len(rows))
	for i, row := range rows {
		without[i] = append([]Span{{}}, row[1:]...)
		if end := &without[i][len(row)-1]; text.StringWidth(p.clean(end.Text)) > last && longestWord(end.Text) < last {
			*end = Span{Text: strings.Repeat("x", last)}
		}
	}
	room := p.options.Width - p.tableWidth(without)
	if room < least {
		return rows, nil
	}
	for _, row := range rows {
		if text.StringWidth(p.clean(row[0].Text)) > room {
			apart = append(apart, row[0])
			row = append([]Span{{Text: apartMark}}, row[1:]...)
		}
		narrow = append(narrow, row)
	}
	return narrow, apart
}

// tableWidth returns how wide a table is in which nothing is broken.
func (p *Page) tableWidth(rows [][]Span) int {
	var widths []int
	for _, row := range rows {
		for i, s := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], text.StringWidth(p.clean(s.Text)))
		}
	}
	all := tableIndent + columnGap*(len(widths)-1)
	for _, width := range widths {
		all += width
	}
	return all
}

// columns decides how wide each column may become.
func (p *Page) columns(rows [][]Span) []table.ColumnConfig {
	var widths, words []int // of whole cells, and of what is not broken
	for _, row := range rows {
		for i, s := range row {
			if i == len(widths) {
				widths, words = append(widths, 0), append(words, 0)
			}
			clean := p.clean(s.Text)
			widths[i] = max(widths[i], text.StringWidth(clean))
			words[i] = max(words[i], longestWord(clean))
		}
	}
	const fair = 12 // what a column in the middle gets at any rate
	left := p.options.Width - tableIndent - columnGap*(len(widths)-1)
	last := len(widths) - 1
	later := min(widths[last], left*2/5) // what the columns behind the one at hand get at any rate
	for _, width := range widths[1:max(last, 1)] {
		later += min(width, fair)
	}
	var configs []table.ColumnConfig
	for i, width := range widths {
		most := max(left, 16)
		if i < last {
			most = max(left-later, fair)
			if i+1 < last {
				later -= min(widths[i+1], fair)
			}
		}
		most = max(most, words[i])
		config := table.ColumnConfig{Number: i + 1, WidthMax: most, WidthMaxEnforcer: wrap}
		if numeric(rows, i) {
			config.Align = text.AlignRight
		}
		configs = append(configs, config)
		left -= min(width, most)
	}
	return configs
}

// numeric reports whether a column holds numbers, or marks for none, below its head.
func numeric(rows [][]Span, column int) bool {
	for _, row := range rows[1:] {
		cell := row[column].Text
		if _, err := strconv.Atoi(cell); err != nil && cell != "." && cell != "-" {
			return false
		}
	}
	return len(rows) > 1
}

// A block is a number of people of whom the same is true.
type block struct {
	word   Span     // what is true of them
	text   string   // more about it, or ""
	via    string   // the groups that it comes through, or ""
	place  string   // where it is written, or ""
	people []string // addresses
	places []string // where each of them is written, or ""; nil: nowhere
}

// apart reports whether each of the people stands at a place of their own.
func (b block) apart() bool {
	return b.place == "" && slices.ContainsFunc(b.places, func(place string) bool { return place != "" })
}

// blocks writes a titled list of blocks.
func (p *Page) blocks(title string, list []block) {
	total := 0
	for _, b := range list {
		total += len(b.people)
	}
	if total == 0 {
		return
	}
	p.Gap()
	p.Title(title + " (" + strconv.Itoa(total) + ")")
	for _, b := range list {
		p.block(b)
	}
}

// block writes a block: one person on a line with it, several below.
func (p *Page) block(b block) {
	spans := []Span{{Plain, "  " + strconv.Itoa(len(b.people)) + " "}, b.word}
	rest := ""
	if b.text != "" {
		rest += ": " + b.text
	}
	place := b.place
	alone := len(b.people) == 1 && b.text == ""
	if alone {
		rest += ": " + b.people[0]
		if b.apart() {
			place = b.places[0]
		}
	}
	if b.via != "" {
		rest += ", via " + b.via
	}
	p.LineAt(4, place, append(spans, Span{Plain, rest})...)
	switch {
	case alone:
	case b.apart():
		shown := len(b.people)
		if !p.options.All && shown > mostShown {
			shown = firstShown
		}
		for i := range shown {
			p.LineAt(6, b.places[i], Span{Plain, "    " + b.people[i]})
		}
		if shown < len(b.people) {
			p.Line(6, Span{Faint, "    and " + strconv.Itoa(len(b.people)-shown) + " more (--all)"})
		}
	default:
		p.Line(4, Span{Plain, "    " + p.some(b.people)})
	}
}

// How many of a list are shown: all of a short one, and the first of a longer one.
const (
	mostShown  = 10
	firstShown = 6
)

// some returns a list in one line; of a long one the first, and how many more there are.
func (p *Page) some(list []string) string { return p.firstOf(list, len(list)) }

// firstOf is some of a list of so many, of which only those at the beginning need be known.
func (p *Page) firstOf(list []string, all int) string {
	if p.options.All || all <= mostShown {
		return strings.Join(list, ", ")
	}
	return strings.Join(list[:firstShown], ", ") + " and " + strconv.Itoa(all-firstShown) + " more (--all)"
}

// Heading writes a heading to w.
func Heading(w io.Writer, s string, options Options) {
	p := newPage(w, options)
	p.Title(s)
	_ = p.w.Flush()
}

// Paragraph writes a text to w, broken into lines.
func Paragraph(w io.Writer, s string, options Options) {
	p := newPage(w, options)
	p.Line(2, Span{Plain, s})
	_ = p.w.Flush()
}
