package agent

import (
	"fmt"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/store"
)

// ProgressLine says in a line how far a run is: what is sent, what has come, which mailboxes have been
// gone through, and when patience ends.
func ProgressLine(t store.Progress, now time.Time) string {
	var parts []string
	add := func(done, all int, what string) {
		if all > 0 {
			parts = append(parts, fmt.Sprintf("%d of %d %s", done, all, what))
		}
	}
	add(t.Cases-t.Waiting-t.Sending, t.Cases, "sent")
	add(t.Checks-t.Missing, t.Checks, "have come")
	if t.State == store.StateClosing {
		add(t.Mailboxes-t.Unlooked, t.Mailboxes, "mailboxes gone through")
		return strings.Join(parts, ", ")
	}
	add(t.Opened, t.Mailboxes, "mailboxes opened")
	text := strings.Join(parts, ", ")
	if left := Ends(t).Sub(now).Round(time.Second); left > 0 && t.Missing > 0 {
		text += "; patience ends in " + left.String()
	}
	return text
}
