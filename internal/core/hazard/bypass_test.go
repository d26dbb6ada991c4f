package hazard_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/sample"
)

// Whether somebody misses what a nested group turns away, from whom and who is the first, is
// what laying the mail of every part of the senders out says: on estates with many groups in
// each other, rings and rosters among them.
func TestBypassAgrees(t *testing.T) {
	estates := 250
	if testing.Short() {
		estates = 60
	}
	turned := 0
	for seed := range estates {
		turned += hazard.AgreeTurnings(t, sample.Load(t, tangled(rand.New(rand.NewPCG(uint64(seed), 5)))))
	}
	if turned < 2*estates {
		t.Errorf("only %d groups turn mail away", turned)
	}
}

// tangled returns an estate of few people and many groups in each other.
func tangled(random *rand.Rand) string {
	const people, groups = 6, 9
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	person := func() string { return fmt.Sprintf("p%d@kelp.example", random.IntN(people)) }
	group := func() string { return fmt.Sprintf("g%d@kelp.example", random.IntN(groups)) }
	var b strings.Builder
	b.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople:\n")
	for i := range people {
		fmt.Fprintf(&b, "  - address: p%d@kelp.example\n", i)
	}
	b.WriteString("groups:\n")
	for i := range groups {
		fmt.Fprintf(&b, "  - address: g%d@kelp.example\n    kind: %s\n    echo: %s\n    gate:\n", i,
			pick("list", "list", "list", "forum", "mailbox", "roster"), pick("true", "true", "false"))
		for range 1 + random.IntN(2) {
			fmt.Fprintf(&b, "      - %s %s\n", pick("admit", "admit", "hold", "refuse"),
				pick("inside", "members", "in "+group(), person(), "anyone", person()+" or "+person(), "invitation", "not members"))
		}
		b.WriteString("    members:\n")
		for range 1 + random.IntN(3) {
			fmt.Fprintf(&b, "      - {address: %s, copy: %s}\n", person(), pick("every", "every", "digest", "none"))
		}
		for range 1 + random.IntN(3) {
			fmt.Fprintf(&b, "      - %s\n", group())
		}
	}
	return b.String()
}
