package present

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/hazard"
)

// Baseline is a file of hazards that are known: a later check reports the others.
type Baseline struct {
	Version int           `json:"yorvetBaseline"`
	Hazards []KnownHazard `json:"hazards"`
}

// KnownHazard is a hazard that is known. The identifier decides; the rest is for those who
// read the file.
type KnownHazard struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Group   string `json:"group,omitempty"`
	Address string `json:"address,omitempty"`
}

// ParseBaseline reads a baseline. name is for messages.
func ParseBaseline(name string, data []byte) (*Baseline, error) {
	b := &Baseline{}
	if err := json.Unmarshal(data, b); err != nil {
		return nil, fmt.Errorf("%s: this is no baseline of hazards: %w", name, err)
	}
	if b.Version != 1 {
		return nil, fmt.Errorf(`%s: this is no baseline of hazards: expected "yorvetBaseline": 1`, name)
	}
	return b, nil
}

// Baseline returns the hazards as they are now, to be known from now on.
func (a *Hazards) Baseline() ([]byte, error) {
	b := Baseline{Version: 1, Hazards: []KnownHazard{}}
	for i := range a.found {
		f := &a.found[i]
		b.Hazards = append(b.Hazards, KnownHazard{a.n.idOf(f), f.Check.Name, a.n.groupOf(f), f.Address})
	}
	slices.SortFunc(b.Hazards, func(x, y KnownHazard) int {
		return strings.Compare(x.Name+" "+x.Group+" "+x.Address+" "+x.ID, y.Name+" "+y.Group+" "+y.Address+" "+y.ID)
	})
	data, err := json.MarshalIndent(b, "", "  ")
	return append(data, '\n'), err
}

// Against takes the hazards that a baseline knows out of those that are listed, and counts those
// of it that are gone. Findings of checks that were not run are not gone.
func (a *Hazards) Against(name string, b *Baseline) {
	known := map[string]bool{}
	for _, h := range b.Hazards {
		known[h.ID] = true
	}
	a.baseline = name
	var left []hazard.Finding
	for _, f := range a.found {
		id := a.n.idOf(&f)
		if !known[id] {
			left = append(left, f)
			continue
		}
		delete(known, id)
		a.Counts[f.Severity.String()]--
		a.known = append(a.known, f)
	}
	a.found = left
	ran := map[string]bool{}
	for _, check := range a.checks {
		ran[check.Name] = true
	}
	for _, h := range b.Hazards {
		if known[h.ID] && ran[h.Name] && a.looked(h.Group) {
			a.Gone = append(a.Gone, h)
		}
	}
}

// looked reports whether hazards of a group were looked for.
func (a *Hazards) looked(group string) bool {
	return len(a.names) == 0 || a.names[group]
}

// idOf returns what a hazard is called from one check to the next: the same as long as it is
// of one kind, in one group, about one address and detail.
func idOf(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	const short = 8 // bytes
	return fmt.Sprintf("%x", sum[:short])
}

// causes puts findings together that have one kind and one cure, those with the most first.
func (a *Hazards) causes(findings []hazard.Finding) [][]hazard.Finding {
	lists := a.gathered(findings, func(f *hazard.Finding) string { return a.n.causeOf(f, f.Fix()) })
	slices.SortStableFunc(lists, func(x, y []hazard.Finding) int { return len(y) - len(x) })
	return lists
}

// writeCauses writes an item for each cause: how often, in which groups, how many people it
// touches, and what to do.
func (a *Hazards) writeCauses(p *Page, findings []hazard.Finding) {
	const mostCauses = 20
	lists := a.causes(findings)
	shown := p.shown(len(lists), mostCauses)
	for i, list := range lists {
		if i == shown {
			rest := 0
			for _, one := range lists[i:] {
				rest += len(one)
			}
			p.Gap()
			p.Line(0, Span{Faint, "and " + count(len(lists)-i, "cause", "causes") + " more, of " +
				count(rest, "hazard", "hazards") + " (--by cause --all)"})
			return
		}
		groups, people := map[string]int{}, map[string]bool{}
		var order []string
		for i := range list {
			group := a.n.groupOf(&list[i])
			if groups[group] == 0 {
				order = append(order, group)
			}
			groups[group]++
			if list[i].Address != "" {
				people[list[i].Address] = true
			}
		}
		slices.SortStableFunc(order, func(x, y string) int { return groups[y] - groups[x] })
		first := a.n.hazard(list[0])
		p.Gap()
		p.Line(2, Span{severityStyle(first.Severity), first.Severity}, Span{Plain, "  "}, Span{Strong, first.Name},
			Span{Plain, ": " + count(len(list), "finding", "findings") + " in " + count(len(groups), "group", "groups")})
		if len(people) > 1 {
			p.Line(2, Span{Plain, "  " + count(len(people), "address", "addresses") + " concerned"})
		}
		if len(list) == 1 || len(groups) > 1 {
			p.Line(2, Span{Plain, "  " + first.Says})
		}
		if len(list) > 1 {
			p.Line(2, Span{Faint, "  in " + p.some(order)})
		}
		p.fix(first.Fix)
	}
}

// writeBaseline says how the hazards stand to a baseline.
func (a *Hazards) writeBaseline(p *Page) {
	if a.baseline == "" {
		return
	}
	if len(a.Gone) > 0 {
		p.Line(2, Span{Plain, count(len(a.Gone), "hazard", "hazards") + " of " + a.baseline +
			choose(len(a.Gone), " is", " are") + " gone (--update-baseline forgets them)"})
	}
}
