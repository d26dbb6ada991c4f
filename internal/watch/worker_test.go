package watch

import (
	"path/filepath"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/schedule"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// working returns a worker with one item, due every hour, and what it has told.
func working(t *testing.T, kind string) (*Watcher, *[]*present.WatchEvent) {
	t.Helper()
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "watch.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	told := &[]*present.WatchEvent{}
	plan := &Plan{Name: "plan", Estate: "estate", Channels: []Channel{{Name: "pager"}},
		Items: []Item{{Name: "item", Kind: kind, Once: kind == KindProbe, Timing: schedule.Timing{Every: time.Hour}}}}
	return &Watcher{Plan: plan, Store: st, Name: "me", OnError: func(string) {},
		Tell: func(e *present.WatchEvent) { *told = append(*told, e) }}, told
}

// begin begins what is due at a time, which is to be so many items.
func begin(t *testing.T, w *Watcher, now time.Time, want int) *Job {
	t.Helper()
	jobs, _, err := w.Claim(t.Context(), now, 4)
	if err != nil || len(jobs) != want {
		t.Fatalf("%d are begun, want %d: %v", len(jobs), want, err)
	}
	if want == 0 {
		return nil
	}
	return jobs[0]
}

// What is not found any more is resolved, and raises an alarm; what a log tells is over at once, and is never resolved.
func TestResolved(t *testing.T) {
	for kind, want := range map[string]int{KindCheck: 1, KindLog: 0} {
		w, told := working(t, kind)
		now := w.Store.Now()
		for _, facts := range [][]store.Fact{{{Name: "a", Group: "g@k.example", Says: "lost"}}, nil} {
			job := begin(t, w, now, 1)
			if err := w.Finish(t.Context(), job, &history.Outcome{Facts: facts}, nil, now); err != nil {
				t.Fatal(err)
			}
			now = now.Add(2 * time.Hour)
		}
		last := (*told)[1]
		if len(*told) != 2 || len((*told)[0].New) != 1 || len(last.New) != 0 || len(last.Resolved) != want || last.Alarm != (want > 0) {
			t.Errorf("%s: told %+v and then %+v", kind, (*told)[0], last)
		}
		if waits, err := w.Store.Backlogs(t.Context(), "plan"); err != nil || len(waits) != 1 || waits[0].Waiting != 1+want {
			t.Errorf("%s: %+v wait, %v", kind, waits, err)
		}
	}
}

// A probe whose process is gone, or lets go of it, is begun again at its next time and not before; any other item at once.
func TestBegunAgain(t *testing.T) {
	for kind, again := range map[string]int{KindProbe: 0, KindCheck: 1} {
		for about, part := range map[string]func(w *Watcher, job *Job){"gone": func(*Watcher, *Job) {}, "released": (*Watcher).release} {
			w, _ := working(t, kind)
			now := w.Store.Now()
			part(w, begin(t, w, now, 1))
			other := &Watcher{Plan: w.Plan, Store: w.Store, Name: "other", OnError: func(string) {}, Tell: w.Tell}
			if about == "gone" {
				begin(t, other, now.Add(lease/2), 0)
			}
			begin(t, other, now.Add(2*lease), again)
			begin(t, w, now.Add(10*lease), min(1, again))
			if again == 0 {
				begin(t, w, now.Add(2*time.Hour), 1)
			}
		}
	}
}
