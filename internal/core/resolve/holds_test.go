package resolve_test

import (
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/sample"
)

// A group holds mail only where it holds some of somebody tried: a rule that never decides, or
// the gate of a roster, holds none.
func TestHolds(t *testing.T) {
	for gate, want := range map[string]bool{
		`["admit inside", "hold members"]`:                                       true, // a@out.example
		`["admit anyone", "hold inside"]`:                                        false,
		`["hold suspect", "admit anyone"]`:                                       true,
		`["refuse outside", "hold @met.example"]`:                                false,
		`["hold met@far.example"]`:                                               true,
		`["refuse anyone"]`:                                                      false,
		`["admit @kelp.example", "hold unproven and @kelp.example"]`:             false,
		`["refuse unproven", "hold larger(10MB) and automatic", "admit inside"]`: true,
		`["hold @weed.example"]`:                                                 true, // by a further address
	} {
		for kind, takes := range map[string]bool{"list": true, "roster": false} {
			r := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example, also: [ann@weed.example]}]
groups:
- {address: g@kelp.example, kind: `+kind+`, members: [ann@kelp.example, a@out.example], owners: [ann@kelp.example], 
   gate: `+gate+`}
`)
			if got := r.Gate(estate.ID(0)).Holds(); got != (want && takes) {
				t.Errorf("%s of a %s: %t", gate, kind, got)
			}
		}
	}
}
