package present

import (
	"iter"
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
	Change    *Change          `json:"change,omitempty"` // where the estate was there already
	Files     []string         `json:"files"`            // where it was not
	Written   bool             `json:"written"`
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

// ImportGone are those whom the sources do not have any more.
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
		Span{Plain, joinShort(a.Domains, mostRest)},
	)
	a.remarks(p)
	a.conflicts(p)
	a.gone(p)
	switch {
	case a.Change != nil:
		p.Gap()
		a.Change.writeText(p)
	default:
		p.Gap()
		verb := "would be written: "
		if a.Written {
			verb = "written: "
		}
		p.Line(2, Span{Strong, a.Estate}, Span{Plain, " " + verb + joinShort(a.Files, mostRest)})
		if a.Written {
			p.Line(2, Span{Faint, "Now ask it something: yorvet --estate " + a.Estate + " matrix"})
		}
	}
	p.hint()
}

func joinShort(list []string, most int) string {
	text := ""
	for i, one := range list {
		if i == most {
			return text + " and " + strconv.Itoa(len(list)-i) + " more"
		}
		if i > 0 {
			text += ", "
		}
		text += one
	}
	return text
}

func (a *Import) remarks(p *Page) {
	if len(a.Remarks) == 0 {
		return
	}
	lost := 0
	for _, r := range a.Remarks {
		if r.Lost {
			lost++
		}
	}
	p.Gap()
	p.Title("Worth knowing (" + strconv.Itoa(len(a.Remarks)) + ", of which " + strconv.Itoa(lost) + " not taken)")
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
	for i, r := range list {
		if i == 2*mostRest && !p.options.All {
			p.Line(4, Span{Faint, "  and " + strconv.Itoa(len(list)-i) + " more"})
			p.cut = true
			break
		}
		place := r.Source
		if r.Line > 0 {
			place += ":" + strconv.Itoa(r.Line)
		}
		style := Plain
		if r.Lost {
			style = Doubtful
		}
		p.Line(4, Span{Faint, "  " + place + "  "}, Span{style, r.Text})
	}
}

func (a *Import) conflicts(p *Page) {
	if len(a.Conflicts) == 0 {
		return
	}
	p.Gap()
	p.Title("The sources differ (" + strconv.Itoa(len(a.Conflicts)) + "); the first named counts")
	for i, c := range a.Conflicts {
		if i == mostRest+2 && !p.options.All {
			p.Line(4, Span{Faint, "  and " + strconv.Itoa(len(a.Conflicts)-i) + " more"})
			p.cut = true
			break
		}
		p.Line(
			6,
			Span{Strong, "  " + c.Who},
			Span{Plain, "  " + c.What + ": "},
			Span{Good, c.Taken},
			Span{Faint, " (" + c.TakenAt + ")"},
			Span{Plain, ", not "},
			Span{Bad, c.Left},
			Span{Faint, " (" + c.LeftAt + ")"},
		)
	}
}

func (a *Import) gone(p *Page) {
	if n := len(a.Gone.Groups); n > 0 {
		p.Gap()
		p.Line(
			2,
			Span{Doubtful, count(n, "group is", "groups are") + " not there any more"},
			Span{Plain, " and will be removed: " + joinShort(a.Gone.Groups, mostRest)},
		)
	}
	if n := len(a.Gone.People); n > 0 {
		p.Gap()
		verb := "stay"
		if n == 1 {
			verb = "stays"
		}
		what := " and " + verb + ", as they may be written down by hand (--prune takes them out): "
		if a.Gone.Pruned {
			what = " and will be taken out: "
		}
		p.Line(
			2,
			Span{Doubtful, count(n, "person is", "people are") + " in no source"},
			Span{Plain, what + joinShort(a.Gone.People, mostRest)},
		)
	}
}

func (a *Import) table() ([]string, iter.Seq[[]string]) {
	return []string{"what", "where", "who", "text"}, func(yield func([]string) bool) {
		for _, r := range a.Remarks {
			if !yield([]string{"remark", r.Source + ":" + strconv.Itoa(r.Line), "", r.Text}) {
				return
			}
		}
		for _, c := range a.Conflicts {
			if !yield([]string{"conflict", c.TakenAt, c.Who, c.Sentence}) {
				return
			}
		}
	}
}
