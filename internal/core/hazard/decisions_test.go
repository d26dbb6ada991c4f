package hazard_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// deadRules returns the numbers of the rules that the check finds dead.
func deadRules(r *resolve.Resolver) []int {
	i := slices.IndexFunc(hazard.All(), func(c *hazard.Check) bool { return c.Name == "dead-rule" })
	var list []int
	for _, f := range hazard.Run(r, hazard.All()[i:i+1]) {
		says, _ := f.Text()
		var n int
		if _, err := fmt.Sscanf(says, "Rule %d", &n); err == nil {
			list = append(list, n)
		}
	}
	return list
}

// A rule is dead where trying everybody with every kind of message of every size
// finds nobody for whom it decides.
func TestDeadRulesBySize(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	var term func(depth int) string
	term = func(depth int) string {
		if depth > 0 && random.IntN(2) == 0 {
			return "(" + term(depth-1) + pick(" and ", " or ") + term(depth-1) + ")"
		}
		return pick("", "", "not ") + pick("larger(1kB)", "larger(2kB)", "larger(3kB)", "larger(5kB)", "larger(8kB)", "inside", "outside", "anyone", "members", "ada@kelp.example", "ann@far.example",
			"@far.example", "@*.far.example", "suspect", "unproven", "automatic", "invitation", "known")
	}
	dead, alive := 0, 0
	for range 600 {
		var gate []string
		for range 2 + random.IntN(6) {
			gate = append(gate, pick("admit ", "hold ", "refuse ")+term(2))
		}
		r := sample.Load(t, people+"  - {address: g@kelp.example, members: [ada@kelp.example], gate: ['"+strings.Join(gate, "', '")+"']}\n")
		decided := make([]bool, len(gate))
		senders := []resolve.Sender{r.Strangers().Outside, r.Strangers().Inside}
		for _, text := range []string{"ada@kelp.example", "bo@kelp.example", "full@kelp.example", "closed@kelp.example", "g@kelp.example", "ann@far.example", "x@far.example", "x@sub.far.example"} {
			senders = append(senders, r.Sender(address.MustParse(text)))
		}
		for _, size := range []int64{0, 1001, 2001, 3001, 5001, 8001} {
			for flags := range 16 {
				m := resolve.Message{Size: size, Unproven: flags&1 > 0, Suspect: flags&2 > 0, Automatic: flags&4 > 0, Invitation: flags&8 > 0}
				tried := senders
				if m.Unproven && !strings.Contains(strings.Join(gate, " "), "unproven") {
					tried = senders[1:2] // the forged stranger
				} else {
					tried = append(tried, r.Sender(address.MustParse("codes@post.example")))
					for _, s := range senders[:6] { // as if they were new members
						for i, rule := range r.Estate().Group(0).Gate {
							if r.Gate(0).EvalAsNewcomer(rule.Selector, s, m) {
								decided[i] = true
								break
							}
						}
					}
				}
				for _, s := range tried {
					if d := r.Gate(0).Judge(s, m); d.Rule > 0 {
						decided[d.Rule-1] = true
					}
				}
			}
		}
		var want []int
		for i, yes := range decided {
			if !yes {
				want = append(want, i+1)
			}
		}
		dead += len(want)
		alive += len(gate) - len(want)
		if got := deadRules(r); !slices.Equal(got, want) {
			t.Fatalf("dead are %v, want %v, in\n%s", got, want, strings.Join(gate, "\n"))
		}
	}
	if dead < 100 || alive < 100 {
		t.Errorf("%d were dead and %d alive, which tells little", dead, alive)
	}
}

// Hundreds of thresholds take little memory.
func TestManyThresholds(t *testing.T) {
	var gate strings.Builder
	for i := range 400 {
		fmt.Fprintf(&gate, "      - hold p%d@out%[1]d.example and larger(%dkB)\n", i, i+1)
	}
	r := sample.Load(t, people+"  - address: g@kelp.example\n    owners: [ada@kelp.example]\n    gate:\n"+gate.String())
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	found := hazard.Run(r, hazard.All())
	runtime.ReadMemStats(&after)
	if len(found) == 0 {
		t.Error("nothing is found")
	}
	if bytes := after.TotalAlloc - before.TotalAlloc; bytes > 50<<20 {
		t.Errorf("it takes %d MiB", bytes>>20)
	}
}
