package main

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/store"
)

// Only the runs that the options name are removed, and not before it is said which.
func TestRunsRemove(t *testing.T) {
	dir := t.TempDir()
	where := filepath.Join(dir, "runs.db")
	st, err := store.Open(t.Context(), where)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	for i := range 60 {
		name := fmt.Sprintf("run-%02d", i)
		r := store.Run{ID: name, Name: name, Kind: "probe", Estate: "d", Began: st.Now().AddDate(0, 0, -i)}
		if err := st.Plan(t.Context(), &store.PlannedRun{Run: r, Cases: []store.Case{{Kind: "member", Draft: []byte("{}"),
			Predicted: []byte("{}"), MessageID: name, Tag: name}}}); err != nil {
			t.Fatal(err)
		}
		if name != "run-59" { // which goes on
			if err := errors.Join(st.Finish(t.Context(), name, time.Time{}), st.End(t.Context(), name)); err != nil {
				t.Fatal(err)
			}
		}
	}
	left := func() int {
		t.Helper()
		list, err := st.Runs(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	for _, step := range []struct {
		args       []string
		code, left int
		says       string
	}{
		{[]string{"--keep", "50"}, 2, 60, "9 runs go: run-50, run-51, run-52, run-53, run-54, run-55 and 3 more"},
		{[]string{"--keep", "50", "--yes"}, 0, 51, "9 runs removed"},
		{[]string{"--older", "40", "--yes"}, 0, 41, "10 runs removed"},
		{[]string{"--older", "106752", "--yes"}, 2, 41, ""},
		{[]string{"--older", "36525", "--yes"}, 0, 41, "0 runs removed"},
		{[]string{"run-00", "run-01"}, 0, 39, "2 runs removed"},
	} {
		r := run(t, dir, nil, append([]string{"runs", "remove", "--store", where}, step.args...))
		if n := left(); r.code != step.code || n != step.left || !strings.Contains(r.stdout, step.says) {
			t.Errorf("%v: exit code %d, %d runs left, want %d, %d\n%s%s", step.args, r.code, n, step.code, step.left, r.stdout, r.stderr)
		}
	}
}
