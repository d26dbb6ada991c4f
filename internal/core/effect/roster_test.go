package effect_test

import (
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/sample"
)

const rosterAndRules = `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}, {address: bob@kelp.example}]
groups:
- address: g@kelp.example
  kind: roster
  owners: [ann@kelp.example]
  members: [ann@kelp.example, bob@kelp.example]
  gate: [admit members, admit bob@kelp.example]
  send-as: [as members, as bob@kelp.example]
`

// A roster that becomes a list refuses strangers in other words.
func TestRosterBecomesList(t *testing.T) {
	older := sample.Load(t, rosterAndRules)
	newer := sample.Load(t, strings.Replace(rosterAndRules, "roster", "list", 1))
	told := map[string]bool{}
	for _, v := range effect.Compare(older, newer).Changes[0].Posts {
		for _, who := range v.People {
			if v.Old.Verdict == v.New.Verdict && v.Old.Roster && !v.New.Roster && v.New.NoRule {
				told[who.Stranger] = true
			}
		}
	}
	if !told["outside"] || !told["inside"] || !told["forged"] {
		t.Errorf("another text is told for %v", told)
	}
}

// A dead rule is the same in both estates by its group, list and number, whatever it says.
func TestDeadRuleIsTheSame(t *testing.T) {
	list := strings.Replace(rosterAndRules, "roster", "list", 1)
	renamed := strings.ReplaceAll(list, "bob@kelp.example", "robert@kelp.example")
	report := effect.Compare(sample.Load(t, list), sample.Load(t, renamed))
	if len(report.Appearing)+len(report.Going) != 0 {
		t.Errorf("%d hazards appear, %d go", len(report.Appearing), len(report.Going))
	}
}
