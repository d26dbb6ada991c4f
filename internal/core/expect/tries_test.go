package expect_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/sample"
)

// No message is tried twice, and nobody breaks an expectation twice by the same one, however often
// and in whatever order a selector names what messages are like.
func TestNothingIsTriedTwice(t *testing.T) {
	r := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}, {address: bob@kelp.example}, {address: cy@out.example}]
groups: [{address: g@kelp.example, members: [ann@kelp.example], gate: [refuse anyone]}]
`)
	atoms := []string{"unproven", "suspect", "automatic", "invitation", "larger(1kB)", "larger(2kB)", "members", "anyone", "outside"}
	random := rand.New(rand.NewPCG(28, 12))
	several := 0
	for range 500 {
		var parts []string
		for range 1 + random.IntN(7) {
			parts = append(parts, atoms[random.IntN(len(atoms))])
			parts = append(parts, []string{"or", "and"}[random.IntN(2)])
		}
		selector := strings.Join(parts[:len(parts)-1], " ")
		list, errs := expect.Parse("to g@kelp.example\n  admits " + selector + "\n")
		if len(errs) > 0 {
			t.Fatal(errs[0])
		}
		tried, broken := map[expect.Try]bool{}, map[expect.Counterexample]bool{}
		for _, try := range expect.Tries(r, &list[0]) {
			if tried[try] {
				t.Errorf("%s: %+v is tried twice", selector, try)
			}
			tried[try] = true
		}
		expect.Each(r, &list[0], func(c expect.Counterexample) bool {
			if broken[c] {
				t.Errorf("%s: %+v breaks it twice", selector, c)
			}
			broken[c] = true
			return true
		})
		if len(tried) > 4 {
			several++
		}
	}
	if several < 100 {
		t.Errorf("only %d selectors have several messages", several)
	}
}
