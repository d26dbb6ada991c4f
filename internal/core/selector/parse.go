package selector

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/nearest"
)

// maxDepth limits how deep parentheses and "not" may nest.
const maxDepth = 500

// maxAtoms limits how long a selector gets. Anyone who needs more means a group.
const maxAtoms = 200_000

// A SyntaxError says where a selector, rule or filter stops making sense.
type SyntaxError struct {
	Text    string // the whole text
	Offset  int    // byte offset in Text of the spot
	Length  int    // bytes of the spot, at least 1 unless Text ends there
	Reason  string // what is wrong, and what was expected
	Nearest string // the known word that may have been meant, or ""
}

func (e *SyntaxError) Error() string {
	if e.Nearest != "" {
		return e.Reason + "; did you mean " + strconv.Quote(e.Nearest) + "?"
	}
	return e.Reason
}

// A Scope tells what the place of a selector can be about.
type Scope uint8

const (
	// ForMessages is where a message is at hand: all atoms are allowed.
	ForMessages Scope = iota
	// ForPeople is where only a person is: atoms about the message are errors.
	ForPeople
	// ForEdge is where a message is at hand and no group is: atoms about one group's own
	// people are errors.
	ForEdge
)

// Parse reads a selector. A failure is a *SyntaxError.
func Parse(text string, scope Scope) (Expr, error) {
	p := &parser{text: text, scope: scope}
	p.next()
	x := p.parseOr(0)
	p.expectEnd()
	return x, p.failure()
}

// A Rule is one line of a gate or of send-as.
type Rule struct {
	Head     string // the word that it begins with: a verdict, or as or for
	Selector Expr
	Because  string // what the sender hears, or ""
	Text     string // as written
}

// ParseRule reads a rule: one of heads, a selector, and, where message atoms
// are allowed, perhaps `because "text"`. A failure is a *SyntaxError.
func ParseRule(text string, heads []string, scope Scope) (Rule, error) {
	p := &parser{text: text, scope: scope}
	p.next()
	rule := Rule{Head: p.tok.text, Text: text}
	if !slices.Contains(heads, p.tok.text) {
		if near := nearest.Word(p.tok.text, heads); near != "" {
			p.fail("unknown word "+quote(p.tok.text), near)
		} else {
			p.fail("expected "+anyOf(heads)+", not "+p.tok.describe(), "")
		}
		return rule, p.failure()
	}
	p.next()
	rule.Selector = p.parseOr(0)
	if p.tok.text == "because" && p.err == nil && scope != ForPeople {
		rule.Because = p.parseBecause()
	}
	p.expectEnd()
	return rule, p.failure()
}

// ParseSize reads a whole number of octets, perhaps with one of the units B,
// kB, MB and GB, which are powers of ten.
func ParseSize(text string) (int64, error) {
	units := map[string]int64{"": 1, "B": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9}
	digits := strings.TrimRight(text, "BGMKkgmbiT ")
	unit := strings.TrimSpace(text[len(digits):])
	factor, known := units[unit]
	n, err := strconv.ParseUint(digits, 10, 63)
	switch {
	case errors.Is(err, strconv.ErrRange) || err == nil && known && n > (1<<62)/uint64(factor):
		return 0, errors.New("the size " + quote(text) + " is too large")
	case err != nil:
		return 0, errors.New("expected a size such as 500kB or 10MB, not " + quote(text))
	case !known:
		return 0, errors.New("unknown unit " + quote(unit) + ", expected kB, MB or GB")
	}
	return int64(n) * factor, nil
}

// A token is a run of the text without spaces and parentheses, one parenthesis,
// or the end of the text.
type token struct {
	text   string // "" at the end
	offset int
}

func (t token) describe() string {
	if t.text == "" {
		return "the end"
	}
	return quote(t.text)
}

// parser reads one text. After the first error it stands still and every
// method returns at once.
type parser struct {
	text  string
	scope Scope
	pos   int   // the text up to here is in tokens
	tok   token // the token at hand
	atoms int   // read so far
	err   *SyntaxError
}

func (p *parser) failure() error {
	if p.err == nil {
		return nil
	}
	return p.err
}

// fail notes an error at the token at hand.
func (p *parser) fail(reason, nearest string) {
	p.failAt(p.tok.offset, len(p.tok.text), reason, nearest)
}

func (p *parser) failAt(offset, length int, reason, nearest string) {
	if p.err == nil {
		p.err = &SyntaxError{Text: p.text, Offset: offset, Length: length, Reason: reason, Nearest: nearest}
	}
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

func (p *parser) skipSpace() {
	for p.pos < len(p.text) && isSpace(p.text[p.pos]) {
		p.pos++
	}
}

// next reads the next token. A quoted local part belongs to its word.
func (p *parser) next() {
	if p.err != nil {
		return
	}
	p.skipSpace()
	start := p.pos
	quoted := false
	for ; p.pos < len(p.text); p.pos++ {
		c := p.text[p.pos]
		switch {
		case quoted && c == '\\' && p.pos+1 < len(p.text):
			p.pos++
		case c == '"' && (quoted || p.pos == start):
			quoted = !quoted
		case quoted:
		case c == '(' || c == ')':
			if p.pos == start {
				p.pos++
			}
			p.tok = token{p.text[start:p.pos], start}
			return
		case isSpace(c):
			p.tok = token{p.text[start:p.pos], start}
			return
		}
	}
	p.tok = token{p.text[start:], start}
	if quoted {
		p.fail("the quote is never closed", "")
	}
}

// expectEnd fails unless the text is used up.
func (p *parser) expectEnd() {
	if p.err != nil || p.tok.text == "" {
		return
	}
	switch {
	case p.tok.text == ")":
		p.fail("this parenthesis closes nothing", "")
	case p.tok.text == "because" && p.scope == ForPeople:
		p.fail(`"because" belongs to the rules of a gate`, "")
	case p.tok.text == "because":
		p.fail(`expected "and", "or" or the end, not "because"`, "")
	default:
		p.fail(
			`expected "and", "or" or the end, not `+p.tok.describe(),
			nearest.Word(p.tok.text, []string{"and", "or", "because"}),
		)
	}
}

// parseOr reads a selector.
//
//	selector = term { "or" term }
func (p *parser) parseOr(depth int) Expr {
	terms := Or{p.parseAnd(depth)}
	for p.err == nil && p.tok.text == "or" {
		p.next()
		terms = append(terms, p.parseAnd(depth))
	}
	if len(terms) == 1 {
		return terms[0]
	}
	return terms
}

// parseAnd reads a term.
//
//	term = factor { "and" factor }
func (p *parser) parseAnd(depth int) Expr {
	factors := And{p.parseFactor(depth)}
	for p.err == nil && p.tok.text == "and" {
		p.next()
		factors = append(factors, p.parseFactor(depth))
	}
	if len(factors) == 1 {
		return factors[0]
	}
	return factors
}

// parseFactor reads a factor.
//
//	factor = "not" factor | "(" selector ")" | atom
func (p *parser) parseFactor(depth int) Expr {
	if p.err != nil {
		return nil
	}
	if depth > maxDepth {
		p.fail("nested deeper than "+strconv.Itoa(maxDepth), "")
		return nil
	}
	switch p.tok.text {
	case "not":
		p.next()
		return Not{p.parseFactor(depth + 1)}
	case "(":
		open := p.tok
		p.next()
		x := p.parseOr(depth + 1)
		if p.err == nil && p.tok.text != ")" {
			if p.tok.text == "" {
				p.failAt(open.offset, 1, "this parenthesis is never closed", "")
			} else {
				p.expectEnd()
			}
		}
		p.next()
		return x
	}
	return p.parseAtom()
}

func (p *parser) parseAtom() Expr {
	if p.atoms++; p.atoms > maxAtoms {
		most := strconv.Itoa(maxAtoms)
		p.fail("the selector names more than "+most+"; make a group of them, and say in and its address", "")
		return nil
	}
	start := p.tok
	a := &Atom{Offset: start.offset}
	end := start.offset + len(start.text)
	kind, isWord := words[start.text]
	switch {
	case isWord:
		a.Kind = kind
		p.next()
	case start.text == "newcomers":
		a.Kind = Newcomers
		end = p.parseArgument(a.setDays)
	case start.text == "larger":
		a.Kind = Larger
		end = p.parseArgument(func(s string) (err error) {
			a.Size, err = ParseSize(s)
			return err
		})
	case start.text == "in":
		a.Kind = In
		p.next()
		end = p.tok.offset + len(p.tok.text)
		p.parseAddress(a, "expected the address of a group after \"in\", not "+p.tok.describe())
	case start.text == "where":
		a.Kind = Where
		end = p.parseWhere(a)
	case strings.HasPrefix(start.text, "@"):
		p.parseDomain(a)
	case strings.Contains(start.text, "@"):
		a.Kind = Is
		p.parseAddress(a, "")
	default:
		p.failAtom(start.text)
	}
	if p.scope == ForPeople && a.Kind.AboutMessage() {
		text := quote(start.text) + " is about a message, and this place is about people only"
		p.failAt(a.Offset, len(start.text), text, "")
	}
	if p.scope == ForEdge && a.Kind.AboutGroup() {
		text := quote(start.text) + " is about one group, and the edge stands before all groups"
		p.failAt(a.Offset, len(start.text), text, "")
	}
	if p.err != nil {
		return nil
	}
	a.Text = p.text[a.Offset:end]
	return a
}

// failAtom says that a word is no beginning of an atom.
func (p *parser) failAtom(word string) {
	const expected = "expected who is meant, such as anyone, inside, members or an address"
	switch word {
	case "":
		p.fail(expected+", not the end", "")
	case ")", "and", "or", "because":
		p.fail(expected+", before "+quote(word), "")
	default:
		text, near := "unknown word "+quote(word), nearest.Word(word, vocabulary)
		if near == "" {
			text += ", expected one such as anyone, inside or members, or an address"
		}
		p.fail(text, near)
	}
}

// parseArgument reads what stands in parentheses after the word at hand, gives
// it to set, and returns where the parentheses end.
func (p *parser) parseArgument(set func(string) error) int {
	word := p.tok.text
	p.next()
	if p.err == nil && p.tok.text != "(" {
		p.fail(
			"expected \"(\" after "+word+", as in "+map[string]string{"newcomers": "newcomers(14d)",
				"larger": "larger(10MB)"}[word],
			"",
		)
	}
	if p.err != nil {
		return 0
	}
	open := p.tok.offset
	length := strings.IndexByte(p.text[open:], ')')
	if length < 0 {
		p.fail("this parenthesis is never closed", "")
		return 0
	}
	argument := p.text[open+1 : open+length]
	if err := set(strings.TrimSpace(argument)); err != nil {
		p.failAt(open+1, max(len(argument), 1), err.Error(), "")
	}
	p.pos = open + length + 1
	end := p.pos
	p.next()
	return end
}

func (a *Atom) setDays(text string) error {
	digits, ok := strings.CutSuffix(text, "d")
	n, err := strconv.ParseUint(digits, 10, 31)
	if errors.Is(err, strconv.ErrRange) {
		return errors.New("the number of days " + quote(text) + " is too large")
	}
	if !ok || err != nil {
		return errors.New("expected a number of days such as 14d, not " + quote(text))
	}
	a.Days = int(n)
	return nil
}

// parseAddress takes the token at hand as the address of a. otherwise is what
// to say when it does not look like one at all.
func (p *parser) parseAddress(a *Atom, otherwise string) {
	if p.err != nil {
		return
	}
	if otherwise != "" && !strings.Contains(p.tok.text, "@") {
		p.fail(otherwise, "")
		return
	}
	var err error
	if a.Address, err = address.Parse(p.tok.text); err != nil {
		p.failIn(err)
		return
	}
	p.next()
}

// parseDomain takes the token at hand as @domain or @*.domain.
func (p *parser) parseDomain(a *Atom) {
	a.Kind = At
	name := p.tok.text[1:]
	if rest, below := strings.CutPrefix(name, "*."); below {
		a.Kind, name = Below, rest
	}
	var err error
	if a.Domain, err = address.ParseDomain(name); err != nil {
		p.failIn(err)
		return
	}
	p.next()
}

// failIn notes an error of package address about the end of the token at hand.
func (p *parser) failIn(err error) {
	var e *address.SyntaxError
	if !errors.As(err, &e) {
		p.fail(err.Error(), "")
		return
	}
	offset := min(len(p.tok.text)-len(e.Text)+e.Offset, len(p.tok.text)-1)
	p.failAt(p.tok.offset+offset, len(p.tok.text)-offset, e.Error(), "")
}

// parseWhere reads the filter after the word at hand and returns where it ends.
func (p *parser) parseWhere(a *Atom) int {
	p.skipSpace()
	filter, end, err := parseFilter(p.text, p.pos)
	if err != nil {
		p.err = err
		return 0
	}
	a.Filter = filter
	p.pos = end
	p.next()
	return end
}

// parseBecause reads the string after the word at hand. In it \" and \\ stand
// for a quote and a backslash.
func (p *parser) parseBecause() string {
	p.skipSpace()
	start := p.pos
	if start >= len(p.text) || p.text[start] != '"' {
		p.failAt(start, 1, `expected a text in double quotes after "because"`, "")
		return ""
	}
	var b strings.Builder
	for i := start + 1; i < len(p.text); i++ {
		c := p.text[i]
		switch {
		case c == '"':
			p.pos = i + 1
			p.next()
			if p.err == nil && p.tok.text != "" {
				p.fail("expected the end after the text, not "+p.tok.describe(), "")
			}
			return b.String()
		case c == '\\' && i+1 < len(p.text) && (p.text[i+1] == '"' || p.text[i+1] == '\\'):
			i++
			b.WriteByte(p.text[i])
		default:
			b.WriteByte(c)
		}
	}
	p.failAt(start, len(p.text)-start, "the text is never closed", "")
	return ""
}

// quote quotes a piece of the text for a message, cut to a sane length.
func quote(s string) string {
	const most = 60
	if len(s) > most {
		return strconv.Quote(s[:most]) + "..."
	}
	return strconv.Quote(s)
}

// anyOf lists words as "a, b or c".
func anyOf(list []string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}
