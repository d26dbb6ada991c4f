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
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// From how many senders somebody gets something else is what laying out a message of each of them says.
func TestEverySender(t *testing.T) {
	differ := 0
	for seed := range campaign.Rounds(60, 300) {
		random := rand.New(rand.NewPCG(uint64(seed), 51))
		// Where groups send nobody their own message back, a sender who is alone of a kind is told about apart.
		yaml := strings.ReplaceAll(sample.Tangled(random), "echo: false", "echo: true")
		if seed%3 == 0 {
			yaml = wide(random)
		}
		lines := strings.SplitAfter(yaml, "\n")
		var changed []int
		for i, line := range lines {
			if strings.Contains(line, "{address: p") || strings.Contains(line, "{address: g") {
				changed = append(changed, i)
			}
		}
		lines[changed[random.IntN(len(changed))]] = ""
		x, ok := sample.Try(t, strings.Join(lines, ""))
		if !ok {
			continue
		}
		y := sample.Load(t, yaml)
		if random.IntN(2) == 0 {
			x, y = y, x
		}
		report := effect.CompareAll(x, y)
		got, want := fromSenders(y, report), senderBySender(x, y, report)
		if !maps.Equal(got, want) {
			t.Fatalf("estate %d: %v, laid out %v\n%s\n%s", seed, got, want, yaml, strings.Join(lines, ""))
		}
		differ += len(want)
	}
	if differ < 40 {
		t.Errorf("only %d differences by sender", differ)
	}
}

// wide writes an estate of a group that has more groups nested in it than are told apart by their gates.
func wide(random *rand.Rand) string {
	const people, groups = 10, 20
	yaml := "yorvet: 1\ndomains: [kelp.example]\npeople:\n"
	for i := range people {
		yaml += fmt.Sprintf("  - address: p%d@kelp.example\n", i)
	}
	yaml += "groups:\n  - address: all@kelp.example\n    gate: [admit anyone]\n    members:\n"
	for i := range groups {
		yaml += fmt.Sprintf("      - {address: g%d@kelp.example}\n", i)
	}
	for i := range groups {
		yaml += fmt.Sprintf("  - address: g%d@kelp.example\n    gate: [%s p%d@kelp.example, %s p%d@kelp.example]\n    members:\n", i,
			[]string{"admit", "hold"}[random.IntN(2)], random.IntN(people), []string{"admit", "hold"}[random.IntN(2)], random.IntN(people))
		for range 2 {
			yaml += fmt.Sprintf("      - {address: p%d@kelp.example, copy: %s}\n", random.IntN(people),
				[]string{"every", "digest", "none"}[random.IntN(3)])
		}
	}
	return yaml
}

// senderBySender counts from how many people and groups that both estates have each person gets something else of a
// default message, but for those who do without a sender.
func senderBySender(x, y *resolve.Resolver, report *effect.Report) map[string]int {
	counts := map[string]int{}
	a, b := x.Estate(), y.Estate()
	gets := func(r *resolve.Resolver, q resolve.Query) map[string]resolve.Outcome {
		list := map[string]resolve.Outcome{}
		for _, one := range r.Deliver(q).Recipients() {
			list[r.Estate().Address(one.ID).String()] = one.Outcome
		}
		return list
	}
	for id := range estate.ID(b.Groups()) {
		old, ok := a.Find(b.Address(id))
		if !ok {
			continue
		}
		told := map[string]bool{}
		was, is := gets(x, resolve.Query{Group: old}), gets(y, resolve.Query{Group: id})
		each := func(was, is map[string]resolve.Outcome, visit func(name, difference string)) {
			for name := range maps.Keys(merge(was, is)) {
				before, had := was[name]
				later, has := is[name]
				if had != has || before != later {
					visit(name, fmt.Sprintf("%s>%s %t %t", before, later, had, has))
				}
			}
		}
		each(was, is, func(name, _ string) { told[name] = true })
		senders := map[resolve.Sender]resolve.Sender{x.Strangers().Inside: y.Strangers().Inside, x.Strangers().Outside: y.Strangers().Outside}
		for sender := range estate.ID(b.Groups() + b.People()) {
			from := b.Address(sender)
			if before, ok := a.Find(from); ok && a.Address(before) == from {
				senders[x.Sender(from)] = y.Sender(from)
			}
		}
		for before, s := range senders {
			was := gets(x, resolve.Query{Group: old, Sender: &before, Author: resolve.NoAuthor})
			is := gets(y, resolve.Query{Group: id, Sender: &s, Author: resolve.NoAuthor})
			each(was, is, func(name, difference string) {
				if !told[name] {
					counts[fmt.Sprintf("%s %s %s false", b.Address(id), name, difference)]++
				}
			})
		}
	}
	return counts
}

func merge(x, y map[string]resolve.Outcome) map[string]resolve.Outcome {
	both := maps.Clone(x)
	maps.Copy(both, y)
	return both
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
