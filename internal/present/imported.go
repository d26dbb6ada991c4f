package present

import (
	"slices"
	"strconv"
)

// Import is what came of reading sources into an estate.
type Import struct {
	Estate    string           `json:"estate"`
	People    int              `json:"people"`
	Groups    int              `json:"groups"`
	Members   int              `json:"memberships"`
	Domains   []string         `json:"domains"`
	Conflicts []ImportConflict `json:"conflicts"`
	Remarks   []ImportRemark   `json:"remarks"`
	Gone      ImportGone       `json:"gone"`
	Change    *EstateChange    `json:"change,omitempty"` // where the estate was there already
	Files     []string         `json:"files"`            // where it was not
	Written   bool             `json:"written"`
	// Ungated is how many groups no source has a gate for.
	Ungated   int    `json:"ungated"`
	UngatedBy string `json:"-"` // arguments of group set that name just these

	Coverage []ImportCoverage `json:"coverage"`

	// InFull has the coverage shown column by column.
	InFull bool `json:"-"`
}

// ImportConflict is something that two sources say differently.
type ImportConflict struct {
	Who      string `json:"who"`
	What     string `json:"what"`
	Taken    string `json:"taken"`
	TakenAt  string `json:"takenAt"`
	Left     string `json:"left"`
	LeftAt   string `json:"leftAt"`
	Sentence string `json:"says"`
}

// ImportRemark is something in a source that is worth knowing.
type ImportRemark struct {
	Source string `json:"source"`
	Line   int    `json:"line"`
	Text   string `json:"text"`
	Lost   bool   `json:"lost"` // something that stands there was not taken
}

// ImportGone are those that the sources do not have any more.
type ImportGone struct {
	Groups []string `json:"groups"`
	People []string `json:"people"`
	Pruned bool     `json:"pruned"`
}

func (a *Import) writeText(p *Page) {
	p.Line(
		2,
		Span{Strong, count(a.People, "person", "people")},
		Span{
			Plain,
			", " + count(a.Groups, "group", "groups") + ", " + count(a.Members, "membership", "memberships") + " at ",
		},
		Span{Plain, p.some(a.Domains)},
	)
	a.coverage(p)
	a.remarks(p)
	a.conflicts(p)
	a.gone(p)
	switch {
	case a.Change != nil:
		p.Gap()
		a.Change.writeText(p)
	default:
		p.Gap()
		if !a.Written {
			p.Line(2, Span{Plain, "Not written yet: " + p.some(a.Files)})
			return
		}
		p.Line(2, Span{Plain, "Wrote " + p.some(a.Files)})
		if a.Ungated > 0 {
			p.Line(2, Span{Doubtful, "! No source says who may post to " + count(a.Ungated, "group", "groups") + ":"},
				Span{Plain, " they have the default gate, admit inside. Mail servers let everybody in. To say so:"})
			p.Code(2, Span{Plain, "yorvet --estate " + a.Estate + " group set " + a.UngatedBy + " 'gate=admit anyone'"})
		}
		p.Line(2, Span{Faint, "Next: yorvet --estate " + a.Estate + " check"})
	}
}

func (a *Import) remarks(p *Page) {
	if len(a.Remarks) == 0 {
		return
	}
	lost := map[ImportRemark]bool{} // entries, of which more than one thing may be said
	for _, r := range a.Remarks {
		entry := ImportRemark{Source: r.Source, Line: r.Line}
		if r.Line == 0 {
			entry = r
		}
		if r.Lost {
			lost[entry] = true
		}
	}
	p.Gap()
	title := "Notes (" + strconv.Itoa(len(a.Remarks)) + ")"
	if len(lost) > 0 {
		title += ": " + count(len(lost), "entry", "entries") + " not taken in full"
	}
	p.Title(title)
	// What was not taken comes first.
	list := slices.Clone(a.Remarks)
	slices.SortStableFunc(list, func(x, y ImportRemark) int {
		if x.Lost == y.Lost {
			return 0
		} else if x.Lost {
			return -1
		}
		return 1
	})
	p.first(len(list), 2*mostShown, "more", func(i int) {
		r := list[i]
		place := r.Source
		if r.Line > 0 {
			place += ":" + strconv.Itoa(r.Line)
		}
		style := Plain
		if r.Lost {
			style = Doubtful
		}
		p.Line(4, Span{Faint, "  " + place + "  "}, Span{style, r.Text})
	})
}

func (a *Import) conflicts(p *Page) {
	if len(a.Conflicts) == 0 {
		return
	}
	p.Gap()
	p.Title("Sources disagree (" + strconv.Itoa(len(a.Conflicts)) + "); the first named is kept")
	p.first(len(a.Conflicts), mostShown, "more", func(i int) {
		c := &a.Conflicts[i]
		p.Line(2, Span{Strong, "  " + c.Who}, Span{Plain, "  " + c.What})
		p.LineAt(6, c.TakenAt, Span{Plain, "    kept: " + c.Taken})
		p.LineAt(6, c.LeftAt, Span{Doubtful, "    not:  " + c.Left})
	})
	if slices.ContainsFunc(a.Conflicts, func(c ImportConflict) bool { return c.What == "this" }) {
		p.Line(2, Span{Faint, "  An address goes to the other one with --prefer and that one's main address."})
	}
}

func (a *Import) gone(p *Page) {
	if n := len(a.Gone.Groups); n > 0 {
		p.Gap()
		p.Line(
			2,
			Span{Doubtful, count(n, "group is", "groups are") + " in no source any more"},
			Span{Plain, " and will be removed: " + p.some(a.Gone.Groups)},
		)
	}
	if n := len(a.Gone.People); n > 0 {
		p.Gap()
		verb := "stay"
		if n == 1 {
			verb = "stays"
		}
		what := " and " + verb + ", as they may be written down by hand (--prune removes them): "
		if a.Gone.Pruned {
			what = " and will be removed: "
		}
		p.Line(
			2,
			Span{Doubtful, count(n, "person is", "people are") + " in no source"},
			Span{Plain, what + p.some(a.Gone.People)},
		)
	}
}

func (a *Import) table(t *table) {
	t.head("what", "where", "who", "text")
	for _, r := range a.Remarks {
		t.row("remark", r.Source+":"+strconv.Itoa(r.Line), "", r.Text)
	}
	for _, c := range a.Conflicts {
		t.row("conflict", c.TakenAt, c.Who, c.Sentence)
	}
}
