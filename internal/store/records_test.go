package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"sync"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/schedule"
)

func facts(names ...string) (list []Fact) {
	for _, name := range names {
		list = append(list, Fact{Name: name, Group: "g@k.example", Who: name + "@k.example", Severity: "high", Says: "it is " + name})
	}
	return list
}

func namesOf(list []Fact) []string {
	names := []string{}
	for _, f := range list {
		names = append(names, f.Name)
	}
	slices.Sort(names)
	return names
}

// give keeps an answer of a series, made at a minute.
func give(t *testing.T, s *Store, series string, minute int, names ...string) (*KeptResult, *News) {
	t.Helper()
	began := time.UnixMilli(1_800_000_000_000).Add(time.Duration(minute) * time.Minute)
	a := &KeptResult{ID: fmt.Sprint(series, "-", minute), Series: Series{Asked: series, Kind: "check", Path: "estate"}, Began: began,
		Ended: began.Add(time.Second), Day: "2026-11-26", State: Wrong, Bad: len(names), Says: fmt.Sprint(len(names), " found")}
	news, err := s.Keep(t.Context(), a, facts(names...), nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	return a, news
}

// What was found goes on from one answer to the next; what comes and goes is told.
func TestFindings(t *testing.T) {
	each(t, func(t *testing.T, where string) {
		s := open(t, where)
		first, news := give(t, s, "a", 1, "x", "y")
		if !news.FirstEver || !reflect.DeepEqual(namesOf(news.New), []string{"x", "y"}) || len(news.Over) > 0 {
			t.Errorf("at first %+v", news)
		}
		if _, news = give(t, s, "a", 2, "x", "y"); !news.IsEmpty() || news.FirstEver {
			t.Errorf("as before: %+v", news)
		}
		if _, news = give(t, s, "b", 3, "z"); !news.FirstEver {
			t.Errorf("another series: %+v", news)
		}
		_, news = give(t, s, "a", 4, "y", "z", "z")
		if !reflect.DeepEqual(namesOf(news.New), []string{"z"}) || !reflect.DeepEqual(namesOf(news.Over), []string{"x"}) {
			t.Errorf("another one: %+v", news)
		}
		broken := &KeptResult{ID: "broken", Series: Series{Asked: "a", Kind: "check", Path: "estate"}, Began: time.UnixMilli(1_800_000_300_000), State: Broken, Says: "why"}
		news, err := s.Keep(t.Context(), broken, nil, nil, nil)
		if err != nil || !news.Breaks || len(news.Over) > 0 {
			t.Errorf("broken: %+v, %v", news, err)
		}
		last, news := give(t, s, "a", 6, "x", "y")
		if !news.Works || !reflect.DeepEqual(namesOf(news.New), []string{"x"}) || !reflect.DeepEqual(namesOf(news.Over), []string{"z"}) {
			t.Errorf("it works again: %+v", news)
		}
		spells, all, err := s.IntervalsOf(t.Context(), "g@k.example", 100)
		if err != nil {
			t.Fatal(err)
		}
		var told []string
		for _, x := range spells {
			told = append(told, fmt.Sprint(x.Series.Asked, " ", x.Name, " ", x.First, "-", x.Last, " ", x.Open, " ", x.Times))
		}
		slices.Sort(told)
		want := []string{"a x 4-4 true 2", "a y 1-4 true 1", "a z 3-3 false 1", "b z 1-1 true 1"}
		if all != len(want) || !reflect.DeepEqual(told, want) {
			t.Errorf("spells are %q, want %q", told, want)
		}
		for answer, want := range map[*KeptResult][]string{first: {"x", "y"}, last: {"x", "y"}} {
			found, err := s.FactsOf(t.Context(), answer)
			var names []string
			for _, x := range found {
				names = append(names, x.Name)
			}
			slices.Sort(names)
			if err != nil || !reflect.DeepEqual(names, want) {
				t.Errorf("%s found %q, want %q: %v", answer.ID, names, want, err)
			}
		}
		latest, err := s.Latest(t.Context())
		if err != nil || len(latest) != 2 || latest[0].ID != "a-6" || latest[1].ID != "b-3" {
			t.Errorf("the latest are %+v, %v", latest, err)
		}
		if list, err := s.Answers(t.Context(), time.UnixMilli(0), 3); err != nil || len(list) != 3 || list[0].ID != "a-6" || list[1].ID != "broken" {
			t.Errorf("answers %+v, %v", list, err)
		}
		if who, _, err := s.IntervalsOf(t.Context(), "x@k.example", 100); err != nil || len(who) != 1 || who[0].Ever.UnixMilli() != who[0].Since.Add(-5*time.Minute).UnixMilli() {
			t.Errorf("of a person: %+v, %v", who, err)
		}
		if _, err := s.AnswerNamed(t.Context(), "none"); !errors.Is(err, ErrNoRun) {
			t.Error(err)
		}
		if removed, err := s.RemoveAnswers(t.Context(), time.UnixMilli(1_900_000_000_000), Part{}); err != nil || removed != 4 {
			t.Errorf("%d removed, %v", removed, err)
		}
		if _, all, _ := s.IntervalsOf(t.Context(), "g@k.example", 2); all != 3 {
			t.Errorf("%d spells stay", len(spells))
		}
	})
}

// Of very many findings only the number is kept: nothing is told as new or over that is not.
func TestVeryMany(t *testing.T) {
	s := open(t, t.TempDir()+"/store.db")
	at := 0
	many := func(n int) *News {
		t.Helper()
		at++
		a := &KeptResult{ID: fmt.Sprint("m", at), Series: Series{Asked: "a", Kind: "check", Path: "estate"}, Began: time.UnixMilli(int64(at) * 60_000),
			State: Wrong, Bad: n}
		names := make([]string, n)
		for i := range names {
			names[i] = fmt.Sprint("n", i)
		}
		news, err := s.Keep(t.Context(), a, facts(names...), nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		if want := n; n > MostFacts && a.Truncated != want {
			t.Errorf("%d are untold of %d", a.Truncated, n)
		}
		return news
	}
	if news := many(10); len(news.New) != 10 {
		t.Errorf("at first %+v", news)
	}
	news := many(MostFacts + 1)
	if !news.Many || news.Before != 10 || news.Now != MostFacts+1 || len(news.New)+len(news.Over) > 0 || news.IsEmpty() {
		t.Errorf("too many: %+v", news)
	}
	if news = many(MostFacts + 1); !news.IsEmpty() {
		t.Errorf("as many: %+v", news)
	}
	if news = many(MostFacts); news.Many || !news.FirstEver || len(news.New) != MostFacts || len(news.Over) > 0 {
		t.Errorf("few enough: many %t, first %t, %d new, %d over", news.Many, news.FirstEver, len(news.New), len(news.Over))
	}
	if news = many(MostFacts - 1); len(news.New) > 0 || len(news.Over) != 1 {
		t.Errorf("one less: %d new, %d over", len(news.New), len(news.Over))
	}
}

// What is found still, and told in other words, has the words of the last answer.
func TestReworded(t *testing.T) {
	s := open(t, t.TempDir()+"/store.db")
	give(t, s, "a", 1, "x")
	a := &KeptResult{ID: "later", Series: Series{Asked: "a", Kind: "check", Path: "estate"}, Began: time.UnixMilli(1_800_000_900_000), State: Wrong}
	news, err := s.Keep(t.Context(), a, []Fact{{Name: "x", Group: "g@k.example", Severity: "low", Says: "in other words"}}, nil, nil)
	if err != nil || !news.IsEmpty() {
		t.Errorf("%+v, %v", news, err)
	}
	spells, _, err := s.IntervalsOf(t.Context(), "g@k.example", 10)
	if err != nil || len(spells) != 1 || spells[0].Says != "in other words" || spells[0].Severity != "low" || spells[0].First != 1 {
		t.Errorf("%+v, %v", spells, err)
	}
}

// Whatever is found, run after run, the news add up to it, and so do the spells.
func TestNewsAddUp(t *testing.T) {
	s := open(t, t.TempDir()+"/store.db")
	random := rand.New(rand.NewPCG(4, 18))
	known, all := map[string]bool{}, [][]string{}
	for i := range 120 {
		is := map[string]bool{}
		for n := range 12 {
			if name := fmt.Sprint("n", n); known[name] && random.IntN(8) > 0 || random.IntN(6) == 0 {
				is[name] = true
			}
		}
		names := slices.Sorted(maps.Keys(is))
		_, news := give(t, s, "a", i, names...)
		for _, f := range news.New {
			if known[f.Name] {
				t.Fatalf("%s is new again", f.Name)
			}
			known[f.Name] = true
		}
		for _, f := range news.Over {
			if !known[f.Name] {
				t.Fatalf("%s is over, and was not there", f.Name)
			}
			delete(known, f.Name)
		}
		if !maps.Equal(known, is) {
			t.Fatalf("%d: told %v, found %v", i, known, is)
		}
		all = append(all, names)
	}
	for i, want := range all {
		a, err := s.AnswerNamed(t.Context(), fmt.Sprint("a-", i))
		if err != nil {
			t.Fatal(err)
		}
		found, err := s.FactsOf(t.Context(), &a)
		names := []string{}
		for _, x := range found {
			names = append(names, x.Name)
		}
		slices.Sort(names)
		if slices.Sort(want); err != nil || !slices.Equal(names, want) {
			t.Fatalf("answer %d found %q, want %q: %v", i, names, want, err)
		}
	}
}

// Of several processes one begins an item, and what another one did meanwhile is left out.
func TestItems(t *testing.T) {
	each(t, func(t *testing.T, where string) {
		now := time.UnixMilli(1_800_000_000_000)
		timing := schedule.Timing{Every: time.Hour}
		item := Item{"plan", "item", timing.String()}
		var begun sync.Map
		var done sync.WaitGroup
		for n := range 4 {
			s := open(t, where)
			done.Go(func() {
				row, err := s.ItemRow(context.Background(), item, timing.First("item", now))
				if err != nil {
					t.Error(err)
					return
				}
				if !row.IsDue(now) {
					return // another one was sooner
				}
				name := fmt.Sprint("p", n)
				ok, err := s.Swap(context.Background(), item, row, row.Begin(name, now, time.Minute))
				if err != nil {
					t.Error(err)
				}
				if ok {
					begun.Store(name, row.Begin(name, now, time.Minute))
				}
			})
		}
		done.Wait()
		s := open(t, where)
		count := 0
		begun.Range(func(_, held any) bool {
			count++
			next, _ := timing.End("item", held.(schedule.Row), now)
			ended := func(tx *Tx) (bool, error) { return tx.Swap(item, held.(schedule.Row), next) }
			a := &KeptResult{ID: "one", Series: Series{Asked: "s", Kind: "check", Path: "estate"}, State: Good, Began: now}
			if _, err := s.Keep(t.Context(), a, nil, nil, ended); err != nil {
				t.Error(err)
			}
			a.ID = "again"
			if _, err := s.Keep(t.Context(), a, nil, nil, ended); !errors.Is(err, ErrTaken) {
				t.Errorf("what is done already is kept: %v", err)
			}
			return true
		})
		if list, err := s.Answers(t.Context(), time.Time{}, 10); count != 1 || err != nil || len(list) != 1 {
			t.Errorf("%d began it, %d answers, %v", count, len(list), err)
		}
	})
}

// Alarms wait until they have gone out; those of a sender that is gone go out again, by the name
// that they had.
func TestAlarms(t *testing.T) {
	each(t, func(t *testing.T, where string) {
		s := open(t, where)
		now := time.UnixMilli(1_800_000_000_000)
		for i := range 3 {
			a := &KeptResult{ID: fmt.Sprint("r", i), Series: Series{Asked: "s", Kind: "check", Path: "e"}, State: Wrong, Began: now.Add(time.Duration(i) * time.Second)}
			tell := func(*News) []Alarm {
				return []Alarm{{ID: a.ID, Plan: "p", Item: "i", Record: a.ID, At: a.Began, Body: "{}",
					Ways: map[string]time.Time{"now": now, "later": now.Add(time.Hour)}}}
			}
			if _, err := s.Keep(t.Context(), a, facts("x"), tell, nil); err != nil {
				t.Fatal(err)
			}
		}
		claim := func(way, id, holder string, at time.Time) *Batch {
			t.Helper()
			b, err := s.ClaimBatch(t.Context(), "p", way, id, holder, at, time.Minute)
			if err != nil {
				t.Fatal(err)
			}
			return b
		}
		if b := claim("later", "b0", "h", now); b != nil {
			t.Errorf("too early: %+v", b)
		}
		b := claim("now", "b1", "h1", now)
		if b == nil || b.ID != "b1" || len(b.Alarms) != 3 || b.Tries != 1 || b.Alarms[0].ID != "r0" {
			t.Fatalf("batch %+v", b)
		}
		if other := claim("now", "b2", "h2", now.Add(time.Second)); other != nil {
			t.Errorf("two have it: %+v", other)
		}
		again := claim("now", "b2", "h2", now.Add(2*time.Minute)) // the first is gone
		if again == nil || again.ID != "b1" || again.Tries != 2 || len(again.Alarms) != 3 {
			t.Fatalf("again %+v", again)
		}
		if err := s.MarkSent(t.Context(), b, "h1"); err != nil { // too late
			t.Fatal(err)
		}
		if err := s.MarkFailed(t.Context(), again, "h2", "down", now.Add(time.Hour)); err != nil {
			t.Fatal(err)
		}
		if list, err := s.Backlogs(t.Context(), "p"); err != nil || len(list) != 2 || list[1].Problem != "down" || list[1].Waiting != 3 {
			t.Errorf("backlog %+v, %v", list, err)
		}
		if b := claim("now", "b3", "h3", now.Add(30*time.Minute)); b != nil {
			t.Errorf("before it is time: %+v", b)
		}
		last := claim("now", "b3", "h3", now.Add(time.Hour))
		if last == nil || last.ID != "b1" {
			t.Fatalf("last %+v", last)
		}
		if err := s.MarkSent(t.Context(), last, "h3"); err != nil {
			t.Fatal(err)
		}
		if b := claim("now", "b4", "h4", now.Add(3*time.Hour)); b != nil {
			t.Errorf("told twice: %+v", b)
		}
		if list, err := s.Backlogs(t.Context(), "p"); err != nil || len(list) != 1 || list[0].Channel != "later" {
			t.Errorf("backlog %+v, %v", list, err)
		}
	})
}
