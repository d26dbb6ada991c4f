package effect_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// From how many senders somebody gets something else is the same whether people are looked at
// together, by all gates of nested groups, or one at a time, by those on the paths to them.
func TestOnePersonAtATime(t *testing.T) {
	differ := 0
	for seed := range campaign.Rounds(60, 300) {
		random := rand.New(rand.NewPCG(uint64(seed), 51))
		yaml := sample.Tangled(random)
		lines := strings.SplitAfter(yaml, "\n")
		var members []int
		for i, line := range lines {
			if strings.Contains(line, "{address: p") {
				members = append(members, i)
			}
		}
		lines[members[random.IntN(len(members))]] = ""
		x, y := sample.Load(t, yaml), sample.Load(t, strings.Join(lines, ""))
		together, singly := effect.CompareAll(x, y), effect.CompareSingly(x, y)
		got, want := fromSenders(y, singly), fromSenders(y, together)
		if !maps.Equal(got, want) {
			t.Fatalf("estate %d: singly %v, together %v\n%s\n%s", seed, got, want, yaml, strings.Join(lines, ""))
		}
		differ += len(want)
	}
	if differ < 60 {
		t.Errorf("only %d differences by sender", differ)
	}
}

// fromSenders returns of how many senders each person gets something else of a default message.
func fromSenders(r *resolve.Resolver, report *effect.Report) map[string]int {
	counts := map[string]int{}
	for _, change := range report.Changes {
		for _, o := range change.Receives {
			if o.Message != (resolve.Message{}) || o.Senders == 0 {
				continue
			}
			names := []string{}
			for _, one := range o.People {
				names = append(names, one.Address.String())
			}
			for _, name := range slices.Compact(names) {
				counts[fmt.Sprintf("%s %s %s>%s %t %t %t", r.Estate().Address(change.Group.New), name, o.Old, o.New, o.Before,
					o.Later, o.Own)] += o.Senders
			}
		}
	}
	return counts
}
