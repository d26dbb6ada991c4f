package resolve_test

import (
	"math/rand/v2"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// Nested groups are counted as often as groups hold them, and no further than asked for.
func TestNestings(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 9))
	for range 300 {
		e := sample.Load(t, sample.Tangled(random)).Estate()
		want, most := 0, 0
		for group := range estate.ID(e.Groups()) {
			held := map[estate.ID]bool{}
			var walk func(id estate.ID)
			walk = func(id estate.ID) {
				for _, child := range e.Children(id) {
					if !held[child.Group] {
						held[child.Group] = true
						walk(child.Group)
					}
				}
			}
			walk(group)
			want, most = want+len(held), max(most, len(held))
		}
		got, widest := resolve.Nestings(e, 1<<30)
		if got != want {
			t.Fatalf("%d nested groups are counted, want %d", got, want)
		}
		if held := resolve.New(e, 20000).Members(widest).Rank(uint32(e.Groups() - 1)); int(held) != most {
			t.Errorf("%s holds %d, and another one %d", e.Address(widest), held, most)
		}
		if got, _ := resolve.Nestings(e, want/2); want > 1 && got <= want/2 {
			t.Errorf("counting ends at %d, before %d", got, want/2)
		}
	}
}
