package present

import (
	"bytes"
	"io"
	"strings"
)

// markdownWidth is the width of what stands in a block of a ticket.
const markdownWidth = 100

// A markdownPrinter writes an answer as a ticket takes it (CommonMark 0.31): the first line strong, what stands with it
// as text, and what follows the first gap as it is, in a block.
type markdownPrinter struct {
	w    io.Writer
	head []string
	rest *textPrinter // once there was a gap
	text bytes.Buffer // that it writes
}

func newMarkdownPage(w io.Writer, options Options) *Page {
	options = Options{Width: markdownWidth, All: options.All}
	return &Page{to: &markdownPrinter{w: w}, options: options}
}

func (m *markdownPrinter) gap() {
	switch {
	case m.rest != nil:
		m.rest.gap()
	case len(m.head) > 0:
		page := newPage(&m.text, Options{Width: markdownWidth})
		m.rest, _ = page.to.(*textPrinter)
	}
}

func (m *markdownPrinter) line(indent int, place string, spans []Span) {
	if m.rest != nil {
		m.rest.line(indent, place, spans)
		return
	}
	var text strings.Builder
	for _, s := range append(spans[:len(spans):len(spans)], Span{Text: "  " + place}) {
		text.WriteString(Clean(s.Text))
	}
	m.head = append(m.head, strings.Join(strings.Fields(text.String()), " "))
}

func (m *markdownPrinter) code(indent int, s Span) {
	if m.rest != nil {
		m.rest.code(indent, s)
		return
	}
	m.line(indent, "", []Span{s})
}

func (m *markdownPrinter) table(rows [][]Span) {
	if len(m.head) == 0 { // nothing stands before it
		m.head = append(m.head, "")
	}
	if m.rest == nil {
		m.gap()
	}
	m.rest.table(rows)
}

func (m *markdownPrinter) flush() error {
	var out strings.Builder
	for i, line := range m.head {
		line = escapeMarkdown(line)
		if i == 0 && line != "" {
			line = "**" + line + "**"
		}
		out.WriteString(line)
		if i < len(m.head)-1 {
			out.WriteString("  ") // a line end that stays
		}
		out.WriteString("\n")
	}
	if m.rest != nil {
		_ = m.rest.flush() // into memory
	}
	if text := strings.Trim(m.text.String(), "\n"); text != "" {
		fence := "```"
		for strings.Contains(text, fence) {
			fence += "`"
		}
		out.WriteString("\n" + fence + "text\n" + text + "\n" + fence + "\n")
	}
	_, err := io.WriteString(m.w, out.String())
	return err
}

// escapeMarkdown returns a text in which nothing is markup (CommonMark 0.31, section 2.4).
func escapeMarkdown(s string) string {
	var b strings.Builder
	for i, r := range s {
		if strings.ContainsRune("\\`*_[]<>|#~&", r) || i == 0 && strings.ContainsRune("-+!", r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}
