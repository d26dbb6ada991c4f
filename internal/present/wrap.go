package present

import "strings"

// A word is a piece of text that is never broken, such as an address or a place.
type word struct {
	blanks int // before it
	spans  []Span
}

// words returns the words of clean spans.
func words(spans []Span) []word {
	list := []word{{}}
	for _, s := range spans {
		for i, part := range strings.Split(s.Text, " ") {
			if i > 0 && list[len(list)-1].spans != nil {
				list = append(list, word{})
			}
			last := &list[len(list)-1]
			if i > 0 {
				last.blanks++
			}
			if part != "" {
				last.spans = append(last.spans, Span{s.Style, part})
			}
		}
	}
	return list
}

// wrap breaks clean spans into lines of a width, at blanks only: a word that is longer stays whole and sticks out.
func wrap(spans []Span, most int) [][]Span {
	lines := [][]Span{nil}
	filled, begun := 0, false
	for _, w := range words(spans) {
		if w.spans == nil {
			continue // blanks at an end
		}
		size := width(w.spans...)
		if size > 0 && begun && filled+w.blanks+size > most {
			lines = append(lines, nil)
			filled, w.blanks = 0, 0
		}
		line := &lines[len(lines)-1]
		*line = join(*line, w)
		filled, begun = filled+w.blanks+size, true
	}
	return lines
}

// join adds a word to a line. What has one style is one span.
func join(line []Span, w word) []Span {
	if w.blanks > 0 {
		blanks := Span{w.spans[0].Style, strings.Repeat(" ", w.blanks)}
		if n := len(line); n == 0 || line[n-1].Style != blanks.Style {
			blanks.Style = Plain
		}
		line = append(line, blanks)
	}
	line = append(line, w.spans...)
	merged := line[:0]
	for _, s := range line {
		if n := len(merged); n > 0 && merged[n-1].Style == s.Style {
			merged[n-1].Text += s.Text
			continue
		}
		merged = append(merged, s)
	}
	return merged
}

// longestWord returns the width of the longest piece of a text that wrap keeps whole.
func longestWord(s string) int {
	longest := 0
	for word := range strings.FieldsSeq(s) {
		longest = max(longest, width(Span{Plain, word}))
	}
	return longest
}
