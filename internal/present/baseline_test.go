package present

import (
	"bytes"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

const quay = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ada@kelp.example, mailbox: full}
  - {address: bo@kelp.example}
groups:
  - {address: one@kelp.example, owners: [bo@kelp.example], members: [ada@kelp.example, inner@kelp.example, bo@kelp.example], gate: [admit anyone]}
  - {address: two@kelp.example, owners: [bo@kelp.example], members: [ada@kelp.example, inner@kelp.example, bo@kelp.example], gate: [admit anyone]}
  - {address: inner@kelp.example, owners: [bo@kelp.example], members: [eve@out.example], gate: [refuse anyone]}
`

func hazardsOf(r *resolve.Resolver) *Hazards {
	checks := hazard.All()
	layout := HazardLayout{}
	for id := range estate.ID(r.Estate().Groups()) {
		layout.Groups = append(layout.Groups, id)
	}
	return NewHazards(r, checks, hazard.Run(r, checks), layout)
}

// Findings that one change cures have one cause; each finding has its own identifier, which
// stays when others come and go.
func TestCauses(t *testing.T) {
	a := hazardsOf(sample.Load(t, quay))
	ids, causes := map[string]bool{}, map[string][]string{}
	for _, h := range a.All() {
		if ids[h.ID] {
			t.Errorf("two findings are called %s", h.ID)
		}
		ids[h.ID] = true
		causes[h.Cause] = append(causes[h.Cause], h.Name+" "+h.Group)
		if h.Group != "" && strings.Join(h.Owners, ",") != "bo@kelp.example" {
			t.Errorf("%s in %s is owned by %q", h.Name, h.Group, h.Owners)
		}
	}
	for _, want := range []string{"nested-stops", "unreachable-member"} {
		found := 0
		for _, list := range causes {
			if strings.HasPrefix(list[0], want+" ") {
				if found++; len(list) != 2 {
					t.Errorf("a cause of %s has %q", want, list)
				}
			}
		}
		if found != 1 {
			t.Errorf("%s has %d causes", want, found)
		}
	}
	later := hazardsOf(sample.Load(t, strings.Replace(quay, "{address: two@kelp.example,", "{address: too@kelp.example,", 1)))
	kept := 0
	for _, h := range later.All() {
		if ids[h.ID] {
			kept++
		}
		if ids[h.ID] != (h.Group != "too@kelp.example" && !strings.Contains(h.Says, "too@")) {
			t.Errorf("%s in %s is known: %t", h.Name, h.Group, ids[h.ID])
		}
	}
	if kept < 3 {
		t.Errorf("%d findings are called as before", kept)
	}
}

// A baseline takes out what it knows, counts what is gone, and never says that there is
// nothing.
func TestBaseline(t *testing.T) {
	first := hazardsOf(sample.Load(t, quay))
	all := len(first.found)
	data, err := first.Baseline()
	if err != nil {
		t.Fatal(err)
	}
	b, err := ParseBaseline("b", data)
	if err != nil {
		t.Fatal(err)
	}
	same := hazardsOf(sample.Load(t, quay))
	same.Against("b.json", b)
	if len(same.found) != 0 || len(same.known) != all || len(same.Gone) != 0 || same.Worst(hazard.Low) {
		t.Errorf("%d new, %d known, %d gone", len(same.found), len(same.known), len(same.Gone))
	}
	if line := FirstLine(same); !strings.Contains(line, "0 new hazards") || !strings.Contains(line, "more known by b.json") {
		t.Error(line)
	}
	other := hazardsOf(sample.Load(t, strings.Replace(quay, "mailbox: full", "mailbox: open", 1)+
		"  - {address: three@kelp.example, gate: [admit anyone], members: [ghost@kelp.example]}\n"))
	other.Against("b.json", b)
	if !other.Worst(hazard.High) || len(other.Gone) == 0 || len(other.known)+len(other.Gone) != all {
		t.Errorf("%d new, %d known, %d gone of %d", len(other.found), len(other.known), len(other.Gone), all)
	}
	for _, h := range other.All() {
		if h.Group != "three@kelp.example" {
			t.Errorf("%s in %s is new", h.Name, h.Group)
		}
	}
	again, err := first.Baseline()
	if err != nil || !bytes.Equal(again, data) {
		t.Error("the same hazards are written otherwise")
	}
	for _, bad := range []string{"", "[]", `{"yorvetBaseline": 2}`, "yorvet: 1"} {
		if _, err := ParseBaseline("b", []byte(bad)); err == nil {
			t.Errorf("%q is taken for a baseline", bad)
		}
	}
}
