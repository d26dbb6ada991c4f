package sample

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Tangled returns a random estate, as YAML, of few people and many groups in each other.
func Tangled(random *rand.Rand) string {
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
