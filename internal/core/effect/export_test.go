package effect

import "yorvet.example/yorvet/internal/core/resolve"

// CompareAll is Compare without passing over any group.
func CompareAll(older, newer *resolve.Resolver) *Report {
	return compare(older, newer, false)
}

// Unchanged returns the groups that Compare passes over.
func Unchanged(older, newer *resolve.Resolver) []bool {
	c := &comparison{old: older, new: newer, a: older.Estate(), b: newer.Estate(), report: &Report{}}
	c.match()
	return c.unchanged()
}
