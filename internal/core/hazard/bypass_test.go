package hazard_test

import (
	"math/rand/v2"
	"testing"

	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/sample"
)

// Whether somebody misses what a nested group turns away, from whom and who is the first, is
// what laying the mail of every part of the senders out says: on estates with many groups in
// each other, rings and rosters among them.
func TestBypassAgrees(t *testing.T) {
	estates := 250
	if testing.Short() {
		estates = 60
	}
	turned := 0
	for seed := range estates {
		turned += hazard.AgreeTurnings(t, sample.Load(t, sample.Tangled(rand.New(rand.NewPCG(uint64(seed), 5)))))
	}
	if turned < 2*estates {
		t.Errorf("only %d groups turn mail away", turned)
	}
}
