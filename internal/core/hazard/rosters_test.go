package hazard_test

import (
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/sample"
)

// What bites a group that takes mail does not bite a roster, which takes none.
func TestRostersTakeNoMail(t *testing.T) {
	tried := 0
	for _, name := range []string{"nobody-approves", "approver-unreachable", "no-way-in", "nested-stops", "nested-waits",
		"forgeable", "no-members", "outside-reader", "owner-left-out", "answers-show-person"} {
		for _, fires := range cases[name].fires {
			if !strings.HasPrefix(fires, "g: {") || strings.Contains(fires, "kind: forum") || strings.Contains(fires, "kind: mailbox") {
				continue
			}
			tried++
			r := sample.Load(t, groups(strings.Replace(fires, "g: {", "g: {kind: roster, ", 1)))
			for _, f := range hazard.Run(r, hazard.All()) {
				if f.Check.Name == name && r.Estate().Address(f.Group).String() == "g@kelp.example" {
					says, _ := f.Text()
					t.Errorf("%s in a roster, %s: %s", name, fires, says)
				}
			}
		}
	}
	if tried < 10 {
		t.Errorf("%d are tried", tried)
	}
}

// A ring is told once, of its first group, however many are in it.
func TestRingIsToldOnce(t *testing.T) {
	for _, text := range []string{
		"g: {members: [ada@kelp.example, g@kelp.example]}",
		"g: {members: [g@kelp.example]}",
		"g: {members: [n@kelp.example]} n: {members: [g@kelp.example]}",
		"g: {members: [m@kelp.example]} n: {members: [g@kelp.example]} m: {members: [n@kelp.example, ada@kelp.example]}",
		"g: {members: [m@kelp.example, n@kelp.example]} n: {members: [g@kelp.example]} m: {members: [g@kelp.example]}",
	} {
		found := 0
		r := sample.Load(t, groups(text))
		for _, f := range hazard.Run(r, hazard.All()) {
			if f.Check.Name == "loop" {
				if found++; f.Group != 0 || f.Place.Line == 0 || f.Place != r.Estate().Children(0)[0].Place {
					t.Errorf("%s: of group %d, at %+v", text, f.Group, f.Place)
				}
			}
		}
		if found != 1 {
			t.Errorf("%s: told %d times", text, found)
		}
	}
}

// Gates that are written alike say something else where they speak of their own group.
func TestGatesAlike(t *testing.T) {
	r := sample.Load(t, groups("g: {owners: [ada@kelp.example], gate: [admit owners, refuse anyone], members: [ada@kelp.example]} "+
		"n: {gate: [admit owners, refuse anyone], members: [ada@kelp.example]}"))
	dead := map[string]int{}
	for _, f := range hazard.Run(r, hazard.All()) {
		if f.Check.Name == "dead-rule" {
			dead[r.Estate().Address(f.Group).Local()]++
		}
	}
	if len(dead) != 1 || dead["n"] != 1 {
		t.Errorf("dead rules: %v, want one in n", dead)
	}
}

// Nobody outside reads what is internal where nobody at all, or anybody, may post.
func TestOutsideReaderNeedsAPoster(t *testing.T) {
	for gate, want := range map[string]bool{"[admit inside]": true, "[refuse anyone]": false, "[admit anyone]": false} {
		r := sample.Load(t, groups("g: {gate: "+gate+", members: [n@kelp.example]} n: {gate: [admit anyone], members: [far@out.example]}"))
		found := false
		for _, f := range hazard.Run(r, hazard.All()) {
			found = found || f.Check.Name == "outside-reader" && r.Estate().Address(f.Group).Local() == "g"
		}
		if found != want {
			t.Errorf("gate %s: found is %t", gate, found)
		}
	}
}
