package history

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// Of quantiles there is a plain definition: the least value that so many are no greater than.
func TestQuantiles(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 5))
	least := func(list []float64, percent int) float64 {
		sorted := slices.Sorted(slices.Values(list))
		for _, x := range sorted {
			n := 0
			for _, y := range list {
				if y <= x {
					n++
				}
			}
			if n*100 >= percent*len(list) {
				return x
			}
		}
		return 0
	}
	for range 300 {
		list := make([]float64, 1+random.IntN(50))
		for i := range list {
			list[i] = float64(random.IntN(20))
		}
		median, p95 := quantiles(list)
		if median != least(list, 50) || p95 != least(list, 95) {
			t.Fatalf("%v: %v, %v", list, median, p95)
		}
	}
	if median, p95 := quantiles(nil); median != 0 || p95 != 0 {
		t.Error(median, p95)
	}
}

func day(n int) time.Time { return time.Date(2026, 11, n, 8, 0, 0, 0, time.UTC) }

// What goes back and forth is flaky; what was not as predicted the last time has failed; what
// nobody looked at says nothing.
func TestMailOf(t *testing.T) {
	arrival := func(n int, who string, ok, looked bool, seconds float64) store.Arrival {
		return store.Arrival{Kind: "member", Group: "g@k.example", Who: who, Began: day(n), Predicted: "inbox",
			Seen: map[bool]string{true: "inbox", false: "junk"}[ok], OK: ok, Looked: looked, Seconds: seconds}
	}
	list := []store.Arrival{
		arrival(1, "a", true, true, 1), arrival(1, "b", true, true, 3), arrival(1, "c", true, true, 2), arrival(1, "d", false, false, 0),
		arrival(2, "a", false, true, 0), arrival(2, "b", true, true, 5), arrival(2, "c", true, true, 9),
		arrival(3, "a", true, true, 4), arrival(3, "b", false, true, 0), arrival(3, "c", true, true, 6),
	}
	slices.Reverse(list) // the newest first
	m := mailOf(list)
	if m.Checks != 9 || m.Wrong != 2 || m.Median != 4 || m.P95 != 9 {
		t.Errorf("%+v", m)
	}
	if len(m.Flaky) != 1 || m.Flaky[0].Who != "a" || m.Flaky[0].Turns != 2 || m.Flaky[0].Runs != 3 || m.Flaky[0].Wrong != 1 ||
		m.Flaky[0].FirstFail != stamp(day(2)) || m.Flaky[0].Seen != "junk" {
		t.Errorf("flaky are %+v", m.Flaky)
	}
	if len(m.Failed) != 1 || m.Failed[0].Who != "b" || m.Failed[0].FirstFail != stamp(day(3)) {
		t.Errorf("failed are %+v", m.Failed)
	}
	want := []present.HistoryDay{{Day: "2026-11-01", Arrivals: 3, Median: 2, P95: 3}, {Day: "2026-11-02", Arrivals: 2, Median: 5, P95: 9},
		{Day: "2026-11-03", Arrivals: 2, Median: 4, P95: 6}}
	if !slices.Equal(m.Days, want) {
		t.Errorf("days are %+v", m.Days)
	}
}

// Each finding is told once, with how often it came up, and since when it is there.
func TestGathered(t *testing.T) {
	spell := func(name string, first, last int64, since int, open bool) store.Interval {
		return store.Interval{Series: store.Series{ID: "s"}, Fact: store.Fact{Name: name}, First: first, Last: last, Since: day(since),
			Until: day(since + 1), Open: open, Times: 3, Ever: day(1)}
	}
	now, over := gathered([]store.Interval{spell("x", 9, 9, 9, true), spell("y", 6, 7, 6, false)})
	if len(now) != 1 || now[0].Times != 3 || now[0].Since != stamp(day(9)) || now[0].First != stamp(day(1)) || now[0].Begun {
		t.Errorf("now %+v", now)
	}
	if len(over) != 1 || over[0].Name != "y" || over[0].Until != stamp(day(7)) {
		t.Errorf("over %+v", over)
	}
}

// What was found in two ways is told once, by the one that found it last.
func TestGatheredTwice(t *testing.T) {
	spell := func(series string, last int, open bool) store.Interval {
		return store.Interval{Series: store.Series{ID: series, Kind: "check", Path: "estate"}, Fact: store.Fact{Name: "x"}, First: 1,
			Last: 2, Since: day(1), Until: day(last), Open: open}
	}
	if now, over := gathered([]store.Interval{spell("hand", 3, true), spell("plan", 9, true)}); len(now) != 1 || len(over) > 0 ||
		now[0].Until != stamp(day(9)) {
		t.Errorf("twice now %+v, over %+v", now, over)
	}
	if now, over := gathered([]store.Interval{spell("hand", 3, true), spell("plan", 9, false)}); len(now) > 0 || len(over) != 1 {
		t.Errorf("over later: now %+v, over %+v", now, over)
	}
}

// What an estate says otherwise of somebody is told by its name.
func TestUnlike(t *testing.T) {
	got := unlike(map[string]string{"gate": "admit inside", "title": "A", "member x": "yes"},
		map[string]string{"gate": "admit anyone", "title": "A", "member y": "copy none"})
	if want := []string{"gate: admit inside -> admit anyone", "member x removed", "member y added"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if got := unlike(nil, nil); len(got) > 0 {
		t.Errorf("%q", got)
	}
}
