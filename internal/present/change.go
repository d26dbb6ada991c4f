package present

import (
	"iter"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Change is a change of an estate's files: what it does, and where.
type Change struct {
	*Comparison
	NewGroups []MatrixRow  `json:"newGroups"`       // what those that are added do, as in the matrix
	KeptBack  int          `json:"noticesKeptBack"` // welcome notices that are not to go out
	About     string       `json:"about,omitempty"` // what is made, in words
	Notes     []string     `json:"notes"`           // what was left out, and what to know besides
	Files     []FileChange `json:"files"`
	Written   bool         `json:"written"`
}

// FileChange is how many lines come and go in a file.
type FileChange struct {
	File    string `json:"file"`
	Added   int    `json:"added"`
	Removed int    `json:"removed"`
	Names   int    `json:"names"` // of the file (hard links): the change reaches this one only
}

// NewChange tells what a change does. Quietly, nobody is welcomed.
func NewChange(before, later *resolve.Resolver, quietly bool) *Change {
	a := &Change{
		Comparison: NewComparison(before, later),
		NewGroups:  []MatrixRow{},
		Notes:      []string{},
		Files:      []FileChange{},
	}
	n := newNamer(later)
	for _, text := range a.Groups.Added {
		if added, err := address.Parse(text); err == nil {
			if id, ok := n.e.Find(added); ok {
				a.NewGroups = append(a.NewGroups, n.row(id, hazard.Overview{Overview: later.Overview(id)}))
			}
		}
	}
	if quietly {
		a.KeptBack, a.Total, a.Comparison.Notices = a.Total, 0, []NoticeCount{}
	}
	return a
}

func (a *Change) writeText(p *Page) {
	if a.About != "" {
		p.Line(2, Span{Plain, a.About})
	}
	for _, note := range a.Notes {
		p.Line(2, Span{Doubtful, note})
	}
	if len(a.Notes)+len(a.About) > 0 && len(a.Files) > 0 {
		p.Gap()
	}
	if len(a.Files) == 0 {
		p.Line(0, Span{Good, "There is nothing to change."})
		return
	}
	a.Comparison.writeText(p)
	for i, row := range a.NewGroups {
		if i == 0 {
			p.Gap()
			p.Title("What the new groups do")
		}
		if i == mostRest && !p.options.All {
			p.Line(2, Span{Faint, "  and " + strconv.Itoa(len(a.NewGroups)-i) + " more"})
			break
		}
		p.Line(6, append([]Span{{Plain, "  " + row.Group + ": "}}, row.spans()...)...)
	}
	if a.KeptBack > 0 {
		p.Gap()
		p.Line(
			2,
			Span{Doubtful, count(a.KeptBack, "welcome notice is", "welcome notices are") + " kept back."},
			Span{Plain, " Tell the system that sends them: the estate has no place for that."},
		)
	}
	p.Gap()
	verb := "would change"
	if a.Written {
		verb = "changed"
	}
	for _, f := range a.Files {
		p.Line(
			2,
			Span{Strong, f.File},
			Span{Plain, " " + verb + ": "},
			Span{Good, "+" + strconv.Itoa(f.Added)},
			Span{Plain, " "},
			Span{Bad, "-" + strconv.Itoa(f.Removed)},
			Span{Plain, " lines"},
		)
		if f.Names > 1 {
			p.Line(
				4,
				Span{Plain, "  "},
				Span{Doubtful, "The file has " + count(f.Names-1, "other name", "other names") + " (hard links)."},
				Span{Plain, " What is there under " + those(f.Names-1) + " stays as it was."},
			)
		}
	}
}

func those(n int) string {
	if n == 1 {
		return "that name"
	}
	return "those names"
}

// spans tells of a group in a line.
func (r MatrixRow) spans() []Span {
	spans := []Span{}
	for _, one := range []struct{ who, verdict string }{{"outsiders ", r.Outside}, {"unknown insiders ", r.Inside},
		{"forgeries ", r.Forged}} {
		spans = append(spans, Span{Plain, one.who}, Span{verdictStyle(one.verdict), one.verdict}, Span{Plain, ", "})
	}
	spans = append(spans, Span{Plain, count(r.Posters["admit"], "person posts", "people post") + "; "})
	for _, outcome := range resolve.OutcomeWords() {
		if n := r.Receives[outcome]; n > 0 {
			spans = append(spans, Span{outcomeStyle(outcome), strconv.Itoa(n) + " " + outcome + ", "})
		}
	}
	spans[len(spans)-1].Text = strings.TrimRight(spans[len(spans)-1].Text, ", ;")
	return spans
}

// MemberList is the members of groups, as they are written.
type MemberList struct {
	Members []ListedMember `json:"members"`
}

// ListedMember is one entry of one group, with what comes of it.
type ListedMember struct {
	Group       string `json:"group"`
	Address     string `json:"address"` // or the rule: where (...), everyone
	Name        string `json:"name"`
	Role        string `json:"role"`        // member, owner, moderator
	Is          string `json:"is"`          // person, outside, group, rule, nobody
	Copy        string `json:"copy"`        // as written; "" where the group decides
	Since       string `json:"since"`       // a date, or ""
	Invitations string `json:"invitations"` // as written
	Paused      bool   `json:"paused"`
	Outcome     string `json:"outcome"` // of a post to the group; "" for groups and rules
	File        string `json:"file"`
	Line        int    `json:"line"`
}

func (a *MemberList) writeText(p *Page) {
	group, shown := "", 0
	var rows [][]Span
	flush := func() {
		p.Table(rows)
		rows, shown = nil, 0
	}
	for _, m := range a.Members {
		if m.Group != group {
			flush()
			if group != "" {
				p.Gap()
			}
			group = m.Group
			p.Title(group)
		}
		if shown++; shown > 3*mostRest && !p.options.All {
			p.cut = true
			continue
		}
		var says []string
		for _, part := range []struct{ name, text string }{{"copy ", m.Copy}, {"since ", m.Since}, {"invitations ",
			m.Invitations}} {
			if part.text != "" {
				says = append(says, part.name+part.text)
			}
		}
		if m.Paused {
			says = append(says, "paused")
		}
		what := m.Role
		if m.Role == "member" {
			what = m.Is
		}
		rows = append(
			rows,
			[]Span{
				{Plain, m.Address},
				{Faint, what},
				{outcomeStyle(m.Outcome), m.Outcome},
				{Plain, strings.Join(says, ", ")},
			},
		)
	}
	flush()
	if len(a.Members) == 0 {
		p.Line(0, Span{Plain, "Nobody."})
	}
	p.hint()
}

func (a *MemberList) table() ([]string, iter.Seq[[]string]) {
	return []string{
			"group",
			"address",
			"name",
			"role",
			"is",
			"copy",
			"since",
			"invitations",
			"paused",
			"outcome",
			"file",
			"line",
		}, func(yield func([]string) bool) {
			for _, m := range a.Members {
				paused := ""
				if m.Paused {
					paused = "true"
				}
				if !yield(
					[]string{
						m.Group,
						m.Address,
						m.Name,
						m.Role,
						m.Is,
						m.Copy,
						m.Since,
						m.Invitations,
						paused,
						m.Outcome,
						m.File,
						strconv.Itoa(m.Line),
					},
				) {
					return
				}
			}
		}
}

// Presets are the ready sets of settings for groups.
type Presets struct {
	Presets []Preset `json:"presets"`
}

// Preset is one of them.
type Preset struct {
	Name     string            `json:"name"`
	For      string            `json:"for"`
	Posts    string            `json:"posts"`
	Receives string            `json:"receives"`
	Settings map[string]string `json:"settings"`
	ordered  [][2]string       // the settings and their values as they are written
}

// NewPresets returns presets as an answer.
func NewPresets(list ...preset.Preset) *Presets {
	a := &Presets{}
	for _, p := range list {
		one := Preset{p.Name, p.For, p.Posts, p.Receives, map[string]string{}, nil}
		for _, s := range p.Settings {
			value := strings.Join(s.Texts, "; ")
			one.Settings[s.Setting] = value
			one.ordered = append(one.ordered, [2]string{s.Setting, value})
		}
		a.Presets = append(a.Presets, one)
	}
	return a
}

func (a *Presets) writeText(p *Page) {
	for i, one := range a.Presets {
		if i > 0 {
			p.Gap()
		}
		p.Line(2, Span{Strong, one.Name}, Span{Plain, ": " + one.For})
		rows := [][]Span{{{Faint, "posts"}, {Plain, one.Posts}}, {{Faint, "receives"}, {Plain, one.Receives}}}
		for _, s := range one.ordered {
			rows = append(rows, []Span{{Faint, s[0]}, {Plain, s[1]}})
		}
		p.Table(rows)
	}
}

func (a *Presets) table() ([]string, iter.Seq[[]string]) {
	return []string{"preset", "for", "posts", "receives"}, func(yield func([]string) bool) {
		for _, p := range a.Presets {
			if !yield([]string{p.Name, p.For, p.Posts, p.Receives}) {
				return
			}
		}
	}
}
