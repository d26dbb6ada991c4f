package estatefile

import (
	"encoding/json"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// value is a value to be written: a text, a list of texts or of values, or a
// mapping.
type value struct {
	text  string
	raw   bool // text is a number or a bool, and needs no quotes
	list  []string
	items []value
	pairs []pair
	block bool // a mapping that is written over several lines
}

type pair struct {
	name  string
	value value
}

// textStyle says how values are written where they are put.
type textStyle struct {
	flow bool // within brackets
	json bool // the whole file is JSON
}

func (s textStyle) key(name string) string {
	if s.json {
		return asJSON(name)
	}
	return s.scalar(name)
}

// mostInline is how many short texts stand in one line.
const mostInline = 3

func (v value) isList() bool  { return v.list != nil }
func (v value) isBlock() bool { return v.block }

// inline returns a value on one line.
func (v value) inline(s textStyle) string {
	inner := s
	inner.flow = true
	switch {
	case v.pairs != nil:
		var parts []string
		for _, p := range v.pairs {
			parts = append(parts, inner.key(p.name)+": "+p.value.inline(inner))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case v.items != nil:
		var parts []string
		for _, item := range v.items {
			parts = append(parts, item.inline(inner))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case v.list != nil:
		var parts []string
		for _, text := range v.list {
			parts = append(parts, inner.scalar(text))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case v.raw:
		return v.text
	}
	return s.scalar(v.text)
}

// lines returns a key with a value over as many lines as are pleasant, without
// the end of the last.
func (v value) lines(indent, name string, s textStyle, newline string) string {
	head := indent + s.key(name) + ":"
	items := v.items
	if len(v.list) > mostInline || v.wordy() {
		for _, text := range v.list {
			items = append(items, value{text: text})
		}
	}
	if len(items) == 0 || s.json {
		return head + " " + v.inline(s)
	}
	var b strings.Builder
	b.WriteString(head)
	for _, item := range items {
		b.WriteString(newline + item.item(indent+"  ", s, newline))
	}
	return b.String()
}

// wordy reports whether a text of a list is longer than a word.
func (v value) wordy() bool {
	for _, text := range v.list {
		if strings.Contains(text, " ") {
			return true
		}
	}
	return false
}

// item returns a value as an item of a list in block style, without the end of
// its last line.
func (v value) item(indent string, s textStyle, newline string) string {
	if !v.block {
		return indent + "- " + v.inline(s)
	}
	var b strings.Builder
	for i, p := range v.pairs {
		if i > 0 {
			b.WriteString(newline)
		}
		line := p.value.lines(indent+"  ", p.name, s, newline)
		if i == 0 {
			line = indent + "- " + strings.TrimPrefix(line, indent+"  ")
		}
		b.WriteString(line)
	}
	return b.String()
}

// plainForm is what may stand without quotes anywhere, if it is no number or
// other word of YAML.
var plainForm = regexp.MustCompile(`^[\pL\d(](?:[\pL\d@._/+=()*!|<>~%^-]| [\pL\d(@*!=<>."'&|]|[&"'\\;?])*$`)

// scalar returns a text so that YAML reads just that text.
func (s textStyle) scalar(text string) string {
	switch {
	case s.json:
		return asJSON(text)
	case plainForm.MatchString(text) && utf8.ValidString(text) && !numberForm.MatchString(text) &&
		!boolForm.MatchString(text) && !nullForm.MatchString(text):
		return text
	case strings.ContainsAny(text, `"\`) && !strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) }):
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	return asJSON(text)
}

// asJSON returns a text as JSON, which is YAML, too (YAML 1.2.2, section 1.3).
func asJSON(text string) string {
	var b strings.Builder
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(text)
	out := strings.TrimSuffix(b.String(), "\n")
	// What is no printable character in YAML (section 5.1) is escaped.
	var clean strings.Builder
	for _, r := range out {
		if r == 0x7f || 0x80 <= r && r <= 0x9f || r == 0xfeff || r == 0xfffe || r == 0xffff {
			clean.WriteString(`\u` + hex4(r))
		} else {
			clean.WriteRune(r)
		}
	}
	return clean.String()
}

func hex4(r rune) string {
	const digits = "0123456789abcdef"
	return string([]byte{digits[r>>12&15], digits[r>>8&15], digits[r>>4&15], digits[r&15]})
}
