// Package harmless makes text of the world, which files, servers and mail bring, into text that nothing
// obeys: no terminal, no spreadsheet, and nobody who reads it the other way round.
package harmless

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// steers reports whether a character controls a terminal, or the direction of the text around it.
func steers(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029'
}

// Text returns s with every character that could control a terminal, or the direction of its text,
// written as an escape such as \x1b. So is what is not UTF-8.
func Text(s string) string {
	harmful := func(r rune) bool { return r == unicode.ReplacementChar || steers(r) }
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

// formula are the characters at which spreadsheets begin a formula; some take the wide forms, too.
const formula = "=+-@\t\r\n\uff1d\uff0b\uff0d\uff20"

// IsFormula reports whether a spreadsheet may take a cell for a formula: by how it begins, behind blanks.
func IsFormula(cell string) bool {
	if cell != "" && strings.IndexByte("\t\r\n", cell[0]) >= 0 {
		return true
	}
	first, _ := utf8.DecodeRuneInString(strings.TrimLeftFunc(cell, unicode.IsSpace))
	return first != utf8.RuneError && strings.ContainsRune(formula, first)
}

// JSON returns JSON with characters that steer as escapes (RFC 8259, section 7), where package json
// leaves them. They stand in strings only, but for the line breaks between.
func JSON(data []byte) []byte {
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
