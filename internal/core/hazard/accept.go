package hazard

import (
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// acceptances are what an estate and its groups say of hazards that are intended, on one
// day.
type acceptances struct {
	e     *estate.Estate
	today estate.Day
	all   map[string][]wideAcceptance // those of the estate, by hazard
}

// wideAcceptance is one for several groups.
type wideAcceptance struct {
	estate.Acceptance
	is map[estate.ID]bool // by group: whether it is for that one, as far as is known
}

func newAcceptances(r *resolve.Resolver) acceptances {
	a := acceptances{e: r.Estate(), today: r.Today(), all: map[string][]wideAcceptance{}}
	for _, one := range r.Estate().Settings().Accepted {
		a.all[one.Hazard] = append(a.all[one.Hazard], wideAcceptance{one, map[estate.ID]bool{}})
	}
	return a
}

// accepting returns the acceptances that a finding is meant by, those of its group first.
func (a *acceptances) accepting(f *Finding) []*estate.Acceptance {
	var list []*estate.Acceptance
	note := func(one *estate.Acceptance) {
		if one.Hazard == f.Check.Name && one.Holds(a.today) &&
			(one.Address == "" || estate.MatchStars(one.Address, f.Address)) {
			list = append(list, one)
		}
	}
	if f.Group != estate.None {
		accepted := a.e.Group(f.Group).Accepted
		for i := range accepted {
			note(&accepted[i])
		}
	}
	for i := range a.all[f.Check.Name] {
		one := &a.all[f.Check.Name][i]
		is, known := one.is[f.Group]
		if !known {
			is = one.IsFor(a.e, f.Group)
			one.is[f.Group] = is
		}
		if is {
			note(&one.Acceptance)
		}
	}
	return list
}

// A StaleAcceptance is one that no finding needs.
type StaleAcceptance struct {
	estate.Acceptance
	Ended bool // since it holds no longer
}

// Stale returns the acceptances that no finding needs, of those that name one of the checks:
// those of some groups and, where these are all, those of the estate.
func Stale(r *resolve.Resolver, checks []*Check, findings []Finding, groups []estate.ID) []StaleAcceptance {
	a := newAcceptances(r)
	used := map[estate.Place]bool{}
	for i := range findings {
		if findings[i].Accepted {
			for _, one := range a.accepting(&findings[i]) {
				used[one.Place] = true
			}
		}
	}
	var stale []StaleAcceptance
	look := func(list []estate.Acceptance) {
		for _, one := range list {
			if !used[one.Place] && slices.ContainsFunc(checks, func(c *Check) bool { return c.Name == one.Hazard }) {
				stale = append(stale, StaleAcceptance{one, !one.Holds(a.today)})
			}
		}
	}
	if len(groups) == a.e.Groups() {
		look(a.e.Settings().Accepted)
	}
	for _, id := range groups {
		look(a.e.Group(id).Accepted)
	}
	return stale
}
