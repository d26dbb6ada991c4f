package resolve

import (
	"runtime"
	"sync"

	"yorvet.example/yorvet/internal/core/estate"
)

// SideBySide looks at all groups, in several goroutines, and returns the result of each.
// Groups that are nested in each other often stand together: each goroutine takes a
// stretch of them, so that it can use what it has worked out.
func SideBySide[T any](r *Resolver, look func(fork *Resolver, from, to estate.ID) T) []T {
	groups := r.Estate().Groups()
	results := make([]T, min(runtime.GOMAXPROCS(0), 4))
	var done sync.WaitGroup
	for w := range results {
		done.Go(func() {
			results[w] = look(r.Fork(), estate.ID(groups*w/len(results)), estate.ID(groups*(w+1)/len(results)))
		})
	}
	done.Wait()
	return results
}
