// Package campaign lets tests try more than usual: where YORVET_CAMPAIGN is set, as in .ci/run,
// they take minutes.
package campaign

import (
	"os"
	"strconv"
	"testing"
)

// Rounds is how often a random test tries, usually and in a campaign.
func Rounds(usual, more int) int {
	if On() {
		return more
	}
	return usual
}

// On tells whether this is a campaign.
func On() bool { return os.Getenv("YORVET_CAMPAIGN") != "" }

// Runs is how many runs of the built program go through trouble: as many as YORVET_CAMPAIGN
// says. Without it the test is skipped.
func Runs(t *testing.T) int {
	t.Helper()
	n, err := strconv.Atoi(os.Getenv("YORVET_CAMPAIGN"))
	if err != nil {
		t.Skip("a campaign, which takes minutes: .ci/run has it; here with YORVET_CAMPAIGN=4")
	}
	return n
}
