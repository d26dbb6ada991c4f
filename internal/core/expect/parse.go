// Package expect holds expectations: statements about a group that must hold.
//
//	to lost-property@kelpmere.example
//	  admits outside
//	  reaches members in inbox
//	  sends only moderators
//
// docs/expectations.md describes the language.
package expect

import (
	"errors"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Kind is what an expectation states.
type Kind uint8

// The kinds of expectations.
const (
	Judges          Kind = iota // everyone picked gets Verdict
	Reaches                     // everyone picked gets Outcome
	NeverReaches                // nobody picked gets an inbox copy or a digest
	Invites                     // everyone picked gets a calendar request in their inbox
	SendsAs                     // everyone picked may send so
	SendsOnly                   // nobody else may send as it
	Approves                    // everyone picked can release held mail
	ApprovesAtLeast             // so many can, with a mailbox that works
)

// An Expectation is one statement.
type Expectation struct {
	Group    address.Address
	Kind     Kind
	Verdict  estate.Verdict
	Outcome  resolve.Outcome
	SendAs   estate.SendAs
	Number   int
	Selector selector.Expr
	From     address.Address // not valid if there is none
	Text     string          // as written
	Line     int             // from 1
	Column   int             // in characters, from 1

	selectorText   string
	selectorOffset int // in the line
	line           string
	groupLine      int
	groupColumn    int
}

// An Error is what is wrong in a file of expectations.
type Error struct {
	Line    int    // from 1
	Column  int    // in characters, from 1
	Text    string // what is wrong, what was expected
	Nearest string // what may have been meant, or ""
	Source  string // the line
}

func (e *Error) Error() string {
	text := strconv.Itoa(e.Line) + ":" + strconv.Itoa(e.Column) + ": " + e.Text
	if e.Nearest != "" {
		text += "; did you mean " + strconv.Quote(e.Nearest) + "?"
	}
	return text
}

// verbs are the words that a statement may begin with.
var verbs = []string{"admits", "holds", "refuses", "drops", "reaches", "never reaches", "invites", "sends", "approves"}

// former are the words of statements that are called otherwise now.
var former = map[string]string{"spares": "never reaches", "speaks": "sends"}

// Parse reads a file of expectations. It goes on behind errors, to find them all.
func Parse(text string) ([]Expectation, []*Error) {
	var list []Expectation
	var errs []*Error
	var group address.Address
	groupLine, groupColumn := 0, 0
	number := 0
	for line := range strings.Lines(strings.TrimPrefix(text, "\ufeff")) {
		number++
		line = strings.TrimRight(line, "\r\n")
		p := &lineParser{line: line, number: number}
		if !utf8.ValidString(line) {
			errs = append(errs, &Error{Line: number, Column: 1, Text: "this is not UTF-8, expected text in UTF-8"})
			continue
		}
		word := p.word()
		switch {
		case word == "" || strings.HasPrefix(word, "#"):
			continue
		case word == "to":
			start := p.skip()
			name := strings.TrimSpace(withoutComment(line[start:]))
			a, err := address.Parse(name)
			if err != nil {
				p.fail(start, "expected the address of a group after \"to\": "+err.Error(), "")
			}
			group, groupLine, groupColumn = a, number, utf8.RuneCountInString(line[:start])+1
		default:
			e := p.statement(word)
			e.Group, e.groupLine, e.groupColumn = group, groupLine, groupColumn
			if groupLine == 0 && p.err == nil {
				p.fail(p.start, "expected \"to\" and the address of a group before the first statement", "")
			}
			if p.err == nil && group.IsValid() {
				list = append(list, e)
			}
		}
		if p.err != nil {
			errs = append(errs, p.err)
		}
	}
	return list, errs
}

// withoutComment cuts a line at a # that begins a word, but for one in a filter.
func withoutComment(s string) string {
	depth, quoted := 0, false
	for i := 0; i < len(s); i++ {
		switch {
		case quoted && s[i] == '\\':
			i++ // the next is quoted (RFC 5322, section 3.2.4)
		case s[i] == '"':
			quoted = !quoted
		case quoted:
		case s[i] == '(':
			depth++
		case s[i] == ')':
			depth--
		case s[i] == '#' && depth == 0 && (i == 0 || s[i-1] == ' ' || s[i-1] == '\t'):
			return s[:i]
		}
	}
	return s
}

// lineParser reads one line. After the first error the others do not count.
type lineParser struct {
	line   string
	number int
	pos    int
	start  int // of the last word
	err    *Error
}

func (p *lineParser) fail(offset int, text, near string) {
	if p.err == nil {
		p.err = &Error{
			Line:    p.number,
			Column:  utf8.RuneCountInString(p.line[:offset]) + 1,
			Text:    text,
			Nearest: near,
			Source:  p.line,
		}
	}
}

// skip goes past blanks and returns where it is then.
func (p *lineParser) skip() int {
	for p.pos < len(p.line) && (p.line[p.pos] == ' ' || p.line[p.pos] == '\t') {
		p.pos++
	}
	return p.pos
}

// word reads the next word.
func (p *lineParser) word() string {
	p.start = p.skip()
	for p.pos < len(p.line) && p.line[p.pos] != ' ' && p.line[p.pos] != '\t' {
		p.pos++
	}
	return p.line[p.start:p.pos]
}

// statement reads a statement that begins with a word.
func (p *lineParser) statement(verb string) Expectation {
	p.line = strings.TrimRight(withoutComment(p.line), " \t")
	p.pos = min(p.pos, len(p.line))
	first := p.start
	e := Expectation{
		Line:   p.number,
		Column: utf8.RuneCountInString(p.line[:first]) + 1,
		Text:   strings.TrimSpace(p.line),
		line:   p.line,
	}
	scope := selector.ForPeople
	switch verb {
	case "admits", "holds", "refuses", "drops":
		e.Kind, e.Verdict = Judges, estate.Verdict(slices.Index(verbs, verb))
		scope = selector.ForMessages
	case "reaches":
		e.Kind = Reaches
		p.cutFrom(&e)
		p.cutOutcome(&e)
	case "never":
		e.Kind = NeverReaches
		if next := p.word(); next != "reaches" {
			p.fail(p.start, "expected reaches after \"never\"", nearest.Word(next, []string{"reaches"}))
		}
		p.cutFrom(&e)
	case "invites":
		e.Kind = Invites
		p.cutFrom(&e)
	case "sends":
		p.sendsAs(&e)
	case "approves":
		if e.Kind = Approves; p.atLeast(&e) {
			return e
		}
	case "spares", "speaks":
		p.fail(first, strconv.Quote(verb)+" is "+strconv.Quote(former[verb])+" now", "")
	default:
		text, near := "unknown statement "+strconv.Quote(verb), nearest.Word(verb, append([]string{"to"}, verbs...))
		if near == "" {
			text += ", expected to, " + strings.Join(verbs, ", ")
		}
		p.fail(first, text, near)
	}
	if p.err != nil {
		return e
	}
	e.selectorOffset = p.skip()
	e.selectorText = p.line[e.selectorOffset:]
	var err error
	if e.Selector, err = selector.Parse(e.selectorText, scope); err != nil {
		var bad *selector.SyntaxError
		if errors.As(err, &bad) {
			p.fail(e.selectorOffset+bad.Offset, bad.Reason, bad.Nearest)
		}
	}
	return e
}

// cutFrom takes "from ADDRESS" off the end of the line.
func (p *lineParser) cutFrom(e *Expectation) {
	words := strings.Fields(p.line[p.pos:])
	if len(words) < 3 || words[len(words)-2] != "from" {
		return
	}
	at := strings.LastIndex(p.line, " from ")
	if at < 0 {
		at = strings.LastIndex(p.line, "from ") - 1
	}
	var err error
	if e.From, err = address.Parse(words[len(words)-1]); err != nil {
		p.fail(strings.LastIndex(p.line, words[len(words)-1]), err.Error(), "")
	}
	p.line = strings.TrimRight(p.line[:at], " \t")
}

// cutOutcome takes "in OUTCOME" off the end of the line.
func (p *lineParser) cutOutcome(e *Expectation) {
	words := strings.Fields(p.line[p.pos:])
	if len(words) < 3 || words[len(words)-2] != "in" || strings.Contains(words[len(words)-1], "@") {
		return
	}
	last := words[len(words)-1]
	outcome, ok := estate.WordIndex[resolve.Outcome](resolve.OutcomeWords(), last)
	at := strings.LastIndex(p.line, last)
	if !ok {
		text, near := "unknown outcome "+strconv.Quote(last), nearest.Word(last, resolve.OutcomeWords())
		if near == "" {
			text += ", expected " + strings.Join(resolve.OutcomeWords(), ", ")
		}
		p.fail(at, text, near)
		return
	}
	e.Outcome = outcome
	p.line = strings.TrimRight(strings.TrimSuffix(strings.TrimRight(p.line[:at], " \t"), "in"), " \t")
}

// sendsAs reads what follows "sends": as, for or only.
func (p *lineParser) sendsAs(e *Expectation) {
	word := p.word()
	switch word {
	case "as":
		e.Kind, e.SendAs = SendsAs, estate.AsGroup
	case "for":
		e.Kind, e.SendAs = SendsAs, estate.ForGroup
	case "only":
		e.Kind = SendsOnly
	default:
		p.fail(p.start, "expected as, for or only after \"sends\"", nearest.Word(word, []string{"as", "for", "only"}))
	}
}

// atLeast reads "at least N", if that is what follows.
func (p *lineParser) atLeast(e *Expectation) bool {
	words := strings.Fields(p.line[p.pos:])
	if len(words) == 0 || words[0] != "at" {
		return false
	}
	number := 0
	if len(words) == 3 && words[1] == "least" {
		number, _ = strconv.Atoi(words[2])
	}
	if number < 1 {
		p.fail(p.skip(), "expected \"at least\" and a number from 1 up", "")
	}
	e.Kind, e.Number = ApprovesAtLeast, number
	return true
}
