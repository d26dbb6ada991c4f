package present

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Baseline is a file of hazards that are known: a later check tells of the others.
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
	for _, h := range a.Hazards {
		b.Hazards = append(b.Hazards, KnownHazard{h.ID, h.Name, h.Group, h.Address})
	}
	slices.SortFunc(b.Hazards, func(x, y KnownHazard) int {
		return strings.Compare(x.Name+" "+x.Group+" "+x.Address+" "+x.ID, y.Name+" "+y.Group+" "+y.Address+" "+y.ID)
	})
	data, err := json.MarshalIndent(b, "", "  ")
	return append(data, '\n'), err
}

// Against takes the hazards that a baseline knows out of those that are told, and counts those
// of it that are gone. Findings of checks that were not run are not gone.
func (a *Hazards) Against(name string, b *Baseline) {
	known := map[string]bool{}
	for _, h := range b.Hazards {
		known[h.ID] = true
	}
	a.baseline = name
	var left []Hazard
	for _, h := range a.Hazards {
		if !known[h.ID] {
			left = append(left, h)
			continue
		}
		delete(known, h.ID)
		a.Counts[h.Severity]--
		a.Known = append(a.Known, h)
	}
	if a.Hazards = left; left == nil {
		a.Hazards = []Hazard{}
	}
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

// causes puts hazards together that have one kind and one cure, those with the most first.
func (a *Hazards) causes() [][]Hazard {
	lists := a.gathered(func(h Hazard) string { return h.Cause })
	slices.SortStableFunc(lists, func(x, y []Hazard) int { return len(y) - len(x) })
	return lists
}

// writeCauses writes an item for each cause: how often, in which groups, how many people it
// touches, and what to do.
func (a *Hazards) writeCauses(p *Page) {
	const mostCauses = 20
	lists := a.causes()
	for i, list := range lists {
		if i == mostCauses && !p.options.All && len(lists) > mostCauses+2 {
			p.Gap()
			p.Line(0, Span{Faint, "and " + count(len(lists)-i, "cause", "causes") + " more (--all)"})
			return
		}
		first := list[0]
		groups, people := map[string]int{}, map[string]bool{}
		var order []string
		for _, h := range list {
			if groups[h.Group] == 0 {
				order = append(order, h.Group)
			}
			groups[h.Group]++
			if h.Address != "" {
				people[h.Address] = true
			}
		}
		slices.SortStableFunc(order, func(x, y string) int { return groups[y] - groups[x] })
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
