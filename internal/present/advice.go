package present

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/preset"
)

// Advice is what serves some needs of an address.
type Advice struct {
	Needs    []string     `json:"needs"`
	Enough   bool         `json:"groupIsEnough"`
	Account  []string     `json:"accountFor"` // needs for which an account of its own is needed
	Preset   string       `json:"preset"`
	Kind     string       `json:"kind"`
	Settings []string     `json:"settings"` // apart from the preset's
	Unmet    []string     `json:"unmet"`
	Others   []AdviceKind `json:"otherKinds"`
	Command  string       `json:"command"`

	posts, receives string
}

// AdviceKind is a kind that was not advised.
type AdviceKind struct {
	Kind   string   `json:"kind"`
	Cannot []string `json:"cannot"`
}

// NewAdvice tells what serves some needs; command makes it.
func NewAdvice(needs []string, a *preset.Advice, command string) *Advice {
	p, _ := preset.Find(a.Preset)
	out := &Advice{
		Needs: append([]string{}, needs...), Enough: len(a.Account) == 0, Account: append([]string{}, a.Account...),
		Preset: a.Preset,
		Kind:   a.Kind.String(), Settings: []string{}, Unmet: append([]string{}, a.Unmet...), Others: []AdviceKind{},
		Command: command,
		posts:   p.Posts, receives: p.Receives,
	}
	for _, s := range a.Settings {
		out.Settings = append(out.Settings, s.Setting+": "+strings.Join(s.Texts, "; "))
	}
	for _, o := range a.Others {
		out.Others = append(out.Others, AdviceKind{o.Kind.String(), append([]string{}, o.Cannot...)})
	}
	return out
}

func (a *Advice) writeText(p *Page) {
	what := "a group of kind " + a.Kind + ", by the preset " + a.Preset
	if a.Enough {
		p.Line(2, Span{Strong, "A group is enough: " + strings.TrimPrefix(what, "a group of ")})
	} else {
		p.Line(2, Span{Strong, "An account of its own is needed: " + strings.Join(a.Account, ", and ")})
		p.Line(2, Span{Plain, "A group has no login and no calendar. For the rest of it " + what +
			" serves, with the account as a member."})
	}
	for _, text := range a.Unmet {
		p.Line(2, Span{Doubtful, "! not served: " + text})
	}
	p.Gap()
	settings := strings.Join(a.Settings, ". ")
	changes := func(name string) bool {
		return slices.ContainsFunc(a.Settings, func(s string) bool { return strings.HasPrefix(s, name+":") })
	}
	p.Line(2, Span{Plain, "Who posts: " + a.posts})
	if !changes("kind") && !changes("send-as") {
		p.Line(2, Span{Plain, "Who receives: " + a.receives})
	}
	if settings != "" {
		p.Line(2, Span{Plain, "Other than the preset: " + settings + "."})
	}
	p.Gap()
	p.Title("Other kinds")
	rows := [][]Span{}
	for _, o := range a.Others {
		text := "would serve as well"
		if len(o.Cannot) > 0 {
			text = strings.Join(o.Cannot, "; ")
		}
		rows = append(rows, []Span{{Plain, o.Kind}, {Plain, text}})
	}
	p.Table(rows)
	p.Gap()
	p.Line(2, Span{Plain, "To make it:"})
	p.Code(2, Span{Plain, a.Command})
}

func (a *Advice) table(t *table) {
	t.head("kind", "advised", "preset", "cannot")
	t.row(a.Kind, "true", a.Preset, a.Unmet)
	for _, o := range a.Others {
		t.row(o.Kind, "false", "", o.Cannot)
	}
}
