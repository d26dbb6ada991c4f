package effect

import (
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
)

// findings returns the hazards of the groups that are concerned, by group, and last those
// of the edge.
func findings(r *resolve.Resolver, concerns func(estate.ID) bool) [][]hazard.Finding {
	groups := r.Estate().Groups()
	list := make([][]hazard.Finding, groups+1)
	pass := hazard.NewPass(r, hazard.All(), func(f hazard.Finding) {
		at := min(int(f.Group), groups)
		list[at] = append(list[at], f)
	})
	for id := range estate.ID(groups) {
		if concerns(id) {
			pass.Look(id)
		}
	}
	pass.Finish()
	return list
}

// about is what a finding is about: two findings of two estates are the same if they are
// about the same.
type about struct {
	check    *hazard.Check
	severity hazard.Severity
	accepted bool
	group    estate.ID // of the new estate; None: the edge, or a group that is gone
	address  string
	detail   string
}

// hazards notes which hazards appear and which go.
func (c *comparison) hazards(was, is [][]hazard.Finding) {
	appear, gone := hazard.NewByCheck(hazard.All()), hazard.NewByCheck(hazard.All())
	count := map[about]int{}
	for i, list := range was {
		for _, f := range list {
			if i < c.a.Groups() && c.toNew[i] == estate.None {
				gone.Add(f) // with its group
			} else {
				count[c.about(f, true)]++
			}
		}
	}
	for _, list := range is {
		for _, f := range list {
			if key := c.about(f, false); count[key] > 0 {
				count[key]--
			} else {
				appear.Add(f)
			}
		}
	}
	for i, list := range was {
		if i < c.a.Groups() && c.toNew[i] == estate.None {
			continue
		}
		for _, f := range list {
			if key := c.about(f, true); count[key] > 0 {
				count[key]--
				gone.Add(f)
			}
		}
	}
	c.report.Appearing, c.report.Going = hazard.Findings(appear), hazard.Findings(gone)
}

// about returns what a finding is about: people and groups by the addresses that they have
// in the new estate, rules by what they say.
func (c *comparison) about(f hazard.Finding, isOld bool) about {
	a := about{f.Check, f.Severity, f.Accepted, f.Group, c.renamed(f.Address, isOld), ""}
	if isOld && f.Group != estate.None {
		a.group = c.toNew[f.Group]
	}
	var words []string
	for _, word := range f.Detail {
		words = append(words, c.renamed(word, isOld))
	}
	a.detail = strings.Join(words, "\n")
	return a
}

// renamed returns an address of the old estate as the new one has it.
func (c *comparison) renamed(text string, isOld bool) string {
	a, err := address.Parse(text)
	if err != nil {
		return text
	}
	if isOld {
		if id, ok := c.a.Exact(a); ok && c.toNew[id] != estate.None {
			return c.b.Key(c.b.Address(c.toNew[id]))
		}
	}
	return c.b.Key(a)
}
