package present

import (
	"strconv"
	"strings"
	"time"
)

// Changes are the changes of an estate that were kept.
type Changes struct {
	Changes []KeptChange `json:"changes"` // the latest first
}

// KeptChange is one of them.
type KeptChange struct {
	Number   int        `json:"number"`
	Time     time.Time  `json:"time"`
	User     string     `json:"user"`
	Command  []string   `json:"command"`
	Says     string     `json:"says"`
	Undoes   int        `json:"undoes,omitempty"`
	UndoneBy int        `json:"undoneBy,omitempty"`
	Files    []KeptFile `json:"files"`
}

// KeptFile is what a change did to a file.
type KeptFile struct {
	File    string     `json:"file"`
	Added   int        `json:"added"` // lines
	Removed int        `json:"removed"`
	Edits   []KeptEdit `json:"edits,omitempty"`
}

// KeptEdit is lines that took the place of others.
type KeptEdit struct {
	Line int    `json:"line"` // from 1
	Old  string `json:"old"`
	New  string `json:"new"`
}

// NewChanges returns an answer without changes.
func NewChanges() *Changes { return &Changes{Changes: []KeptChange{}} }

// Add adds a change behind the others.
func (a *Changes) Add(c KeptChange) { a.Changes = append(a.Changes, c) }

// IsEmpty reports whether there is no change.
func (a *Changes) IsEmpty() bool { return len(a.Changes) == 0 }

func (a *Changes) writeText(p *Page) {
	if a.IsEmpty() {
		p.Line(0, Span{Strong, "No changes are kept"})
		p.Line(0, Span{Faint, "Yorvet keeps those that it writes; changes by hand are not among them."})
		return
	}
	undone := 0
	for _, c := range a.Changes {
		if c.UndoneBy > 0 {
			undone++
		}
	}
	first := count(len(a.Changes), "change", "changes")
	if undone > 0 {
		first += ", " + strconv.Itoa(undone) + " undone"
	}
	p.Line(0, Span{Strong, first})
	p.first(len(a.Changes), 2*mostShown, "more", func(i int) {
		p.Gap()
		a.Changes[i].write(p)
	})
}

func (c *KeptChange) write(p *Page) {
	state := Span{}
	switch {
	case c.UndoneBy > 0:
		state = Span{Doubtful, "  undone by " + strconv.Itoa(c.UndoneBy)}
	case c.Undoes > 0:
		state = Span{Faint, "  undoes " + strconv.Itoa(c.Undoes)}
	}
	p.Line(4, Span{Strong, strconv.Itoa(c.Number)}, Span{Plain, "  " + c.Time.Format("2006-01-02 15:04") + " UTC  " +
		c.User}, state)
	p.Line(4, Span{Plain, "  " + c.Says})
	p.Line(4, Span{Faint, "  yorvet " + strings.Join(c.Command, " ")})
	for _, f := range c.Files {
		p.Line(4, Span{Faint, "  " + f.File + " +" + strconv.Itoa(f.Added) + " -" + strconv.Itoa(f.Removed) + " lines"})
		for _, e := range f.Edits {
			p.Code(4, Span{Plain, "line " + strconv.Itoa(e.Line)})
			for line := range strings.Lines(e.Old) {
				p.Code(4, Span{Plain, "- " + strings.TrimRight(line, "\r\n")})
			}
			for line := range strings.Lines(e.New) {
				p.Code(4, Span{Plain, "+ " + strings.TrimRight(line, "\r\n")})
			}
		}
	}
}

func (a *Changes) table(t *table) {
	t.head("number", "time", "user", "command", "says", "undoes", "undone-by")
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	for _, c := range a.Changes {
		t.row(c.Number, c.Time.Format(time.RFC3339), c.User, strings.Join(c.Command, " "), c.Says, number(c.Undoes),
			number(c.UndoneBy))
	}
}
