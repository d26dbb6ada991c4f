package effect

import "yorvet.example/yorvet/internal/core/resolve"

// CompareAll is Compare without passing over any group.
func CompareAll(older, newer *resolve.Resolver) *Report { return compare(older, newer, false) }
