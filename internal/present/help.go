package present

import (
	"strings"
)

// Help is what a command says of itself.
type Help struct {
	Usage    string      `json:"usage"` // how it is called
	About    string      `json:"about"`
	Text     string      `json:"text"` // paragraphs, apart by empty lines; set in: as it is
	Commands []HelpEntry `json:"commands"`
	Options  []HelpEntry `json:"options"`
	Further  string      `json:"further"` // where there is more, or ""
}

// HelpEntry is a command or a flag.
type HelpEntry struct {
	Name  string `json:"name"`
	About string `json:"about"`
}

func (a *Help) writeText(p *Page) {
	p.Line(2, Span{Strong, a.Usage})
	p.Line(2, Span{Plain, "  " + strings.ToUpper(a.About[:1]) + a.About[1:] + "."})
	for paragraph := range strings.SplitSeq(a.Text, "\n\n") {
		if paragraph == "" {
			continue
		}
		p.Gap()
		if example, ok := strings.CutPrefix(paragraph, "Example: "); ok {
			p.Line(0, Span{Plain, "Example:"})
			for line := range strings.SplitSeq(example, "\n") {
				p.Code(2, Span{Plain, strings.TrimSpace(line)})
			}
			continue
		}
		for line := range strings.SplitSeq(paragraph, "\n") {
			indent := len(line) - len(strings.TrimLeft(line, " "))
			p.Line(indent+2*min(indent, 1), Span{Plain, line})
		}
	}
	p.entries("Commands", a.Commands)
	p.entries("Options", a.Options)
	if a.Further != "" {
		p.Gap()
		p.Line(0, Span{Plain, a.Further})
	}
}

func (p *Page) entries(title string, list []HelpEntry) {
	if len(list) == 0 {
		return
	}
	p.Gap()
	p.Title(title)
	var rows [][]Span
	for _, one := range list {
		rows = append(rows, []Span{{Strong, one.Name}, {Plain, one.About}})
	}
	p.Table(rows)
}

func (a *Help) table(t *table) {
	t.head("name", "about")
	for _, list := range [][]HelpEntry{a.Commands, a.Options} {
		for _, one := range list {
			t.row(one.Name, one.About)
		}
	}
}
