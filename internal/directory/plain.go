package directory

import (
	"strings"
	"unicode"
)

// Plain returns a text without control characters, but for tabs and line breaks,
// which are line feeds then. Formats that are lines of text cannot hold others: who
// reads them would take one for the end of a line, or a terminal for a command.
func Plain(text string) string {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' && r != '\t' || r == '\u2028' || r == '\u2029' {
			return -1
		}
		return r
	}, text)
}

// isPlain reports whether Plain leaves all of a text but how its lines end.
func isPlain(text string) bool {
	return Plain(text) == strings.ReplaceAll(text, "\r\n", "\n")
}
