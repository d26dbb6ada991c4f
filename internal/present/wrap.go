package present

import (
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

const endOfColour = "\x1b[0m"

// wrap breaks a text into lines of a width, at blanks only: an address, path or place
// that is longer stays whole and sticks out. A colour ends with a line and goes
// on with the next.
func wrap(s string, width int) string {
	var b strings.Builder
	colour := ""
	for i, paragraph := range strings.Split(s, "\n") {
		if i > 0 {
			b.WriteByte('\n')
		}
		colour = wrapLine(&b, paragraph, width, colour)
	}
	return b.String()
}

// wrapLine is wrap of one line. It takes and returns the colour that is on.
func wrapLine(b *strings.Builder, line string, width int, colour string) string {
	filled, blanks, begun := 0, 0, false
	for i, word := range strings.Split(line, " ") {
		if i > 0 {
			blanks++
		}
		size := text.StringWidthWithoutEscSequences(word)
		switch {
		case size > 0 && begun && filled+blanks+size > width:
			if colour != "" {
				b.WriteString(endOfColour)
			}
			b.WriteString("\n" + colour)
			filled, blanks = 0, 0
		case word != "":
			b.WriteString(strings.Repeat(" ", blanks))
			filled, blanks = filled+blanks, 0
		}
		b.WriteString(word)
		filled, begun = filled+size, begun || text.StripEscape(word) != ""
		colour = colourAfter(word, colour)
	}
	return colour
}

// colourAfter returns the colour that is on behind a word.
func colourAfter(word, colour string) string {
	for {
		_, rest, ok := strings.Cut(word, "\x1b[")
		if !ok {
			return colour
		}
		code, behind, ok := strings.Cut(rest, "m")
		if !ok {
			return colour
		}
		if colour = "\x1b[" + code + "m"; colour == endOfColour {
			colour = ""
		}
		word = behind
	}
}

// longestWord returns the width of the longest piece of a text that wrap keeps whole.
func longestWord(s string) int {
	longest := 0
	for word := range strings.FieldsSeq(s) {
		longest = max(longest, text.StringWidth(word))
	}
	return longest
}
