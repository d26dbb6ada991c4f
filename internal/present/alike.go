package present

import (
	"slices"
	"strconv"
	"strings"

	likeness "yorvet.example/yorvet/internal/core/choose"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Alike are the groups whose mail reaches people most like those of a list.
type Alike struct {
	People  []string     `json:"people"`
	Unknown []string     `json:"unknown"` // addresses that the estate does not know: no group reaches them
	Groups  []AlikeGroup `json:"groups"`  // the nearest first
	Notes   []string     `json:"notes"`
	Command string       `json:"command"` // that makes a group of just these people
}

// AlikeGroup is one of them.
type AlikeGroup struct {
	Group   string   `json:"group"`
	Exact   bool     `json:"exact"` // it reaches just these people
	Both    int      `json:"both"`  // people of the list that it reaches
	Missing []string `json:"missing"`
	Extra   []string `json:"extra"`
}

// NewAlike reports groups that are like a list of people.
func NewAlike(r *resolve.Resolver, people []estate.ID, unknown []string, near []likeness.Likeness) *Alike {
	n := newNamer(r)
	a := &Alike{People: n.sorted(people), Unknown: append([]string{}, unknown...), Groups: []AlikeGroup{},
		Notes: []string{}}
	for _, l := range near {
		a.Groups = append(a.Groups, AlikeGroup{Group: n.address(l.Group), Exact: l.Off() == 0 && len(unknown) == 0,
			Both:    l.Both,
			Missing: append(n.sorted(l.Missing), unknown...), Extra: n.sorted(l.Extra)})
	}
	return a
}

// sorted returns the addresses of some people, in order.
func (n *namer) sorted(list []estate.ID) []string {
	out := []string{}
	for _, id := range list {
		out = append(out, n.address(id))
	}
	slices.SortFunc(out, func(a, b string) int { return strings.Compare(strings.ToLower(a), strings.ToLower(b)) })
	return out
}

func (a *Alike) writeText(p *Page) {
	all := len(a.People) + len(a.Unknown)
	var exact []string
	for _, g := range a.Groups {
		if g.Exact {
			exact = append(exact, g.Group)
		}
	}
	switch {
	case len(exact) > 0:
		p.Line(2, Span{Strong, "These " + count(all, "person", "people") + " are a group: " + strings.Join(exact, ", ")})
	case len(a.Groups) == 0:
		p.Line(2, Span{Strong, "No group reaches any of these " + count(all, "person", "people")})
	default:
		g := a.Groups[0]
		p.Line(2, Span{Strong, "No group reaches just these " + count(all, "person", "people") + "; nearest is " + g.Group +
			": " +
			strconv.Itoa(len(g.Missing)) + " missing, " + strconv.Itoa(len(g.Extra)) + " too many"})
	}
	for _, note := range a.Notes {
		p.Line(2, Span{Doubtful, note})
	}
	if len(a.Unknown) > 0 {
		p.Line(2, Span{Doubtful, "The estate does not know " + p.some(a.Unknown)})
	}
	for _, g := range a.Groups {
		if len(exact) > 0 && !g.Exact {
			break // the others are no answer any more
		}
		p.Gap()
		p.Line(2, Span{Strong, g.Group}, Span{Plain, "  reaches " + strconv.Itoa(g.Both) + " of these " + strconv.Itoa(all)})
		if len(g.Missing) > 0 {
			p.Line(4, Span{Plain, "  missing (" + strconv.Itoa(len(g.Missing)) + "): " + p.some(g.Missing)})
		}
		if len(g.Extra) > 0 {
			p.Line(4, Span{Plain, "  too many (" + strconv.Itoa(len(g.Extra)) + "): " + p.some(g.Extra)})
		}
	}
	if len(exact) == 0 {
		p.Gap()
		p.Line(2, Span{Plain, "To make one:"})
		p.Code(2, Span{Plain, a.Command})
	}
}

func (a *Alike) table(t *table) {
	t.head("group", "exact", "both", "missing", "extra")
	for _, g := range a.Groups {
		t.row(g.Group, g.Exact, g.Both, g.Missing, g.Extra)
	}
}
