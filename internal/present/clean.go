package present

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/directory/table"
)

// Here text of the world becomes text of an answer, whatever the format: what files, servers and mail
// say goes through one of these functions, and through nothing else.

// steers reports whether a character controls a terminal, or the direction of the text around it.
func steers(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029'
}

// Clean returns s with every character that could control a terminal, or the
// direction of its text, written as an escape such as \x1b.
func Clean(s string) string {
	harmful := func(r rune) bool { return r == unicode.ReplacementChar || steers(r) || string(r) == apartMark }
	if strings.IndexFunc(s, harmful) < 0 {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		switch {
		case !harmful(r) || r == unicode.ReplacementChar && strings.HasPrefix(s[i:], "\ufffd"):
			b.WriteRune(r)
		case r == unicode.ReplacementChar:
			b.WriteString(`\x` + hex(rune(s[i]), 2))
		case r < 0x80:
			b.WriteString(`\x` + hex(r, 2))
		default:
			b.WriteString(`\u` + hex(r, 4))
		}
	}
	return b.String()
}

func hex(r rune, digits int) string {
	s := strconv.FormatInt(int64(r), 16)
	return strings.Repeat("0", max(digits-len(s), 0)) + s
}

// harmless makes the cells of a row of a table (RFC 4180) harmless, and returns it: none steers a
// terminal, and no spreadsheet takes one for a formula.
func harmless(row []string) []string {
	for i, cell := range row {
		if cell = Clean(cell); table.IsFormula(cell) {
			cell = "'" + cell
		}
		row[i] = cell
	}
	return row
}

// encode writes a value as JSON in which no character that steers stands as itself. Its lines but for
// the first begin with a prefix.
func encode(w io.Writer, value any, prefix, indent string) error {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent(prefix, indent)
	if err := encoder.Encode(value); err != nil {
		return err
	}
	_, err := w.Write(escaped(b.Bytes()))
	return err
}

// escaped writes characters that steer as escapes of JSON (RFC 8259, section 7), where package json
// leaves them. They stand in strings only, but for the line breaks between.
func escaped(data []byte) []byte {
	harmful := func(r rune) bool { return r > 0x7e && steers(r) }
	if !bytes.ContainsFunc(data, harmful) {
		return data
	}
	var clean []byte
	for _, r := range string(data) {
		if harmful(r) {
			clean = fmt.Appendf(clean, `\u%04x`, r)
		} else {
			clean = utf8.AppendRune(clean, r)
		}
	}
	return clean
}
