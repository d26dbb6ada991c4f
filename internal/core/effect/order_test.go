package effect

import (
	"slices"
	"testing"

	"yorvet.example/yorvet/internal/core/resolve"
)

// Outcomes that end come first, then those that begin, then those that become others;
// each by what it was and is.
func TestOutcomeOrder(t *testing.T) {
	want := []OutcomeChange{
		{Old: resolve.Inbox, Before: true},
		{Old: resolve.Undeliverable, Before: true},
		{New: resolve.Inbox, Later: true},
		{New: resolve.Digest, Later: true},
		{Old: resolve.Inbox, New: resolve.Digest, Before: true, Later: true},
		{Old: resolve.Inbox, New: resolve.Undeliverable, Before: true, Later: true},
		{Old: resolve.Digest, New: resolve.Inbox, Before: true, Later: true},
	}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, func(x, y OutcomeChange) int { return x.order() - y.order() })
	for i := range want {
		if got[i].order() != want[i].order() {
			t.Errorf("at %d: %+v, want %+v", i, got[i], want[i])
		}
		if i > 0 && want[i].order() <= want[i-1].order() {
			t.Errorf("%+v is not behind %+v", want[i], want[i-1])
		}
	}
}
