// Package history keeps what checks, expectations and comparisons find, one result after the other, and
// reports on it: what a result found, what one found and another did not, and what became of a
// group or person over time.
package history

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// Watched is how the names of those runs of probes begin whose answer is kept, too.
const Watched = "watch-"

// WatchedBy is how the names of those of a plan begin.
func WatchedBy(plan string) string {
	sum := sha256.Sum256([]byte(plan))
	return Watched + hex.EncodeToString(sum[:3]) + "-"
}

// NewID returns the name of a new result.
func NewID() string { return store.NewName()[:16] }

// NewSeries returns what is asked of an estate at a path again and again.
func NewSeries(kind, path, what string) store.Series {
	where := path
	if real, err := localfile.Real(path); err == nil {
		where = real
	}
	sum := sha256.Sum256([]byte(kind + "\x00" + where + "\x00" + what))
	return store.Series{Asked: hex.EncodeToString(sum[:12]), Kind: kind, Path: path, What: what}
}

// An Outcome is what a question came to, as it is kept.
type Outcome struct {
	Series    store.Series
	Began     time.Time
	Day       string
	Version   string
	Good, Bad int
	Wrong     bool
	Truncated int
	Says      string
	Facts     []store.Fact
}

// Answer returns the row of an outcome.
func (o *Outcome) Answer(ended time.Time) *store.KeptResult {
	host, _ := os.Hostname()
	state := store.Good
	if o.Wrong {
		state = store.Wrong
	}
	return &store.KeptResult{ID: NewID(), Series: o.Series, Began: o.Began, Ended: ended, Day: o.Day, Version: o.Version,
		Host: host, State: state, Good: o.Good, Bad: o.Bad, Truncated: o.Truncated, Says: o.Says}
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

func runOf(a *store.KeptResult) present.HistoryResult {
	return present.HistoryResult{Run: a.ID, Kind: a.Series.Kind, State: a.State, Began: stamp(a.Began), Ended: stamp(a.Ended),
		Estate: a.Series.Path, What: a.Series.What, Item: a.Item, Host: a.Host, Good: a.Good, Bad: a.Bad, Says: a.Says,
		Truncated: a.Truncated}
}

// probeOf reports on a run of a probe as on any other.
func probeOf(r *store.Run) present.HistoryResult {
	state := r.State
	if r.State == store.StateEnded {
		state = store.Good
		if r.Bad+r.Unlooked > 0 {
			state = store.Wrong
		}
	}
	says := present.ProbeCounts(r.Good, r.Bad, r.Unlooked)
	return present.HistoryResult{Run: r.Name, Kind: r.Kind, State: state, Began: stamp(r.Began), Ended: stamp(r.Ended),
		Estate: r.Path, Good: r.Good, Bad: r.Bad + r.Unlooked, Says: says}
}

// Choice is which results are listed.
type Choice struct {
	Kind  string // "": all
	Since time.Time
	Most  int
}

// List reports the results that a store keeps, the newest first.
func List(ctx context.Context, s *store.Store, c Choice) (*present.History, error) {
	a := &present.History{Store: s.Where(), Runs: []present.HistoryResult{}}
	most := c.Most + 1
	if c.Kind != "" {
		most = 1 << 30
	}
	answers, err := s.Answers(ctx, c.Since, most)
	if err != nil {
		return nil, err
	}
	probes, err := s.RunsSince(ctx, c.Since, most)
	if err != nil {
		return nil, err
	}
	add := func(owner string, r present.HistoryResult) {
		if s.Estate() == "" { // it shows all of them
			r.Owner = owner
		}
		a.Runs = append(a.Runs, r)
	}
	for i := range answers {
		add(answers[i].Owner, runOf(&answers[i]))
	}
	for i := range probes {
		if !strings.HasPrefix(probes[i].Name, Watched) { // it is there as an answer
			add(probes[i].Owner, probeOf(&probes[i]))
		}
	}
	if c.Kind != "" {
		a.Runs = slices.DeleteFunc(a.Runs, func(r present.HistoryResult) bool { return r.Kind != c.Kind })
	}
	slices.SortStableFunc(a.Runs, func(x, y present.HistoryResult) int { return strings.Compare(y.Began, x.Began) })
	if len(a.Runs) > c.Most {
		a.Runs, a.More = a.Runs[:c.Most], true
	}
	return a, nil
}

func factOf(s *store.Interval) present.HistoryFact {
	return present.HistoryFact{Name: s.Name, Group: s.Group, Who: s.Who, Severity: s.Severity, Says: s.Says,
		Since: stamp(s.Since)}
}

// Show tells what one result found, of a probe what was not as predicted. The error is store.ErrNoRun
// if there is none.
func Show(ctx context.Context, s *store.Store, id string) (*present.HistoryShown, error) {
	answer, err := s.AnswerNamed(ctx, id)
	if errors.Is(err, store.ErrNoRun) {
		return showProbe(ctx, s, id)
	}
	if err != nil {
		return nil, err
	}
	shown := &present.HistoryShown{HistoryResult: runOf(&answer), Found: []present.HistoryFact{}}
	spells, err := s.FactsOf(ctx, &answer)
	for i := range spells {
		shown.Found = append(shown.Found, factOf(&spells[i]))
	}
	return shown, err
}

func showProbe(ctx context.Context, s *store.Store, id string) (*present.HistoryShown, error) {
	run, err := s.RunNamed(ctx, id)
	if err != nil {
		return nil, err
	}
	shown := &present.HistoryShown{HistoryResult: probeOf(&run), Found: []present.HistoryFact{}}
	facts, err := s.FailedOf(ctx, run.ID)
	met := map[string]bool{}
	for _, f := range facts {
		if !met[f.Name] { // several messages of a kind may have failed alike
			met[f.Name] = true
			shown.Found = append(shown.Found, present.HistoryFact{Name: f.Name, Group: f.Group, Who: f.Who, Says: f.Says})
		}
	}
	return shown, err
}

// ErrUnlike says that two results asked different things.
var ErrUnlike = errors.New("the two results do not answer the same question")

// Compare tells what the second of two results found differently from the first.
func Compare(ctx context.Context, s *store.Store, before, after string) (*present.HistoryCompared, error) {
	first, err := Show(ctx, s, before)
	if err != nil {
		return nil, err
	}
	second, err := Show(ctx, s, after)
	if err != nil {
		return nil, err
	}
	if first.Kind != second.Kind || first.What != second.What {
		return nil, ErrUnlike
	}
	a := &present.HistoryCompared{Before: first.HistoryResult, After: second.HistoryResult, New: []present.HistoryFact{},
		Resolved: []present.HistoryFact{}}
	was := map[string]bool{}
	for _, f := range first.Found {
		was[f.Name] = true
	}
	for _, f := range second.Found {
		if was[f.Name] {
			a.Same++
			delete(was, f.Name)
		} else {
			a.New = append(a.New, f)
		}
	}
	for _, f := range first.Found {
		if was[f.Name] {
			a.Resolved = append(a.Resolved, f)
		}
	}
	return a, nil
}

// mostSpells and mostArrivals are how much is looked at of one group or person.
const (
	mostSpells   = 5000
	mostArrivals = 2000
)

// Of tells what a store knows of a group or person.
func Of(ctx context.Context, s *store.Store, address string) (*present.HistoryOf, error) {
	a := &present.HistoryOf{Address: address, Now: []present.HistoryInterval{}, Resolved: []present.HistoryInterval{},
		Changes: []present.HistoryChanged{}}
	spells, all, err := s.IntervalsOf(ctx, address, mostSpells)
	if err != nil {
		return nil, err
	}
	if a.Now, a.Resolved = gathered(spells); all > len(spells) {
		a.LeftOut = all - len(spells)
	}
	tally, err := s.TallyOf(ctx, address)
	if err != nil {
		return nil, err
	}
	arrivals, err := s.ArrivalsOf(ctx, address, mostArrivals)
	if err != nil {
		return nil, err
	}
	if a.Mail = mailOf(arrivals); tally.All > a.Mail.Checks {
		a.Mail.Latest = a.Mail.Checks
	}
	a.Mail.Checks, a.Mail.Wrong, a.Mail.Since = tally.All, tally.Wrong, stamp(tally.Since)
	return a, nil
}

// gathered reports each finding once, with how often it came up. Where the same question was asked
// in several ways, for example by hand and by a plan, the one counts that found it last.
func gathered(spells []store.Interval) (now, over []present.HistoryInterval) {
	now, over = []present.HistoryInterval{}, []present.HistoryInterval{}
	type finding struct{ kind, path, name string }
	last := map[finding]*store.Interval{}
	var order []finding // the newest first
	for i := range spells {
		s := &spells[i]
		f := finding{s.Series.Kind, s.Series.Path, s.Name}
		was := last[f]
		if was == nil {
			order = append(order, f)
		}
		if was == nil || s.Until.After(was.Until) || s.Until.Equal(was.Until) && s.Open && !was.Open {
			last[f] = s
		}
	}
	for _, f := range order {
		s := last[f]
		one := present.HistoryInterval{HistoryFact: factOf(s), Kind: s.Series.Kind, Until: stamp(s.Until), Times: s.Times,
			First: stamp(s.Ever), Estate: s.Series.Path, Begun: s.First == 1}
		if s.Open {
			now = append(now, one)
		} else {
			over = append(over, one)
		}
	}
	return now, over
}

// mailOf sums up what probes saw, the newest first.
func mailOf(arrivals []store.Arrival) present.HistoryMail {
	m := present.HistoryMail{Days: []present.HistoryDay{}, Flaky: []present.HistoryFlaky{},
		Failed: []present.HistoryFlaky{}}
	type key struct{ group, who, kind string }
	checks := map[key]*present.HistoryFlaky{}
	last := map[key]bool{}
	newest := map[key]bool{}
	var order []key
	var all []float64
	byDay := map[string][]float64{}
	for _, a := range slices.Backward(arrivals) { // the oldest first
		if !a.Looked {
			continue
		}
		m.Checks++
		k := key{a.Group, a.Who, a.Kind}
		f := checks[k]
		if f == nil {
			f = &present.HistoryFlaky{Group: a.Group, Who: a.Who, Kind: a.Kind, Predicted: a.Predicted}
			checks[k] = f
			order = append(order, k)
		} else if last[k] != a.OK {
			f.Turns++
		}
		f.Runs++
		last[k], newest[k] = a.OK, a.OK
		if !a.OK {
			m.Wrong++
			f.Wrong++
			f.Predicted, f.Seen = a.Predicted, a.Seen
			if f.FirstFail == "" {
				f.FirstFail = stamp(a.Began)
			}
		} else if a.Seconds > 0 {
			all = append(all, a.Seconds)
			day := a.Began.UTC().Format("2006-01-02")
			byDay[day] = append(byDay[day], a.Seconds)
		}
	}
	m.Median, m.P95 = quantiles(all)
	for day, list := range byDay {
		median, p95 := quantiles(list)
		m.Days = append(m.Days, present.HistoryDay{Day: day, Arrivals: len(list), Median: median, P95: p95})
	}
	slices.SortFunc(m.Days, func(x, y present.HistoryDay) int { return strings.Compare(x.Day, y.Day) })
	for _, k := range order {
		switch f := checks[k]; {
		case f.Turns > 1:
			m.Flaky = append(m.Flaky, *f)
		case !newest[k]:
			m.Failed = append(m.Failed, *f)
		}
	}
	byWrong := func(x, y present.HistoryFlaky) int {
		return cmp.Or(cmp.Compare(y.Wrong, x.Wrong), strings.Compare(x.Group+x.Who, y.Group+y.Who))
	}
	slices.SortFunc(m.Flaky, byWrong)
	slices.SortFunc(m.Failed, byWrong)
	return m
}

// quantiles returns the median and the 95th percentile: of n values in order, the one at
// n/2 and the one at 95 n/100, rounded up.
func quantiles(list []float64) (median, p95 float64) {
	if len(list) == 0 {
		return 0, 0
	}
	sorted := slices.Sorted(slices.Values(list))
	at := func(percent int) float64 { return sorted[(len(sorted)*percent+99)/100-1] }
	return at(50), at(95)
}
