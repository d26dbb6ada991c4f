// Package paste reads addresses as people paste them: out of the header of a
// message, a spreadsheet, a list in a document, or all of these at once.
//
// It takes what RFC 5322 (section 3.4) allows in a header, and what people make
// of it: addresses one a line, with or without names, with bullets or numbers
// before them, separated by commas, semicolons, tabs or blanks; columns with a
// heading. What it does not understand it lists, and never guesses an address.
package paste

import (
	"strconv"
	"strings"
	"unicode"

	"yorvet.example/yorvet/internal/core/address"
)

// A Person is an address that was found, and a name that stands with it.
type Person struct {
	Address address.Address
	Name    string // or ""
	Line    int    // from 1
}

// A Remark is something that was not understood, or is there once more.
type Remark struct {
	Line int
	Text string // what stands there
	Why  string
	// Nameless is set where there is no address at all, perhaps a name; Twice where the
	// address was there before.
	Nameless, Twice bool
}

// noAddress is why something that may be a name is not taken.
const noAddress = "no address"

// Parse reads a text. An address that is there several times is returned once.
func Parse(text string) ([]Person, []Remark) {
	p := &parser{seen: map[string]int{}}
	text = strings.TrimPrefix(text, "\ufeff")
	for line := range strings.SplitSeq(text, "\n") {
		p.line++
		p.readLine(strings.TrimRight(line, "\r"))
	}
	return p.people, p.remarks
}

type parser struct {
	line    int
	table   *columns // while a table continues
	people  []Person
	remarks []Remark
	seen    map[string]int // lines by key
}

// columns are those of a table that has a heading.
type columns struct {
	separator     string
	address, name int // indexes; name may be -1
}

// The headings that columns of addresses and names have, in lower case and
// without blanks and hyphens.
var (
	addressHeadings = map[string]bool{
		"email":        true,
		"mail":         true,
		"address":      true,
		"emailaddress": true,
		"mailaddress":  true,
		"emails":       true,
		"primaryemail": true,
		"workemail":    true,
		"smtp":         true,
	}
	nameHeadings = map[string]bool{"name": true, "fullname": true, "displayname": true, "person": true}
)

// mostHeading is how many bytes a heading has at most.
const mostHeading = 100

var withoutBlanks = strings.NewReplacer(" ", "", "-", "", "_", "")

func heading(cell string) string {
	if len(cell) > mostHeading {
		return ""
	}
	return withoutBlanks.Replace(strings.ToLower(strings.Trim(cell, " \t\"")))
}

// findTable returns the columns of a line that is the heading of a table, or nil.
func findTable(line string) *columns {
	if strings.Contains(line, "@") {
		return nil
	}
	for _, separator := range []string{"\t", ";", ","} {
		c := columns{separator, -1, -1}
		for i, cell := range splitCells(line, separator) {
			switch word := heading(cell); {
			case addressHeadings[word] && c.address < 0:
				c.address = i
			case nameHeadings[word] && c.name < 0:
				c.name = i
			}
		}
		if c.address >= 0 && (strings.Contains(line, separator) || separator == ",") {
			return &c
		}
	}
	return nil
}

// splitCells splits a row of a table. Quotes keep a cell together (RFC 4180).
func splitCells(line, separator string) []string {
	var cells []string
	var cell strings.Builder
	quoted, blank := false, true // so far
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '"' && quoted && i+1 < len(line) && line[i+1] == '"':
			cell.WriteByte('"')
			blank = false
			i++
		case line[i] == '"' && (quoted || blank):
			quoted = !quoted
		case !quoted && line[i] == separator[0]:
			cells = append(cells, strings.TrimSpace(cell.String()))
			cell.Reset()
			blank = true
		default:
			cell.WriteByte(line[i])
			blank = blank && strings.IndexByte(" \t\v\f\r", line[i]) >= 0
		}
	}
	return append(cells, strings.TrimSpace(cell.String()))
}

func (p *parser) readLine(line string) {
	if strings.TrimSpace(line) == "" {
		p.table = nil
		return
	}
	if table := findTable(line); table != nil {
		p.table = table
		return
	}
	if p.table != nil && p.readRow(line) {
		return
	}
	if strings.Contains(line, "\t") {
		p.readCells(strings.Split(line, "\t"))
		return
	}
	p.readList(line)
}

// readRow reads a row of a table, and reports whether it is one.
func (p *parser) readRow(line string) bool {
	cells := splitCells(line, p.table.separator)
	if p.table.address >= len(cells) || !strings.Contains(line, p.table.separator) && p.table.name >= 0 {
		return false
	}
	cell := cells[p.table.address]
	a, err := address.Parse(strings.TrimPrefix(cell, "'"))
	if err != nil {
		if !strings.ContainsAny(cell, "<,; ") {
			p.remark(line, reason(cell, err))
			return true
		}
		p.readList(cell)
		return true
	}
	name := ""
	if p.table.name >= 0 && p.table.name < len(cells) {
		name = cells[p.table.name]
	}
	p.add(a, name)
	return true
}

func reason(cell string, err error) string {
	if cell == "" {
		return "no address in its column"
	}
	return err.Error()
}

// readCells reads cells of a table without a heading: one that is an address,
// and a name beside it.
func (p *parser) readCells(cells []string) {
	name, found := "", false
	for _, cell := range cells {
		if cell = strings.TrimSpace(cell); !strings.Contains(cell, "@") {
			if name == "" && strings.ContainsFunc(cell, unicode.IsLetter) {
				name = cell
			}
			continue
		}
		found = true
		if a, err := address.Parse(cell); err == nil {
			p.add(a, name)
		} else {
			p.readList(cell)
		}
	}
	if !found {
		p.remark(strings.Join(cells, " "), noAddress)
	}
}

// readList reads a line of addresses with separators.
func (p *parser) readList(line string) {
	line = withoutLead(line)
	pending := "" // a piece without an address, which may be the first part of a name
	for _, piece := range pieces(line) {
		piece = strings.TrimSpace(piece)
		switch {
		case piece == "":
		case !strings.Contains(piece, "@"):
			if pending != "" {
				p.unknown(pending)
			}
			pending = piece
		default:
			if pending != "" && strings.Contains(piece, "<") && !strings.HasPrefix(piece, "<") &&
				!strings.HasPrefix(piece, `"`) {
				piece = strings.TrimPrefix(pending, `"`) + ", " + piece
			} else if pending != "" {
				p.unknown(pending)
			}
			pending = ""
			p.readPiece(piece)
		}
	}
	if pending != "" {
		p.unknown(pending)
	}
}

// unknown notes a piece that holds no address, unless it is a heading.
func (p *parser) unknown(piece string) {
	if word := heading(piece); !addressHeadings[word] && !nameHeadings[word] {
		p.remark(piece, noAddress)
	}
}

// withoutLead takes off what stands before a list or an item of one: To: and the
// like, a bullet, a number.
func withoutLead(line string) string {
	line = strings.TrimSpace(line)
	for _, bullet := range []string{"- ", "* ", "+ ", "• ", "– ", "· ", "> ", "[ ] ", "[x] "} {
		line = strings.TrimSpace(strings.TrimPrefix(line, bullet))
	}
	digits := strings.TrimLeft(line, "0123456789")
	if len(digits) < len(line) && (strings.HasPrefix(digits, ". ") || strings.HasPrefix(digits, ") ")) {
		line = strings.TrimSpace(digits[2:])
	}
	// The name of a field, and the display name of a group (RFC 5322, section 3.4).
	for range 2 {
		head, rest, ok := strings.Cut(line, ":")
		if ok && !strings.ContainsAny(head, `@<"`) && !strings.EqualFold(strings.TrimSpace(head), "mailto") &&
			!strings.HasSuffix(head, "(mailto") {
			line = strings.TrimSpace(rest)
		}
	}
	return line
}

// pieces splits a line at commas and semicolons that stand in no quotes, angle
// brackets or parentheses. An unpaired one separates as if it were not there.
func pieces(line string) []string {
	var list []string
	from := 0
	unpaired := map[byte]bool{} // of these no more is closed
	for i := 0; i < len(line); i++ {
		var closing byte
		switch line[i] {
		case ',', ';':
			list = append(list, line[from:i])
			from = i + 1
			continue
		case '"':
			closing = '"'
		case '<':
			closing = '>'
		case '(':
			closing = ')'
		default:
			continue
		}
		if unpaired[closing] {
			continue
		}
		if end := closingAt(line[i+1:], closing); end >= 0 {
			i += 1 + end
		} else {
			unpaired[closing] = true
		}
	}
	return append(list, line[from:])
}

func closingAt(s string, closing byte) int {
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && closing == '"' {
			i++
		} else if s[i] == closing {
			return i
		}
	}
	return -1
}

// readPiece reads one item that has an @: a name with an address in angle
// brackets, an address with a name beside it, or several addresses.
func (p *parser) readPiece(piece string) {
	if from := strings.LastIndexByte(piece, '<'); from >= 0 {
		inner, rest, closed := strings.Cut(piece[from+1:], ">")
		if a, err := address.Parse(bare(inner)); err == nil && closed {
			before := strings.TrimSpace(piece[:from])
			if strings.Contains(before, ">") { // several in a row, separated by blanks
				p.readPiece(before[:strings.LastIndexByte(before, '>')+1])
				before = strings.TrimSpace(before[strings.LastIndexByte(before, '>')+1:])
			}
			p.add(a, cleanName(before))
			if strings.Contains(rest, "@") {
				p.readPiece(strings.TrimSpace(rest))
			}
			return
		}
	}
	name, comment := piece, ""
	if from := strings.IndexByte(piece, '('); from >= 0 && strings.HasSuffix(piece, ")") {
		name, comment = piece[:from], piece[from+1:len(piece)-1]
		if strings.HasPrefix(name, "[") { // a link
			name, comment = comment, strings.Trim(name, "[] ")
		}
	}
	if a, err := address.Parse(bare(name)); err == nil {
		p.add(a, cleanName(comment))
		return
	}
	p.readWords(piece, strings.Fields(name))
}

// readWords reads words of which some are addresses. One alone takes the others
// as its name.
func (p *parser) readWords(piece string, words []string) {
	var found []address.Address
	var others []string
	for _, word := range words {
		if a, err := address.Parse(bare(word)); err == nil {
			found = append(found, a)
		} else if strings.Contains(word, "@") {
			p.remark(piece, err.Error())
			return
		} else {
			others = append(others, word)
		}
	}
	switch {
	case len(found) == 0:
		p.remark(piece, noAddress)
	case len(found) == 1:
		p.add(found[0], cleanName(strings.Join(others, " ")))
	default:
		for _, a := range found {
			p.add(a, "")
		}
		if len(others) > 0 {
			p.remark(strings.Join(others, " "), noAddress)
		}
	}
}

// bare takes off what may stand around an address.
func bare(s string) string {
	s = strings.Trim(strings.TrimSpace(s), "<>[]'\u00a0\u200b")
	if len(s) > 7 && strings.EqualFold(s[:7], "mailto:") {
		s, _, _ = strings.Cut(s[7:], "?")
	}
	if !strings.HasPrefix(s, `"`) {
		s = strings.TrimRight(s, ".:")
	} else if len(s) > 2 && strings.HasSuffix(s, `"`) {
		s = strings.Trim(s, `"`)
	}
	return s
}

// cleanName takes off the quotes of a name, and dashes and the like around it.
func cleanName(s string) string {
	s = strings.TrimSpace(s)
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		s = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(s[1 : len(s)-1])
	}
	s = strings.Trim(s, " -–:*'\"\t,")
	if strings.Contains(s, "@") {
		return "" // the address once more
	}
	return strings.Join(
		strings.FieldsFunc(s, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }),
		" ",
	)
}

func (p *parser) add(a address.Address, name string) {
	if line, ok := p.seen[a.Key()]; ok {
		p.remark(a.String(), "is on line "+strconv.Itoa(line)+" already")
		p.remarks[len(p.remarks)-1].Twice = true
		return
	}
	p.seen[a.Key()] = p.line
	p.people = append(p.people, Person{a, name, p.line})
}

func (p *parser) remark(text, why string) {
	p.remarks = append(p.remarks, Remark{Line: p.line, Text: strings.TrimSpace(text), Why: why,
		Nameless: why == noAddress})
}
