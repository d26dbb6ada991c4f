package history_test

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/store"
)

// fill keeps so many runs, each with so many observations: half of them probes, half checks.
func fill(tb testing.TB, s *store.Store, runs, each int) {
	tb.Helper()
	ctx := context.Background()
	began := s.Now().Add(-time.Duration(runs) * 10 * time.Minute)
	for i := range runs {
		at := began.Add(time.Duration(i) * 10 * time.Minute)
		if i%2 == 1 {
			var facts []store.Fact
			for n := range each {
				if (n*7+i)%100 < 97 {
					group := fmt.Sprintf("g%03d@kelp.example", n%200)
					facts = append(facts, store.Fact{Name: fmt.Sprint("h", n), Group: group,
						Who: fmt.Sprintf("p%04d@kelp.example", n), Severity: "high", Says: "unreachable-member: it does not arrive"})
				}
			}
			o := history.Outcome{Series: history.NewSeries("check", "estate", ""), Began: at, Facts: facts, Bad: len(facts), Wrong: true,
				Says: "some hazards"}
			if _, err := s.Keep(ctx, o.Answer(at.Add(time.Second)), facts, nil, nil); err != nil {
				tb.Fatal(err)
			}
			continue
		}
		name := fmt.Sprintf("run%05d", i)
		p := &store.PlannedRun{Body: "e", Run: store.Run{ID: name, Name: name, Kind: "probe", Estate: "d", Path: "estate", Day: "2026-11-23",
			Notes: []string{}, Began: at, Until: at.Add(time.Minute)}}
		var judged []store.Check
		for n := range max(each/10, 1) {
			p.Cases = append(p.Cases, store.Case{N: n, Kind: "member", Group: fmt.Sprintf("g%03d@kelp.example", (i+n)%200), Connection: "out",
				Draft: json.RawMessage("{}"), Predicted: json.RawMessage("{}"), MessageID: fmt.Sprint(name, ".", n),
				Tag: fmt.Sprint(name, "t", n)})
			for k := range 10 {
				who := fmt.Sprintf("p%04d@kelp.example", (i*31+n*10+k)%2000)
				p.Checks = append(p.Checks, store.Check{N: n, Who: who, Predicted: "inbox", Why: "a member"})
				judged = append(judged, store.Check{N: n, Who: who, Predicted: "inbox", Seen: "inbox", OK: (i+n+k)%50 != 0,
					Seconds: float64((i*k)%90)/10 + 0.1})
			}
		}
		if err := s.Plan(ctx, p); err != nil {
			tb.Fatal(err)
		}
		if err := s.Judge(ctx, name, judged, len(judged), 0, 0); err != nil {
			tb.Fatal(err)
		}
		if err := s.End(ctx, name); err != nil {
			tb.Fatal(err)
		}
	}
}

// BenchmarkHistory asks a store of 10,000 runs and a million observations.
func BenchmarkHistory(b *testing.B) {
	s, err := store.Open(b.Context(), filepath.Join(b.TempDir(), "h.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	fill(b, s, 10_000, 200)
	list, err := history.List(b.Context(), s, history.Choice{Kind: "check", Most: 100})
	if err != nil {
		b.Fatal(err)
	}
	for _, one := range []struct {
		name string
		ask  func() error
	}{
		{"list", func() error { _, err := history.List(b.Context(), s, history.Choice{Most: 30}); return err }},
		{"list-kind", func() error {
			_, err := history.List(b.Context(), s, history.Choice{Kind: "check", Most: 30})
			return err
		}},
		{"list-all", func() error { _, err := history.List(b.Context(), s, history.Choice{Most: 1 << 20}); return err }},
		{"show", func() error { _, err := history.Show(b.Context(), s, list.Runs[50].Run); return err }},
		{"compare", func() error {
			_, err := history.Compare(b.Context(), s, list.Runs[90].Run, list.Runs[3].Run)
			return err
		}},
		{"group", func() error { _, err := history.Of(b.Context(), s, "g007@kelp.example"); return err }},
		{"person", func() error { _, err := history.Of(b.Context(), s, "p0007@kelp.example"); return err }},
		{"latest", func() error { _, err := s.Latest(b.Context()); return err }},
		{"mail", func() error { _, err := s.Mail(b.Context(), s.Now().Add(-24*time.Hour)); return err }},
	} {
		b.Run(one.name, func(b *testing.B) {
			for b.Loop() {
				if err := one.ask(); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
