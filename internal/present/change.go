package present

import (
	"slices"
	"strconv"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/core/resolve"
)

// EstateChange is a change of an estate's files: what it does, and where.
type EstateChange struct {
	*Comparison
	NewGroups []MatrixRow  `json:"newGroups"`       // what those that are added do, as in the matrix
	KeptBack  int          `json:"noticesKeptBack"` // welcome notices that are not to go out
	Lead      string       `json:"lead,omitempty"`  // how much of what was asked for is done, before all else
	About     string       `json:"about,omitempty"` // what is made, in words
	Notes     []string     `json:"notes"`           // what was left out, and what to know as well
	Files     []FileChange `json:"files"`
	Written   bool         `json:"written"`
}

// FileChange is how many lines come and go in a file, and which.
type FileChange struct {
	File    string `json:"file"`
	Added   int    `json:"added"`
	Removed int    `json:"removed"`
	Names   int    `json:"names"`          // of the file (hard links): the change reaches this one only
	Diff    string `json:"diff,omitempty"` // unified, where it was asked for
}

// NewChange tells what a change does. Quietly, nobody is welcomed.
func NewChange(before, later *resolve.Resolver, quietly bool) *EstateChange {
	a := &EstateChange{
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

func (a *EstateChange) writeText(p *Page) {
	if len(a.Files) == 0 {
		if a.Lead != "" {
			p.Line(2, Span{Strong, a.Lead})
		}
		a.writeNotes(p)
		p.Line(0, Span{Plain, "There is nothing to change."})
		return
	}
	if !a.Written { // the places are in files as they are not yet
		a.Causes = slices.Clone(a.Causes)
		for i := range a.Causes {
			if a.Causes[i].isNew {
				a.Causes[i].place = ""
			}
		}
	}
	if a.Lead != "" {
		p.Line(2, Span{Strong, a.Lead})
	}
	a.writeHead(p)
	a.writeNotes(p)
	if !a.Written {
		a.Hazards.Appear = slices.Clone(a.Hazards.Appear)
		for i := range a.Hazards.Appear {
			a.Hazards.Appear[i].File = ""
		}
	}
	a.writeBody(p)
	if len(a.NewGroups) > 0 {
		p.Gap()
		p.Title("What the new groups do")
	}
	p.first(len(a.NewGroups), mostShown, "more", func(i int) {
		p.Line(6, append([]Span{{Plain, "  " + a.NewGroups[i].Group + ": "}}, a.NewGroups[i].spans()...)...)
	})
	if a.KeptBack > 0 {
		p.Gap()
		p.Line(
			2,
			Span{Doubtful, count(a.KeptBack, "welcome mail is", "welcome mails are") + " kept back."},
			Span{Plain, " Tell the system that sends them: the estate has no place for that."},
		)
	}
	p.Gap()
	a.writeFiles(p)
}

// writeNotes says what is made, and what to know about it.
func (a *EstateChange) writeNotes(p *Page) {
	if a.About != "" {
		p.Line(2, Span{Plain, a.About})
	}
	for _, note := range a.Notes {
		p.Line(2, Span{Doubtful, note})
	}
}

// writeFiles says in which files the change stands, or would.
func (a *EstateChange) writeFiles(p *Page) {
	verb := "Not written yet: "
	if a.Written {
		verb = "Written: "
	}
	for _, f := range a.Files {
		spans := []Span{{Plain, verb}, {Strong, f.File}, {Plain, " "}, {Plain, f.lines()}}
		if f.Diff == "" {
			spans = append(spans, Span{Faint, " (--diff shows them)"})
		}
		p.Line(2, spans...)
		if f.Names > 1 {
			p.Line(
				4,
				Span{Plain, "  "},
				Span{Doubtful, "The file has " + count(f.Names-1, "other name", "other names") + " (hard links)."},
				Span{Plain, " What is there under " + those(f.Names-1) + " stays as it was."},
			)
		}
		for line := range strings.Lines(f.Diff) {
			style := Plain
			switch line[0] {
			case '+':
				style = Good
			case '-':
				style = Bad
			case '@':
				style = Faint
			}
			p.Code(2, Span{style, strings.TrimRight(line, "\r\n")})
		}
	}
}

// lines says how many lines come and go.
func (f FileChange) lines() string {
	var parts []string
	if f.Added > 0 {
		parts = append(parts, "+"+strconv.Itoa(f.Added))
	}
	if f.Removed > 0 {
		parts = append(parts, "-"+strconv.Itoa(f.Removed))
	}
	if f.Added+f.Removed == 1 {
		return parts[0] + " line"
	}
	return strings.Join(parts, " ") + " lines"
}

// Unified returns what two versions of a file have otherwise, as a unified diff (POSIX,
// diff -u).
func Unified(file string, before, later []byte) string {
	return udiff.Unified(file, file, string(before), string(later))
}

func those(n int) string {
	if n == 1 {
		return "that name"
	}
	return "those names"
}

// verdictPast says of a message what a verdict has made of it.
var verdictPast = map[string]string{"admit": "admitted", "hold": "held", "refuse": "refused", "drop": "dropped"}

// spans reports a group in a line: who may post, what becomes of forged mail, and what
// its members get.
func (r MatrixRow) spans() []Span {
	posts := count(r.Posters["admit"], "person may post", "people may post")
	switch {
	case r.Outside == "admit" && r.Inside == "admit":
		posts = "anyone may post"
	case r.Outside == "admit":
		posts = "anyone outside and " + posts
	case r.Inside == "admit":
		posts += ", unknown inside addresses too"
	}
	if r.Kind == "roster" {
		n := 0
		for _, some := range r.Receives {
			n += some
		}
		return []Span{{Plain, rosterTakes + "; " + count(n, "person is", "people are") + " in it"}}
	}
	spans := []Span{{Plain, posts + "; forged mail is "}}
	forged := Span{Plain, verdictPast[r.Forged]}
	if r.Known > 0 || r.Forged == "admit" {
		forged = Span{Bad, "admitted"}
	}
	spans = append(spans, forged, Span{Plain, "; "})
	var outcomes []string
	total := 0
	for _, outcome := range resolve.OutcomeWords() {
		if n := r.Receives[outcome]; n > 0 {
			outcomes = append(outcomes, strconv.Itoa(n)+" "+outcome)
			total += n
		}
	}
	if total == 0 {
		return append(spans, Span{Plain, "nobody gets it"})
	}
	return append(spans, Span{Plain, count(total, "recipient", "recipients") + " (" + strings.Join(outcomes, ", ") + ")"})
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
	Held     string            `json:"held,omitempty"` // what else --held changes
	Settings map[string]string `json:"settings"`
	ordered  [][2]string       // the settings and their values as they are written
}

// NewPresets returns presets as an answer.
func NewPresets(list ...preset.Preset) *Presets {
	a := &Presets{}
	for _, p := range list {
		one := Preset{p.Name, p.For, p.Posts, p.Receives, p.Held, map[string]string{}, nil}
		for _, s := range p.Said() {
			value := strings.Join(s.Texts, "; ")
			one.Settings[s.Setting] = value
			one.ordered = append(one.ordered, [2]string{s.Setting, value})
		}
		a.Presets = append(a.Presets, one)
	}
	return a
}

func (a *Presets) writeText(p *Page) {
	p.Line(2, Span{Strong, count(len(a.Presets), "preset", "presets")},
		Span{Plain, ": ready sets of settings for a group (--preset NAME)"})
	for _, one := range a.Presets {
		p.Gap()
		p.Line(2, Span{Strong, one.Name}, Span{Plain, ": " + one.For})
		rows := [][]Span{{{Faint, "posts"}, {Plain, one.Posts}}, {{Faint, "receives"}, {Plain, one.Receives}}}
		if one.Held != "" {
			rows = append(rows, []Span{{Faint, "--held"}, {Plain, one.Held}})
		}
		for _, s := range one.ordered {
			rows = append(rows, []Span{{Faint, s[0]}, {Plain, s[1]}})
		}
		p.Table(rows)
	}
}

func (a *Presets) table(t *table) {
	t.head("preset", "for", "posts", "receives")
	for _, p := range a.Presets {
		t.row(p.Name, p.For, p.Posts, p.Receives)
	}
}
