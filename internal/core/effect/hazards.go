package effect

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
)

// side looks for the hazards of one of the estates.
type side struct {
	pass  *hazard.Pass
	found []hazard.Finding
}

func newSide(r *resolve.Resolver) *side {
	s := &side{}
	s.pass = hazard.NewPass(r, hazard.All(), func(f hazard.Finding) { s.found = append(s.found, f) })
	return s
}

// of returns the hazards of a group, until it is asked again.
func (s *side) of(id estate.ID) []hazard.Finding {
	s.found = s.found[:0]
	s.pass.Look(id)
	return s.found
}

// rest returns the hazards of the edge, and those of several groups.
func (s *side) rest() []hazard.Finding {
	s.found = s.found[:0]
	s.pass.Finish()
	return s.found
}

// differences are hazards that appear and that go.
type differences struct{ appear, gone []hazard.Finding }

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

// hazards returns which hazards appear and which go, of those that were and are.
func (c *comparison) hazards(was, is []hazard.Finding) differences {
	var d differences
	if len(was)+len(is) == 0 {
		return d
	}
	count := make(map[about]int, len(was))
	for _, f := range was {
		count[c.about(f, true)]++
	}
	for _, f := range is {
		if key := c.about(f, false); count[key] > 0 {
			count[key]--
		} else {
			d.appear = append(d.appear, f)
		}
	}
	for _, f := range was {
		if key := c.about(f, true); count[key] > 0 {
			count[key]--
			d.gone = append(d.gone, f)
		}
	}
	return d
}

// reportHazards notes hazards that appear and go: of groups in both estates, and by the way of
// those of the old estate alone, of the edge and of several groups.
func (c *comparison) reportHazards(of []differences) {
	appear, gone := hazard.NewByCheck(hazard.All()), hazard.NewByCheck(hazard.All())
	old, new := newSide(c.old.Fork()), newSide(c.new.Fork())
	for id := range estate.ID(c.a.Groups()) {
		if c.toNew[id] == estate.None {
			of = append(of, differences{gone: slices.Clone(old.of(id))})
		}
	}
	for _, d := range append(of, c.hazards(old.rest(), new.rest())) {
		for _, f := range d.appear {
			appear.Add(f)
		}
		for _, f := range d.gone {
			gone.Add(f)
		}
	}
	c.report.Appearing, c.report.Going = hazard.Findings(appear), hazard.Findings(gone)
}

// about returns what a finding is about: people and groups by the addresses that they have
// in the new estate.
func (c *comparison) about(f hazard.Finding, isOld bool) about {
	a := about{f.Check, f.Severity, f.Accepted, f.Group, c.renamed(f.Address, isOld), ""}
	if isOld && f.Group != estate.None {
		a.group = c.toNew[f.Group]
	}
	var words []string
	for _, word := range f.Detail() {
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
