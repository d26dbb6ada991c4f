package agent

import (
	"testing"
	"time"

	"yorvet.example/yorvet/internal/store"
)

// A line tells how far a run is: never more than that, and no time that it may take.
func TestProgress(t *testing.T) {
	at := func(seconds int) time.Time { return time.Unix(1_800_000_000+int64(seconds), 0) }
	terms := store.Terms{Patience: 2 * time.Minute, Settle: 3 * time.Second, Quiet: 30 * time.Second}
	for want, c := range map[string]struct {
		s   store.Progress
		now int
	}{
		"3 of 10 sent, 5 of 60 have come, 7 of 1000 mailboxes opened; patience ends in 2m13s": {store.Progress{State: store.StateOpen,
			Cases: 10, Waiting: 6, Sending: 1, Checks: 60, Missing: 55, Mailboxes: 1000, Opened: 7}, 0},
		"10 of 10 sent, 58 of 60 have come, 1000 of 1000 mailboxes opened; patience ends in 25s": {store.Progress{State: store.StateOpen,
			Cases: 10, Accepted: 9, Checks: 60, Missing: 2, Mailboxes: 1000, Opened: 1000, LastSent: at(10), LastNews: at(15)}, 20},
		"10 of 10 sent, 60 of 60 have come, 1000 of 1000 mailboxes opened": {store.Progress{State: store.StateOpen,
			Cases: 10, Accepted: 9, Checks: 60, Mailboxes: 1000, Opened: 1000, LastSent: at(10), LastNews: at(15)}, 16},
		"10 of 10 sent, 58 of 60 have come, 400 of 1000 mailboxes gone through": {store.Progress{State: store.StateClosing,
			Cases: 10, Accepted: 9, Checks: 60, Missing: 2, Mailboxes: 1000, Opened: 1000, Unlooked: 600}, 60},
		"1 of 1 sent": {store.Progress{State: store.StateOpen, Cases: 1}, 1},
	} {
		c.s.Terms, c.s.Until = terms, at(133)
		if got := ProgressLine(c.s, at(c.now)); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}
