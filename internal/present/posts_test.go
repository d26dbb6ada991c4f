package present

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// The first two lines count what is listed behind them, and every known address is
// asked about forgeries.
func TestPosts(t *testing.T) {
	gotIn := 0
	for seed := range uint64(40) {
		r := sample.Load(t, sample.Estate(rand.New(rand.NewPCG(seed, 3))))
		e := r.Estate()
		for group := range estate.ID(e.Groups()) {
			a := NewPosts(r, group, resolve.Message{})
			admitted, held := 0, 0
			for id := range estate.ID(e.Groups() + e.People()) {
				switch r.Judge(group, r.Sender(e.Address(id)), resolve.Message{Unproven: true}).Verdict {
				case estate.Admit:
					admitted++
				case estate.Hold:
					held++
				}
			}
			if len(a.ForgedKnown.Admitted) != admitted || len(a.ForgedKnown.Held) != held ||
				a.ForgedKnown.Stopped != e.Groups()+e.People()-admitted-held || r.Overview(group).ForgedKnown != admitted {
				t.Errorf("estate %d, %s: %+v, want %d admitted and %d held", seed, a.Group, a.ForgedKnown, admitted, held)
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
			if second := a.forgedWorst().Text; strings.Contains(second, "gets in") != (admitted > 0 || a.Strangers.Forged.Verdict == "admit") {
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
