package present

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
)

// HazardLine returns the first line of the answer about hazards of so many groups, without
// making the rest of it.
func HazardLine(e *estate.Estate, checks []*hazard.Check, findings []hazard.Finding, groups int) string {
	t := hazardTally{groups: groups, checks: len(checks), counts: map[string]int{}}
	t.add(e, findings)
	var line strings.Builder
	for _, span := range t.head() {
		line.WriteString(span.Text)
	}
	return line.String()
}

// hazardTally is what the first line about hazards says.
type hazardTally struct {
	groups, checks int            // that were looked at
	counts         map[string]int // by severity
	accepted       int
	known          int         // by a baseline
	baseline       string      // its file, or ""
	in             []hazardsIn // groups with hazards, in the order of the first of each
}

// hazardsIn is how many hazards a group has.
type hazardsIn struct {
	name string // "": the edge
	n    int
}

// head says how many hazards there are, and which group has the most.
func (a *Hazards) head() []Span {
	t := hazardTally{groups: a.groups, checks: len(a.checks), counts: map[string]int{}, accepted: len(a.accepted),
		known: len(a.known), baseline: a.baseline}
	t.add(a.n.e, a.found)
	return t.head()
}

// add counts findings.
func (t *hazardTally) add(e *estate.Estate, findings []hazard.Finding) {
	index := map[estate.ID]int{}
	for i := range findings {
		f := &findings[i]
		if f.Accepted {
			t.accepted++
			continue
		}
		t.counts[f.Severity.String()]++
		at, ok := index[f.Group]
		if !ok {
			at = len(t.in)
			index[f.Group] = at
			name := ""
			if f.Group != estate.None {
				name = e.Address(f.Group).String()
			}
			t.in = append(t.in, hazardsIn{name: name})
		}
		t.in[at].n++
	}
}

func (t *hazardTally) head() []Span {
	all := 0
	for _, one := range t.in {
		all += one.n
	}
	if all+t.accepted+t.known == 0 {
		return []Span{{Strong, "No hazards in " + count(t.groups, "group", "groups") + " (" +
			count(t.checks, "check", "checks") + ")"}}
	}
	one, many := "hazard", "hazards"
	if t.baseline != "" {
		one, many = "new hazard", "new hazards"
	}
	head := []Span{{Strong, count(all, one, many)}}
	if all > 0 {
		head = append(head, Span{Plain, ": "})
		head = append(head, countSpans(t.counts, hazard.SeverityWords(), severityStyle)...)
	}
	if t.baseline != "" {
		head = append(head, Span{Plain, "; " + strconv.Itoa(t.known) + " more known by " + t.baseline})
	}
	if t.accepted > 0 {
		head = append(head, Span{Faint, "; " + strconv.Itoa(t.accepted) + " accepted in the estate"})
	}
	if len(t.in) > 1 {
		if most := slices.MaxFunc(t.in, func(x, y hazardsIn) int { return x.n - y.n }); most.n > 1 {
			head = append(head, Span{Plain, ". Most: " + cmp.Or(most.name, "the edge") + " (" + strconv.Itoa(most.n) + ")"})
		}
	}
	return head
}
