package effect

import (
	"slices"
	"testing"

	"yorvet.example/yorvet/internal/core/resolve"
)

// Outcomes that end come first, then those that begin, then those that become others;
// each by what it was and is.
func TestOutcomeOrder(t *testing.T) {
	want := []become{
		{old: outcome{resolve.Inbox, true}},
		{old: outcome{resolve.Undeliverable, true}},
		{new: outcome{resolve.Inbox, true}},
		{new: outcome{resolve.Digest, true}},
		{old: outcome{resolve.Inbox, true}, new: outcome{resolve.Digest, true}},
		{old: outcome{resolve.Inbox, true}, new: outcome{resolve.Undeliverable, true}},
		{old: outcome{resolve.Digest, true}, new: outcome{resolve.Inbox, true}},
	}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, func(x, y become) int { return x.order() - y.order() })
	for i := range want {
		if got[i].order() != want[i].order() {
			t.Errorf("at %d: %+v, want %+v", i, got[i], want[i])
		}
		if i > 0 && want[i].order() <= want[i-1].order() {
			t.Errorf("%+v is not behind %+v", want[i], want[i-1])
		}
	}
}
