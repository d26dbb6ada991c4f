package estatefile

import (
	"bytes"
	"math/rand/v2"
	"testing"
)

// What only one of two texts has is counted the same whether or not what both begin and end with
// is left out first.
func TestCountLines(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 9))
	text := func() []byte {
		var b bytes.Buffer
		for range random.IntN(6) {
			b.WriteString([]string{"a", "b", "ab", "", "a\r"}[random.IntN(5)])
			if random.IntN(8) > 0 {
				b.WriteByte('\n')
			}
		}
		return b.Bytes()
	}
	for range 20_000 {
		before, later := text(), text()
		count := map[string]int{}
		for line := range bytes.Lines(before) {
			count[string(line)]--
		}
		for line := range bytes.Lines(later) {
			count[string(line)]++
		}
		wantAdded, wantRemoved := 0, 0
		for _, n := range count {
			wantAdded, wantRemoved = wantAdded+max(n, 0), wantRemoved+max(-n, 0)
		}
		if added, removed := countLines(before, later); added != wantAdded || removed != wantRemoved {
			t.Fatalf("%q, %q: %d added, %d removed, not %d, %d", before, later, added, removed, wantAdded, wantRemoved)
		}
	}
}
