package hazard

import (
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// An Overview is a group at a glance.
type Overview struct {
	resolve.Overview
	Hazards int      // without those that are accepted
	Names   []string // of those, each once
}

// Overviews looks at all groups, in the order of the estate.
func Overviews(r *resolve.Resolver) []Overview {
	list := make([]Overview, r.Estate().Groups())
	note := func(f Finding) {
		if !f.Accepted && f.Group != estate.None {
			o := &list[f.Group]
			if o.Hazards++; !slices.Contains(o.Names, f.Check.Name) {
				o.Names = append(o.Names, f.Check.Name)
			}
		}
	}
	r.Survey() // all forks share it
	resolve.SideBySide(r, func(fork *resolve.Resolver, from, to estate.ID) int {
		pass := NewPass(fork, all, note)
		for id := from; id < to; id++ {
			list[id].Overview = fork.Overview(id)
			pass.Look(id)
		}
		return 0
	})
	NewPass(r, all, note).Finish()
	return list
}
