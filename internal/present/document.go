package present

import (
	"regexp"
	"slices"
	"strings"
)

// Document is a document that the program shows, such as its glossary.
type Document struct {
	Topic string `json:"topic"`
	Text  string `json:"text"` // Markdown
}

// What is written otherwise for people who do not read Markdown.
var (
	links     = regexp.MustCompile(`\[([^\]]*)\]\([^)]*\)`)
	marks     = regexp.MustCompile("`|\\*\\*|</?code>")
	emphasis  = regexp.MustCompile(`(^|[\s(])\*([^*\s][^*]*)\*`)
	ruleLine  = regexp.MustCompile(`^\|[-:| ]+\|$`)
	listStart = regexp.MustCompile(`^\s*(- |\d+\. )`)
)

func plainText(s string) string {
	s = marks.ReplaceAllString(links.ReplaceAllString(s, "$1"), "")
	s = emphasis.ReplaceAllString(s, "$1$2")
	return strings.NewReplacer(`\|`, "|", "&#124;", "|").Replace(s)
}

func (a *Document) writeText(p *Page) {
	lines := strings.Split(strings.TrimRight(a.Text, "\n"), "\n")
	for i := 0; i < len(lines); {
		line := lines[i]
		switch {
		case strings.HasPrefix(line, "#"):
			p.Title(plainText(strings.TrimLeft(line, "# ")))
			i++
		case strings.HasPrefix(line, "```"):
			for i++; i < len(lines) && !strings.HasPrefix(lines[i], "```"); i++ {
				p.Code(4, Span{Plain, lines[i]})
			}
			i++
		case strings.HasPrefix(line, "|"):
			end := i + 1
			for end < len(lines) && strings.HasPrefix(lines[end], "|") {
				end++
			}
			p.Table(markdownRows(lines[i:end]))
			i = end
		case line == "":
			p.Gap()
			i++
		default:
			end := i + 1
			for end < len(lines) && !begins(lines[end]) {
				lines[end] = strings.TrimLeft(lines[end], " ")
				end++
			}
			p.Line(2*len(listStart.FindAllString(line, 1)), Span{Plain, plainText(strings.Join(lines[i:end], " "))})
			i = end
		}
	}
}

// begins reports whether a line begins something else than a paragraph that is going on.
func begins(line string) bool {
	return line == "" || strings.ContainsAny(line[:1], "#|`") || listStart.MatchString(line)
}

// markdownRows returns the cells of a table, with its head.
func markdownRows(lines []string) [][]Span {
	var rows [][]Span
	for i, line := range lines {
		if ruleLine.MatchString(line) {
			continue
		}
		const bar = "\x00"
		line = strings.ReplaceAll(strings.Trim(line, "|"), `\|`, bar)
		var row []Span
		for cell := range strings.SplitSeq(line, "|") {
			style := Plain
			if i == 0 {
				style = Faint
			}
			row = append(row, Span{style, plainText(strings.ReplaceAll(strings.TrimSpace(cell), bar, "|"))})
		}
		rows = append(rows, row)
	}
	return rows
}

func (a *Document) table(t *table) {
	t.head("topic", "line")
	for _, line := range slices.Collect(strings.Lines(a.Text)) {
		t.row(a.Topic, strings.TrimRight(line, "\n"))
	}
}
