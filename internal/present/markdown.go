package present

import (
	"bytes"
	"io"
	"strings"
)

// markdownWidth is the width of what stands in a block of a ticket.
const markdownWidth = 100

// writeMarkdown writes an answer as a ticket takes it: the first line strong, what
// stands with it as text, and the rest as it is, in a block.
func writeMarkdown(w io.Writer, a Answer, options Options) error {
	var b bytes.Buffer
	p := newPage(&b, Options{Width: markdownWidth, All: options.All})
	a.writeText(p)
	if err := p.w.Flush(); err != nil {
		return err
	}
	head, rest, _ := strings.Cut(strings.TrimLeft(b.String(), "\n"), "\n\n")
	var lines []string
	for line := range strings.SplitSeq(strings.TrimRight(head, "\n"), "\n") {
		if further, ok := strings.CutPrefix(line, "  "); ok && len(lines) > 0 {
			lines[len(lines)-1] += " " + strings.TrimLeft(further, " ") // it was broken for its width
			continue
		}
		lines = append(lines, line)
	}
	var out strings.Builder
	for i, line := range lines {
		line = escapeMarkdown(strings.TrimSpace(line))
		if i == 0 && line != "" {
			line = "**" + line + "**"
		}
		out.WriteString(line)
		if i < len(lines)-1 {
			out.WriteString("  ") // a line end that stays
		}
		out.WriteString("\n")
	}
	if rest = strings.TrimRight(rest, "\n"); rest != "" {
		fence := "```"
		for strings.Contains(rest, fence) {
			fence += "`"
		}
		out.WriteString("\n" + fence + "text\n" + rest + "\n" + fence + "\n")
	}
	_, err := io.WriteString(w, out.String())
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
