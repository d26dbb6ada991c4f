package present

import (
	"slices"
	"strconv"
	"strings"
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

// A Span is a piece of text with a style. It may hold data of any kind: what
// could control a terminal is made visible when it is written.
type Span struct {
	Style Style
	Text  string
}

// A printer takes the parts of an answer for people, one after the other.
type printer interface {
	// line takes a line that may be broken; what follows a break is set in by indent. A place, or "", stands at the
	// right margin.
	line(indent int, place string, spans []Span)
	// code takes a line that is never broken, as somebody copies it.
	code(indent int, s Span)
	// gap takes an empty line.
	gap()
	// table takes rows of cells.
	table(rows [][]Span)
	// flush ends the answer, and returns the first error of writing it.
	flush() error
}

// A Page is what an answer for people is written on, for a printer to lay out.
type Page struct {
	to      printer
	options Options
}

// Line writes spans on a line, broken where it is too long. What follows a
// break is set in by indent.
func (p *Page) Line(indent int, spans ...Span) { p.to.line(indent, "", spans) }

// LineAt is Line with a place at the right margin: on the last line if there is room, else
// on one of its own.
func (p *Page) LineAt(indent int, place string, spans ...Span) { p.to.line(indent, place, spans) }

// Code writes a line that is never broken, as somebody copies it.
func (p *Page) Code(indent int, s Span) { p.to.code(indent, s) }

// Gap writes an empty line.
func (p *Page) Gap() { p.to.gap() }

// Title writes a heading.
func (p *Page) Title(s string) { p.Line(0, Span{Strong, s}) }

// Table writes rows in aligned columns. The last column is broken where the
// page is not wide enough, and the others where even that does not help.
func (p *Page) Table(rows [][]Span) {
	if len(rows) > 0 {
		p.to.table(rows)
	}
}

// shown returns how many of a list are shown: all of one that is no longer than most, or a little; else most.
func (p *Page) shown(all, most int) int {
	const little = 2
	if p.options.All || all <= most+little {
		return all
	}
	return most
}

// first calls write with the indices of those of a list that are shown, and says how many more there are. what is
// "more", or says of what.
func (p *Page) first(all, most int, what string, write func(i int)) {
	shown := p.shown(all, most)
	for i := range shown {
		write(i)
	}
	p.more(all-shown, what)
}

// more says how many of a list are not shown, if there are any.
func (p *Page) more(n int, what string) {
	if n > 0 {
		p.Line(2, Span{Faint, "  and " + thousands(n) + " " + what + " (--all)"})
	}
}

// A block is a number of people that the same is true of.
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
		p.first(len(b.people), mostShown, "more", func(i int) {
			p.LineAt(6, b.places[i], Span{Plain, "    " + b.people[i]})
		})
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
