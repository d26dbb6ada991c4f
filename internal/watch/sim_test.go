package watch

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/schedule"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// sim is three weeks of three workers over a store, in a time of its own: they are killed, the
// clock is put forward and back, and the way of the alarms is down now and then.
type sim struct {
	t      *testing.T
	random *rand.Rand
	store  *store.Store
	real   time.Time     // how time passes
	ahead  time.Duration // how far the clock is ahead of it
	plans  []*Plan
	procs  [3]*proc

	world   map[string]map[string]bool // by item: what is to be found
	told    map[string]map[string]bool // by item: what was told, as new or over
	runs    map[string][]simRun        // by item, that are kept
	steps   []simStep
	deaths  []time.Time
	nobody  []time.Time // times at which no worker was alive, in steps of the simulation
	down    bool        // the way of the alarms is
	raised  map[string]bool
	arrived map[string][]string // by alarm: the batches that it arrived in
	cut     map[string]bool     // batches whose sender was killed before it could say that they went out
	dieIn   bool                // the worker that sends next dies before it can say so
}

type simRun struct {
	slot, begun, ended time.Time     // begun and ended in real time
	late               time.Duration // by the clock
}

type simStep struct {
	at time.Time
	by time.Duration
}

// proc is a process: a worker for every plan.
type proc struct {
	workers []*Watcher
	alive   bool
	until   time.Time // when it starts again
	wakes   []time.Time
	jobs    []*simJob
}

type simJob struct {
	worker *Watcher
	job    *Job
	begun  time.Time
	ends   time.Time
	renew  time.Time
}

func (s *sim) clock() time.Time { return s.real.Add(s.ahead).Truncate(time.Millisecond) }

func (s *sim) start(p *proc, name string) {
	*p = proc{alive: true}
	for _, plan := range s.plans {
		w := &Watcher{Plan: plan, Store: s.store, Name: fmt.Sprint(name, s.random.Uint64()), OnError: func(string) {}}
		w.Tell = func(e *present.WatchEvent) { s.heard(plan.Name+"/"+e.Item, e) }
		w.Send = func(_ context.Context, _ *Channel, b *store.Batch) error { return s.send(b) }
		p.workers = append(p.workers, w)
		p.wakes = append(p.wakes, s.real)
	}
}

// heard checks that what is told as new was not there, and what is told as over was.
func (s *sim) heard(item string, e *present.WatchEvent) {
	known := s.told[item]
	for _, f := range e.New {
		if known[f.Name] {
			s.t.Fatalf("%s: %s is told as new again", item, f.Name)
		}
		known[f.Name] = true
	}
	for _, f := range e.Resolved {
		if !known[f.Name] {
			s.t.Fatalf("%s: %s is told as over, and was never told as new", item, f.Name)
		}
		delete(known, f.Name)
	}
	if e.Alarm {
		s.raised[e.Run] = true
	}
}

var errKilled = errors.New("killed")

func (s *sim) send(b *store.Batch) error {
	if s.down {
		return errors.New("the channel is down")
	}
	for _, a := range b.Alarms {
		s.arrived[a.ID] = append(s.arrived[a.ID], b.ID)
	}
	if s.dieIn {
		s.cut[b.ID] = true
		return errKilled
	}
	return nil
}

// chance reports whether something happens that happens so often on average.
func (s *sim) chance(passed, often time.Duration) bool {
	return s.random.Float64() < float64(passed)/float64(often)
}

// change lets the world change.
func (s *sim) change() {
	for _, item := range slices.Sorted(maps.Keys(s.world)) {
		if s.random.IntN(3) > 0 {
			continue
		}
		fact := fmt.Sprint("fact ", s.random.IntN(6))
		if s.world[item][fact] {
			delete(s.world[item], fact)
		} else {
			s.world[item][fact] = true
		}
	}
}

// turn lets a process do what it does at a time.
func (s *sim) turn(p *proc) {
	ctx := s.t.Context()
	var left []*simJob
	for _, j := range p.jobs {
		switch {
		case !s.real.Before(j.ends):
			s.finish(j)
			continue
		case !s.real.Before(j.renew):
			if mine, err := j.worker.Renew(ctx, j.job, s.clock()); err != nil || !mine {
				if err != nil {
					s.t.Fatal(err)
				}
				continue // another one has it
			}
			j.renew = s.real.Add(renews)
		}
		left = append(left, j)
	}
	p.jobs = left
	for i, w := range p.workers {
		if s.real.Before(p.wakes[i]) {
			continue
		}
		jobs, next, err := w.Claim(ctx, s.clock(), mostJobs-running(p, w))
		if err != nil {
			s.t.Fatal(err)
		}
		for _, job := range jobs {
			p.jobs = append(p.jobs, &simJob{w, job, s.real, s.real.Add(time.Duration(1+s.random.IntN(120)) * time.Second),
				s.real.Add(renews)})
		}
		wait := min(max(next.Sub(s.clock()), time.Second), time.Hour)
		p.wakes[i] = s.real.Add(wait)
	}
}

// running counts the jobs of a worker that a process carries out.
func running(p *proc, w *Watcher) (n int) {
	for _, j := range p.jobs {
		if j.worker == w {
			n++
		}
	}
	return n
}

// A worker begins no more than it has room for: another one takes the rest, which is nobody's twice.
func TestClaimsNoMoreThanThereIsRoomFor(t *testing.T) {
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "sim.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	plan := &Plan{Name: "probes", Estate: "estate"}
	for i := range 6 {
		plan.Items = append(plan.Items, Item{Name: fmt.Sprint("probe ", i), Kind: KindProbe, Once: true, Timing: schedule.Timing{Every: time.Hour}})
	}
	trouble := func(text string) { t.Error(text) }
	first := &Watcher{Plan: plan, Store: st, Name: "first", OnError: trouble}
	second := &Watcher{Plan: plan, Store: st, Name: "second", OnError: trouble}
	now := st.Now().Add(2 * time.Hour)
	begun := map[string]int{}
	for _, step := range []struct {
		worker     *Watcher
		most, want int
	}{{first, 4, 4}, {first, 0, 0}, {second, 4, 2}, {second, 2, 0}} {
		jobs, _, err := step.worker.Claim(t.Context(), now, step.most)
		if err != nil || len(jobs) != step.want {
			t.Errorf("%s begins %d of at most %d, want %d, %v", step.worker.Name, len(jobs), step.most, step.want, err)
		}
		for _, job := range jobs {
			begun[job.Item.Name]++
		}
	}
	if len(begun) != 6 {
		t.Errorf("begun are %v", begun)
	}
}

func (s *sim) finish(j *simJob) {
	item := j.worker.Plan.Name + "/" + j.job.Item.Name
	o := &history.Outcome{}
	for _, fact := range slices.Sorted(maps.Keys(s.world[item])) {
		o.Facts = append(o.Facts, store.Fact{Name: fact})
	}
	err := j.worker.Finish(s.t.Context(), j.job, o, nil, s.clock())
	if errors.Is(err, store.ErrTaken) {
		return
	}
	if err != nil {
		s.t.Fatal(err)
	}
	// What is told by now is what was found.
	if !maps.Equal(s.told[item], s.world[item]) {
		s.t.Fatalf("%s: told %v, found %v", item, s.told[item], s.world[item])
	}
	s.runs[item] = append(s.runs[item], simRun{j.job.row.Slot, j.begun, s.real, j.job.Begun.Sub(j.job.row.Slot)})
}

// next returns when something happens next.
func (s *sim) next() time.Time {
	next := s.real.Add(time.Hour)
	sooner := func(t time.Time) {
		if t.Before(next) {
			next = t
		}
	}
	for _, p := range s.procs {
		if !p.alive {
			sooner(p.until)
			continue
		}
		for _, t := range p.wakes {
			sooner(t)
		}
		for _, j := range p.jobs {
			sooner(j.ends)
			sooner(j.renew)
		}
	}
	if !next.After(s.real) {
		next = s.real.Add(time.Second)
	}
	return next
}

func (s *sim) kill(p *proc) {
	*p = proc{until: s.real.Add(time.Duration(s.random.IntN(90*60)) * time.Second)}
	s.deaths = append(s.deaths, s.real)
}

func (s *sim) run(until time.Time) {
	for delivered := s.real; s.real.Before(until); {
		passed := s.next().Sub(s.real)
		s.real = s.real.Add(passed)
		if s.chance(passed, 3*time.Hour) {
			s.change()
		}
		if s.chance(passed, 40*time.Hour) {
			by := time.Duration(s.random.IntN(6*3600)-3*3600) * time.Second
			s.ahead += by
			s.steps = append(s.steps, simStep{s.real, by})
			for _, p := range s.procs { // a worker looks again soon, whatever its clock said
				for i := range p.wakes {
					p.wakes[i] = s.real.Add(time.Duration(s.random.IntN(5000)) * time.Millisecond)
				}
			}
		}
		if s.chance(passed, 10*time.Hour) {
			s.down = !s.down
		}
		living := 0
		for i, p := range s.procs {
			if p.alive && s.chance(passed, 8*time.Hour) {
				s.kill(p)
			}
			if !p.alive && !s.real.Before(p.until) {
				s.start(p, fmt.Sprint("p", i, "."))
			}
			if p.alive {
				living++
				s.turn(p)
			}
		}
		if living == 0 {
			s.nobody = append(s.nobody, s.real)
		}
		if s.real.Sub(delivered) > 15*time.Minute {
			delivered = s.real
			s.deliver()
		}
	}
}

// deliver lets one of the living send what is due; sometimes it dies at it.
func (s *sim) deliver() {
	for _, p := range s.procs {
		if !p.alive {
			continue
		}
		s.dieIn = s.random.IntN(60) == 0
		for _, w := range p.workers {
			b, err := s.store.ClaimBatch(s.t.Context(), w.Plan.Name, "w "+w.Plan.Name, history.NewID(), w.Name, s.clock(), sending)
			if err != nil {
				s.t.Fatal(err)
			}
			if b == nil {
				continue
			}
			switch err := s.send(b); {
			case errors.Is(err, errKilled):
				s.kill(p)
				s.dieIn = false
				return
			case err != nil:
				err = s.store.MarkFailed(s.t.Context(), b, w.Name, err.Error(), s.clock().Add(firstWait))
				if err != nil {
					s.t.Fatal(err)
				}
			default:
				if err := s.store.MarkSent(s.t.Context(), b, w.Name); err != nil {
					s.t.Fatal(err)
				}
			}
		}
		s.dieIn = false
		return
	}
}

func (s *sim) between(list []time.Time, from, to time.Time) bool {
	return slices.ContainsFunc(list, func(t time.Time) bool { return !t.Before(from) && !t.After(to) })
}

// check checks the times at which an item was begun.
func (s *sim) check(plan *Plan, item *Item) (gaps int) {
	name := plan.Name + "/" + item.Name
	runs := s.runs[name]
	slots := map[time.Time]bool{}
	for i, r := range runs {
		if slots[r.slot] {
			s.t.Errorf("%s: twice for %v", name, r.slot)
		}
		slots[r.slot] = true
		if i == 0 {
			continue
		}
		last := runs[i-1]
		if r.begun.Before(last.ended) {
			s.t.Errorf("%s: begun at %v, before the last run ended at %v", name, r.begun, last.ended)
		}
		if item.Timing.Every == 0 {
			continue
		}
		var stepped time.Duration
		for _, step := range s.steps {
			if !step.at.Before(last.begun) && !step.at.After(r.begun) {
				stepped += step.by.Abs()
			}
		}
		// One that is killed keeps an item for its lease, and the next one looks when it does.
		slack := 65*time.Minute + stepped
		gap := r.begun.Sub(last.begun)
		if s.between(s.nobody, last.begun, r.begun) || s.between(s.deaths, last.begun, r.begun) {
			if gap > 2*item.Timing.Every+item.Timing.Jitter+slack+3*time.Hour {
				s.t.Errorf("%s: %v between two runs, with deaths", name, gap)
			}
			continue
		}
		gaps++
		if stepped == 0 {
			slack = 2 * time.Minute
			if gap < item.Timing.Every-item.Timing.Jitter-slack && last.late < item.Timing.Jitter+slack {
				s.t.Errorf("%s: only %v between two runs, every %v", name, gap, item.Timing.Every)
			}
		}
		if gap > item.Timing.Every+item.Timing.Jitter+slack {
			s.t.Errorf("%s: %v between two runs, every %v", name, gap, item.Timing.Every)
		}
	}
	return gaps
}

// Three weeks of three workers and twenty plans, with kills and a clock that is put forward and
// back: every interval is kept within its jitter, nothing is done twice or at the same time, and
// every alarm is told: once, unless whoever told it was killed before it could say so, and then
// under the same name.
func TestThreeWeeks(t *testing.T) {
	simulate(t, 0)
}

// inMemory returns a folder whose disk is memory, where the machine has one.
func inMemory(t *testing.T) string {
	dir, err := os.MkdirTemp("/dev/shm", "yorvet-sim-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

func simulate(t *testing.T, seed uint64) {
	st, err := store.Open(t.Context(), filepath.Join(inMemory(t), "sim.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	began := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	s := &sim{t: t, random: rand.New(rand.NewPCG(seed, 18)), store: st, real: began, world: map[string]map[string]bool{},
		told: map[string]map[string]bool{}, runs: map[string][]simRun{}, raised: map[string]bool{}, arrived: map[string][]string{},
		cut: map[string]bool{}}
	for i := range 20 {
		name := fmt.Sprintf("plan %02d", i)
		p := &Plan{Name: name, Estate: name, Channels: []Channel{{Name: "w " + name}}}
		p.Items = append(p.Items, Item{Name: "often", Kind: KindCheck,
			Timing: schedule.Timing{Every: time.Duration(2+s.random.IntN(6)) * time.Hour, Jitter: time.Duration(s.random.IntN(20)) * time.Minute}})
		if i%2 == 0 {
			p.Items = append(p.Items, Item{Name: "daily", Kind: KindCheck,
				Timing: schedule.Timing{At: []schedule.TimeOfDay{schedule.TimeOfDay(s.random.IntN(1440))}, Jitter: time.Minute}})
		}
		for _, item := range p.Items {
			s.world[name+"/"+item.Name] = map[string]bool{"fact 0": true}
			s.told[name+"/"+item.Name] = map[string]bool{}
		}
		s.plans = append(s.plans, p)
	}
	for i := range s.procs {
		s.procs[i] = &proc{}
		s.start(s.procs[i], fmt.Sprint("p", i, "."))
	}
	days := campaign.Rounds(4, 21)
	s.run(began.AddDate(0, 0, days))
	gaps, runs := 0, 0
	for _, p := range s.plans {
		for i := range p.Items {
			gaps += s.check(p, &p.Items[i])
			runs += len(s.runs[p.Name+"/"+p.Items[i].Name])
		}
	}
	s.down = false
	for range 100 { // what waits goes out, however long the clock was wrong
		s.real = s.real.Add(6 * time.Hour)
		for i, p := range s.procs {
			if !p.alive {
				s.start(p, fmt.Sprint("p", i, "."))
			}
		}
		s.deliver()
	}
	for alarm := range s.raised {
		batches := s.arrived[alarm]
		if len(batches) == 0 {
			t.Errorf("alarm %s is lost", alarm)
		}
		for _, b := range batches[1:] {
			if b != batches[0] || !s.cut[b] {
				t.Errorf("alarm %s arrived in %v", alarm, batches)
			}
		}
	}
	if len(s.arrived) != len(s.raised) {
		t.Errorf("%d alarms arrived, %d were raised", len(s.arrived), len(s.raised))
	}
	t.Logf("seed %d: %d runs, %d intervals without a death, %d deaths, %d steps of the clock, %d alarms, %d batches told twice",
		seed, runs, gaps, len(s.deaths), len(s.steps), len(s.raised), len(s.cut))
	if runs < 90*days || gaps < 8*days || len(s.deaths) < 2*days || len(s.steps) < days/5 || len(s.raised) < 20*days {
		t.Error("too little happened")
	}
}
