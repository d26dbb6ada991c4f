package selector

import (
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A Filter is a search filter after RFC 4515: FilterAnd, FilterOr, FilterNot or
// *Item. Its values compare without case. A person who has not got an attribute
// makes every comparison with it false.
type Filter interface {
	// String returns the filter as RFC 4515 writes it.
	String() string
	filter()
}

// FilterAnd is true when all of its parts are.
type FilterAnd []Filter

// FilterOr is true when one of its parts is.
type FilterOr []Filter

// FilterNot is true when X is not.
type FilterNot struct{ X Filter }

// A Comparison tells how an Item compares.
type Comparison uint8

// The comparisons of RFC 4515, section 3, but for the approximate and the
// extensible match.
const (
	Equal     Comparison = iota // (attr=value)
	Present                     // (attr=*)
	Substring                   // (attr=ab*cd*)
	AtLeast                     // (attr>=value)
	AtMost                      // (attr<=value)
)

// An Item compares the values of one attribute.
type Item struct {
	Attribute  string // lower case
	Comparison Comparison
	// Value is what is compared with, folded. For Substring see Parts.
	Value string
	// Parts are the folded pieces between the stars of a Substring, at least
	// two: the first and the last are anchored and may be empty.
	Parts []string

	number   decimal
	isNumber bool
}

func (FilterAnd) filter() {}
func (FilterOr) filter()  {}
func (FilterNot) filter() {}
func (*Item) filter()     {}

func (f FilterAnd) String() string { return "(&" + joinFilters(f) + ")" }
func (f FilterOr) String() string  { return "(|" + joinFilters(f) + ")" }
func (f FilterNot) String() string { return "(!" + f.X.String() + ")" }

func joinFilters(list []Filter) string {
	var b strings.Builder
	for _, f := range list {
		b.WriteString(f.String())
	}
	return b.String()
}

func (i *Item) String() string {
	switch i.Comparison {
	case Present:
		return "(" + i.Attribute + "=*)"
	case Substring:
		escaped := make([]string, len(i.Parts))
		for n, part := range i.Parts {
			escaped[n] = escapeValue(part)
		}
		return "(" + i.Attribute + "=" + strings.Join(escaped, "*") + ")"
	case AtLeast:
		return "(" + i.Attribute + ">=" + escapeValue(i.Value) + ")"
	case AtMost:
		return "(" + i.Attribute + "<=" + escapeValue(i.Value) + ")"
	}
	return "(" + i.Attribute + "=" + escapeValue(i.Value) + ")"
}

// MatchFilter reports whether f is true for somebody. matches answers an item:
// whether any value of its attribute matches.
func MatchFilter(f Filter, matches func(*Item) bool) bool {
	switch f := f.(type) {
	case FilterAnd:
		for _, part := range f {
			if !MatchFilter(part, matches) {
				return false
			}
		}
		return true
	case FilterOr:
		for _, part := range f {
			if MatchFilter(part, matches) {
				return true
			}
		}
		return false
	case FilterNot:
		return !MatchFilter(f.X, matches)
	case *Item:
		return matches(f)
	}
	panic("selector: no filter")
}

// Items calls visit with every comparison of f, from left to right.
func Items(f Filter, visit func(*Item)) {
	switch f := f.(type) {
	case FilterAnd:
		for _, part := range f {
			Items(part, visit)
		}
	case FilterOr:
		for _, part := range f {
			Items(part, visit)
		}
	case FilterNot:
		Items(f.X, visit)
	case *Item:
		visit(f)
	}
}

// Matches reports whether one value of the item's attribute satisfies it.
func (i *Item) Matches(value string) bool {
	switch i.Comparison {
	case Present:
		return true
	case Equal:
		return Fold(value) == i.Value
	case Substring:
		return matchParts(Fold(value), i.Parts)
	}
	order := 0
	if number, ok := parseDecimal(value); ok && i.isNumber {
		order = number.compare(i.number)
	} else {
		order = strings.Compare(Fold(value), i.Value)
	}
	if i.Comparison == AtLeast {
		return order >= 0
	}
	return order <= 0
}

// matchParts reports whether value begins with the first of parts, ends with
// the last and holds the others in between, in this order and apart.
func matchParts(value string, parts []string) bool {
	first, last := parts[0], parts[len(parts)-1]
	if len(value) < len(first)+len(last) || !strings.HasPrefix(value, first) || !strings.HasSuffix(value, last) {
		return false
	}
	value = value[len(first) : len(value)-len(last)]
	for _, part := range parts[1 : len(parts)-1] {
		_, rest, found := strings.Cut(value, part)
		if !found {
			return false
		}
		value = rest
	}
	return true
}

// Fold returns s so that texts that differ in case only become equal. It folds
// as strings.EqualFold compares (Unicode simple folding), to lower case.
func Fold(s string) string {
	for i := range len(s) {
		if c := s[i]; c >= utf8.RuneSelf || 'A' <= c && c <= 'Z' {
			return strings.Map(foldRune, s)
		}
	}
	return s
}

func foldRune(r rune) rune {
	if r < utf8.RuneSelf && (r < 'A' || r > 'Z') {
		return r
	}
	first := r
	for next := unicode.SimpleFold(r); next != r; next = unicode.SimpleFold(next) {
		first = min(first, next)
	}
	if first == r && unicode.SimpleFold(r) == r {
		return r
	}
	return unicode.ToLower(first)
}

// ParseFilter reads a filter and nothing else. A failure is a *SyntaxError.
func ParseFilter(text string) (Filter, error) { return parseWhole(text, false) }

// ParseColumns reads a filter over the columns of a table, whose names may hold anything
// but =, < and >, parentheses and stars; these are written as \3d and the like. Blanks
// around a name do not count.
func ParseColumns(text string) (Filter, error) { return parseWhole(text, true) }

func parseWhole(text string, columns bool) (Filter, error) {
	start := len(text) - len(strings.TrimLeft(text, " \t\r\n"))
	p := &filterParser{text: text, pos: start, columns: columns}
	f := p.parse(0)
	end := p.pos
	if p.err != nil {
		return nil, p.err
	}
	if strings.Trim(text[end:], " \t\r\n") != "" {
		return nil, &SyntaxError{
			Text:   text,
			Offset: end,
			Length: len(text) - end,
			Reason: "expected the end of the filter",
		}
	}
	return f, nil
}

// parseFilter reads the filter that begins at offset of text, and returns where
// it ends.
func parseFilter(text string, offset int) (Filter, int, *SyntaxError) {
	p := &filterParser{text: text, pos: offset}
	f := p.parse(0)
	return f, p.pos, p.err
}

// filterParser reads one filter. After the first error its methods return at
// once.
type filterParser struct {
	text    string
	pos     int
	columns bool // names are those of columns
	err     *SyntaxError
}

func (p *filterParser) fail(offset int, reason string) {
	if p.err == nil {
		_, length := utf8.DecodeRuneInString(p.text[min(offset, len(p.text)):])
		p.err = &SyntaxError{Text: p.text, Offset: offset, Length: length, Reason: reason}
	}
}

// peek returns the next byte, or 0 at the end.
func (p *filterParser) peek() byte {
	if p.pos < len(p.text) {
		return p.text[p.pos]
	}
	return 0
}

// parse reads a filter.
//
//	filter     = LPAREN filtercomp RPAREN
//	filtercomp = and / or / not / item
func (p *filterParser) parse(depth int) Filter {
	if p.err != nil {
		return nil
	}
	start := p.pos
	switch {
	case p.peek() != '(':
		p.fail(p.pos, "expected a filter in parentheses, such as (base=north-pier)")
		return nil
	case depth > maxDepth:
		p.fail(p.pos, "nested deeper than "+strconv.Itoa(maxDepth))
		return nil
	}
	p.pos++
	var f Filter
	switch p.peek() {
	case '&':
		f = FilterAnd(p.parseList(depth))
	case '|':
		f = FilterOr(p.parseList(depth))
	case '!':
		p.pos++
		f = FilterNot{p.parse(depth + 1)}
	default:
		f = p.parseItem()
	}
	if p.err == nil && p.peek() != ')' {
		if p.pos >= len(p.text) {
			p.fail(start, "this parenthesis of the filter is never closed")
		} else {
			p.fail(p.pos, `expected ")"`)
		}
	}
	p.pos++
	return f
}

// parseList reads the operator at hand and what it joins.
//
//	filterlist = 1*filter
func (p *filterParser) parseList(depth int) []Filter {
	operator := p.pos
	p.pos++
	var list []Filter
	for p.err == nil && p.peek() == '(' {
		list = append(list, p.parse(depth+1))
	}
	if len(list) == 0 {
		p.fail(
			operator,
			"expected at least one filter in parentheses after "+strconv.Quote(p.text[operator:operator+1]),
		)
	}
	return list
}

// parseItem reads a comparison.
//
//	item = simple / present / substring
func (p *filterParser) parseItem() Filter {
	name := p.parseName()
	if p.err != nil {
		return nil
	}
	item := &Item{Attribute: Fold(name)}
	switch operator := p.text[p.pos:min(p.pos+2, len(p.text))]; {
	case operator == ">=":
		item.Comparison = AtLeast
	case operator == "<=":
		item.Comparison = AtMost
	case operator == "~=", operator == ":=", strings.HasPrefix(operator, ":"):
		p.fail(p.pos, "this kind of match is not supported, expected =, >= or <=")
		return nil
	case strings.HasPrefix(operator, "="):
		p.pos--
	default:
		p.fail(p.pos, "expected =, >= or <= after the attribute")
		return nil
	}
	p.pos += 2
	p.parseValue(item)
	return item
}

// parseName reads the name of an attribute.
func (p *filterParser) parseName() string {
	start := p.pos
	if p.columns {
		return p.parseColumn()
	}
	for p.pos < len(p.text) {
		r, size := utf8.DecodeRuneInString(p.text[p.pos:])
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("-_.;", r) || r == utf8.RuneError {
			break
		}
		p.pos += size
	}
	if p.pos == start {
		p.fail(p.pos, "expected the name of an attribute, such as base")
	}
	return p.text[start:p.pos]
}

// parseColumn reads the name of a column.
func (p *filterParser) parseColumn() string {
	start := p.pos
	var b strings.Builder
	for p.pos < len(p.text) && !strings.ContainsRune("=<>()*", rune(p.text[p.pos])) {
		if p.text[p.pos] == '\\' {
			octet, err := strconv.ParseUint(p.text[p.pos+1:min(p.pos+3, len(p.text))], 16, 8)
			if err != nil || p.pos+3 > len(p.text) {
				p.fail(p.pos, "expected two hexadecimal digits after the backslash")
				return ""
			}
			b.WriteByte(byte(octet))
			p.pos += 3
			continue
		}
		b.WriteByte(p.text[p.pos])
		p.pos++
	}
	name := strings.TrimSpace(b.String())
	if name == "" || !utf8.ValidString(name) {
		p.fail(start, "expected the name of a column")
	}
	return name
}

// parseValue reads the assertion value of item up to the closing parenthesis.
func (p *filterParser) parseValue(item *Item) {
	var parts []string
	var b strings.Builder
	start := p.pos
loop:
	for p.err == nil {
		switch c := p.peek(); {
		case p.pos >= len(p.text) || c == ')':
			break loop
		case c == '*' && item.Comparison != Equal:
			p.fail(p.pos, `a star can follow "=" only; a star that is meant is written \2a`)
		case c == '*':
			parts = append(parts, p.foldPart(start, b.String()))
			b.Reset()
		case c == '(' || c == 0:
			p.fail(p.pos, "this character has to be escaped, as in \\28 for (")
		case c == '\\':
			octet, err := strconv.ParseUint(p.text[p.pos+1:min(p.pos+3, len(p.text))], 16, 8)
			if err != nil || p.pos+3 > len(p.text) {
				p.fail(p.pos, "expected two hexadecimal digits after the backslash")
			}
			b.WriteByte(byte(octet))
			p.pos += 2
		default:
			b.WriteByte(c)
		}
		p.pos++
	}
	last := p.foldPart(start, b.String())
	if p.err != nil {
		return
	}
	switch {
	case len(parts) == 0:
		item.Value = last
		item.number, item.isNumber = parseDecimal(last)
	case len(parts) == 1 && parts[0] == "" && last == "":
		item.Comparison = Present
	default:
		item.Comparison, item.Parts = Substring, append(parts, last)
	}
}

// foldPart folds a piece of the value that begins at start.
func (p *filterParser) foldPart(start int, part string) string {
	if !utf8.ValidString(part) {
		p.fail(start, "the value is not valid UTF-8")
	}
	return Fold(part)
}

// escapeValue writes a value as RFC 4515, section 3, wants it.
func escapeValue(value string) string {
	return strings.NewReplacer("*", `\2a`, "(", `\28`, ")", `\29`, `\`, `\5c`, "\x00", `\00`).Replace(value)
}
