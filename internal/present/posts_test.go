package present

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// An alias in a domain that the gate admits, and an address that the gate names, get
// forged mail in where no main address does.
func TestForgedAliases(t *testing.T) {
	r := sample.Load(t, `yorvet: 1
domains: [kelp.example, fleet.example]
people: [{address: ann@kelp.example, also: [ann@fleet.example, annie@kelp.example]}, {address: bob@kelp.example}]
groups:
  - {address: desk@kelp.example, gate: [admit @fleet.example, hold annie@kelp.example, refuse anyone]}
  - {address: bell@kelp.example, gate: [admit press@paper.example, "admit @*.quay.example"]}
  - {address: shut@kelp.example, gate: [admit inside]}
`)
	for i, want := range []string{
		"@fleet.example ann@fleet.example", "@*.quay.example press@paper.example", "",
	} {
		a := NewPosts(r, estate.ID(i), resolve.Message{})
		if got := strings.Join(a.ForgedKnown.Admitted, " "); got != want {
			t.Errorf("%s: %q, want %q", a.Group, got, want)
		}
		if got := r.Overview(estate.ID(i)).ForgedKnown; got != len(strings.Fields(want)) {
			t.Errorf("%s: %d at a glance", a.Group, got)
		}
	}
}

// The first two lines count what is listed behind them, and every known address is
// asked about forgeries.
func TestPosts(t *testing.T) {
	gotIn := 0
	for seed := range uint64(40) {
		r := sample.Load(t, sample.Estate(rand.New(rand.NewPCG(seed, 3))))
		e := r.Estate()
		for group := range estate.ID(e.Groups()) {
			a := NewPosts(r, group, resolve.Message{})
			admitted := 0 // of all addresses that there are
			open := r.Gate(group).Post(r.Strangers().Outside, resolve.Message{}).Verdict == estate.Admit
			claim := func(a address.Address) {
				if open && !e.InsideDomain(a.Domain()) {
					return // whoever claims it gains nothing
				}
				if r.Gate(group).Post(r.Sender(a), resolve.Message{Unproven: true}).Verdict == estate.Admit {
					admitted++
				}
			}
			for id := range estate.ID(e.Groups() + e.People()) {
				claim(e.Address(id))
				also := []address.Address{}
				if e.IsGroup(id) {
					also = e.Group(id).Also
				} else {
					also = e.Person(id).Also
				}
				for _, a := range also {
					claim(a)
				}
			}
			known := len(a.ForgedKnown.Admitted)
			if (known > 0) != (admitted > 0) && known == 0 || r.Overview(group).ForgedKnown != known {
				t.Errorf("estate %d, %s: %+v, want %d admitted, and the same at a glance", seed, a.Group, a.ForgedKnown, admitted)
			}
			for _, text := range a.ForgedKnown.Admitted {
				text = strings.Replace(text, "*.", "any.", 1)
				if strings.HasPrefix(text, "@") {
					text = "made.up" + text
				}
				if open && !e.InsideDomain(address.MustParse(text).Domain()) {
					t.Errorf("estate %d, %s: mail from %s, outside, is told as forged, and anybody outside is admitted", seed, a.Group, text)
				}
				if r.Gate(group).Post(r.Sender(address.MustParse(text)), resolve.Message{Unproven: true}).Verdict != estate.Admit {
					t.Errorf("estate %d, %s: forged mail from %s does not get in", seed, a.Group, text)
				}
			}
			counts := map[string]int{}
			for _, person := range a.People {
				counts[person.Verdict]++
			}
			first := a.answer()
			if want := fmt.Sprintf("%s: %d of ", a.Group, counts["admit"]); !strings.HasPrefix(first, want) {
				t.Errorf("%q does not begin with %q", first, want)
			}
			for verdict, word := range map[string]string{"hold": "held", "refuse": "refused", "drop": "dropped"} {
				if want := fmt.Sprintf(", %d %s", counts[verdict], word); strings.Contains(first, want) != (counts[verdict] > 0) {
					t.Errorf("%q, with %d %s", first, counts[verdict], word)
				}
			}
			if second := a.forgedWorst(&Page{}).Text; strings.Contains(second, "gets in") != (known > 0 || a.Strangers.Forged.Verdict == "admit") {
				t.Errorf("%q, with %d admitted and %s", second, admitted, a.Strangers.Forged.Verdict)
			}
			gotIn += admitted
		}
	}
	if gotIn == 0 {
		t.Error("no forged message got in anywhere")
	}
}

// What messages are like is part of the answer.
func TestMessageLike(t *testing.T) {
	for _, c := range []struct {
		m    resolve.Message
		want string
	}{
		{resolve.Message{}, ""},
		{resolve.Message{Suspect: true, Size: 12}, "suspect, of 12 bytes"},
		{resolve.Message{Unproven: true, Automatic: true, Invitation: true}, "unproven, automatic, an invitation"},
	} {
		if got := messageLike(c.m); got != c.want {
			t.Errorf("%+v is %q, want %q", c.m, got, c.want)
		}
	}
}
