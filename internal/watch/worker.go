package watch

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/core/schedule"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// A Watcher is one process that watches. Several may share a store: none knows of the others but
// by its rows.
type Watcher struct {
	Plan  *Plan
	Store *store.Store
	Name  string // of this process, as holder of what it has begun
	// Ask carries out an item. since is when it was begun last, by any worker; zero: never.
	// An error says that there is no answer.
	Ask func(ctx context.Context, item *Item, since time.Time) (*history.Outcome, error)
	// Tell gets every answer; it may be called by several goroutines, one at a time.
	Tell func(*present.WatchEvent)
	// Send sends alarms by a channel.
	Send func(ctx context.Context, channel *Channel, b *store.Batch) error
	// OnError gets what went wrong as well.
	OnError func(text string)

	outage  store.Outage
	mu      sync.Mutex
	status  Status
	raised  bool // an alarm was, since the worker began
	waiting bool // an alarm could not go out
}

// Status is what a worker has seen, for its page and its metrics.
type Status struct {
	Beat  time.Time // of the last look for what is due
	Store error     // why the store could not be read then
	Items map[string]ItemStatus
}

// ItemStatus is the last that is known of an item.
type ItemStatus struct {
	Kind   string
	State  string
	Due    time.Time
	Began  time.Time // zero: not yet, by anybody
	Ended  time.Time
	Good   int
	Bad    int
	Says   string
	Missed int
}

// The lease of an item that is begun, and how often it is renewed.
const (
	lease  = 30 * time.Second
	renews = lease / 3
)

// A Job is an item that a worker has begun, and nobody else.
type Job struct {
	Item   *Item
	Begun  time.Time
	Missed int // times of the item that went by before it
	Since  time.Time
	key    store.Item
	row    schedule.Row
}

func (w *Watcher) key(item *Item) store.Item {
	return store.Item{Plan: w.Plan.Name, Name: item.Name, Timing: item.Timing.String()}
}

// series returns what an item asks again and again. One that asks something else begins a new one:
// what it does not ask about any more is not resolved.
func (w *Watcher) series(item *Item) store.Series {
	path := w.Plan.Estate
	if path == "" {
		path = "estate"
	}
	what := w.Plan.Name + "/" + item.Name
	if item.What != "" {
		what += " " + item.What
	}
	return history.NewSeries(item.Kind, path, what)
}

// Claim begins what is due at a time, as much as most, and returns it, with when to look again at
// the latest. What is begun has to be carried out, or its lease runs out.
func (w *Watcher) Claim(ctx context.Context, now time.Time, most int) (jobs []*Job, next time.Time, err error) {
	var rows []schedule.Row
	for i := range w.Plan.Items {
		if len(jobs) == most {
			return jobs, now, nil // the rest once there is room
		}
		item := &w.Plan.Items[i]
		job, row, err := w.claim(ctx, item, now)
		if err != nil {
			w.seen(now, err)
			return jobs, now.Add(time.Second), err
		}
		if job != nil {
			jobs = append(jobs, job)
		}
		rows = append(rows, row)
		w.note(item, func(s *ItemStatus) { s.Due = row.Due })
	}
	w.seen(now, nil)
	return jobs, schedule.Soonest(rows), nil
}

func (w *Watcher) claim(ctx context.Context, item *Item, now time.Time) (*Job, schedule.Row, error) {
	key := w.key(item)
	row, err := w.Store.ItemRow(ctx, key, item.Timing.First(item.Name, now))
	if err != nil {
		return nil, row, err
	}
	if mended, was := item.Timing.Adjust(item.Name, row, now); was {
		ok, err := w.Store.Swap(ctx, key, row, mended)
		if err != nil || !ok {
			return nil, row, err
		}
		row = mended
	}
	if !row.IsDue(now) {
		return nil, row, nil
	}
	if row.Holder != "" && item.Once {
		// Anyone who began it is gone; what it sent is not sent again.
		next, _ := item.Timing.End(item.Name, row, now)
		_, err := w.Store.Swap(ctx, key, row, next)
		w.OnError(item.Name + ": the process that began it is gone; messages are not sent again")
		return nil, next, err
	}
	held := row.Begin(w.Name, now, lease)
	ok, err := w.Store.Swap(ctx, key, row, held)
	if err != nil || !ok {
		return nil, row, err
	}
	_, missed := item.Timing.End(item.Name, held, now)
	return &Job{Item: item, Begun: now, Missed: missed, key: key, row: held}, held, nil
}

// Renew says that a job is still being done. It reports whether it is still this worker's.
func (w *Watcher) Renew(ctx context.Context, job *Job, now time.Time) (bool, error) {
	later := job.row.Renew(now, lease)
	ok, err := w.Store.Swap(ctx, job.key, job.row, later)
	if ok {
		job.row = later
	}
	return ok, err
}

// Finish keeps what a job came to, and the alarms that it raises. One that is another worker's by
// now leaves no trace: the error is store.ErrTaken.
func (w *Watcher) Finish(ctx context.Context, job *Job, o *history.Outcome, failed error, now time.Time) error {
	next, _ := job.Item.Timing.End(job.Item.Name, job.row, job.Begun)
	if o == nil {
		o = &history.Outcome{}
	}
	o.Series, o.Began = w.series(job.Item), job.Begun
	answer := o.Answer(now)
	answer.Item, answer.Slot = w.Plan.Name+"/"+job.Item.Name, job.row.Slot
	if failed != nil {
		answer.State, answer.Says = store.Broken, present.Clean(failed.Error())
	}
	if job.Missed > 0 {
		times := present.Count(job.Missed, "time", "times")
		answer.Says += " (" + times + " went by before it; made up for once)"
	}
	var event *present.WatchEvent
	tell := func(news *store.News) []store.Alarm {
		if job.Item.Kind == KindLog {
			news.Over = nil // what a log tells is over at once
		}
		event = w.event(job, answer, news)
		return w.alarms(event, answer, news, now)
	}
	done := func(tx *store.Tx) (bool, error) { return tx.Swap(job.key, job.row, next) }
	if _, err := w.Store.Keep(ctx, answer, o.Facts, tell, done); err != nil {
		return err
	}
	w.note(job.Item, func(s *ItemStatus) {
		s.State, s.Began, s.Ended, s.Good, s.Bad, s.Says = answer.State, answer.Began, answer.Ended, answer.Good,
			answer.Bad, answer.Says
		s.Due, s.Missed = next.Due, s.Missed+job.Missed
	})
	w.mu.Lock()
	w.raised = w.raised || event.Alarm
	w.mu.Unlock()
	w.Tell(event)
	return nil
}

func factsOf(list []store.Fact) []present.HistoryFact {
	facts := []present.HistoryFact{}
	for _, f := range list {
		facts = append(facts, present.HistoryFact{Name: f.Name, Group: f.Group, Who: f.Who, Severity: f.Severity,
			Says: f.Says})
	}
	return facts
}

// event reports an answer.
func (w *Watcher) event(job *Job, a *store.KeptResult, news *store.News) *present.WatchEvent {
	e := &present.WatchEvent{At: a.Ended.UTC().Format(time.RFC3339), Plan: w.Plan.Name, Item: job.Item.Name,
		Kind: job.Item.Kind,
		Run:  a.ID, State: a.State, Says: a.Says, Estate: a.Series.Path, Missed: job.Missed,
		First: news.FirstEver && a.Seq == 1, New: factsOf(news.New), Resolved: factsOf(news.Over), Breaks: news.Breaks,
		Works: news.Works, Host: a.Host}
	e.Many, e.Before, e.Now = news.Many, news.Before, news.Now
	e.Alarm = !news.IsEmpty()
	return e
}

func (w *Watcher) note(item *Item, set func(*ItemStatus)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.status.Items == nil {
		w.status.Items = map[string]ItemStatus{}
	}
	s := w.status.Items[item.Name]
	s.Kind = item.Kind
	set(&s)
	w.status.Items[item.Name] = s
}

func (w *Watcher) seen(now time.Time, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.status.Beat, w.status.Store = now, err
}

// Now returns what the worker has seen.
func (w *Watcher) Now() Status {
	w.mu.Lock()
	defer w.mu.Unlock()
	s := w.status
	s.Items = map[string]ItemStatus{}
	for name, item := range w.status.Items {
		s.Items[name] = item
	}
	return s
}

// began returns when an item was begun last, by any worker.
func (w *Watcher) began(item *Item) time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.status.Items[item.Name].Began
}

// do carries a job out, and keeps its result.
func (w *Watcher) do(ctx context.Context, job *Job) {
	asking, stop := context.WithCancel(ctx)
	defer stop()
	lost := make(chan struct{})
	var renewing sync.WaitGroup
	renewing.Go(func() {
		ticker := time.NewTicker(renews)
		defer ticker.Stop()
		for {
			select {
			case <-asking.Done():
				return
			case <-ticker.C:
				if mine, err := w.Renew(asking, job, w.Store.Now()); err == nil && !mine {
					close(lost)
					stop()
					return
				}
			}
		}
	})
	o, err := w.Ask(asking, job.Item, job.Since)
	stop()
	renewing.Wait()
	select {
	case <-lost:
		w.OnError(job.Item.Name + ": another process has taken it over; its answer is left out")
		return
	default:
	}
	if ctx.Err() != nil {
		w.release(job)
		return
	}
	w.keep(ctx, job, o, err)
}

// keep writes the result of a job to the store, and tries again while the store is away and the job is still
// this worker's.
func (w *Watcher) keep(ctx context.Context, job *Job, o *history.Outcome, failed error) {
	for wait := time.Second; ; wait = min(2*wait, 30*time.Second) {
		err := w.Finish(ctx, job, o, failed, w.Store.Now())
		switch {
		case err == nil:
			return
		case errors.Is(err, store.ErrTaken):
			w.OnError(job.Item.Name + ": another process has taken it over; its answer is left out")
			return
		case ctx.Err() != nil:
			return
		}
		w.outage.Note(err)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return
		}
	}
}

// release lets others have a job that is not done: this process ends.
func (w *Watcher) release(job *Job) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	free := job.row
	free.Holder, free.Lease = "", time.Time{}
	if job.Item.Once {
		free, _ = job.Item.Timing.End(job.Item.Name, job.row, job.Begun)
	}
	if _, err := w.Store.Swap(ctx, job.key, job.row, free); err != nil {
		w.OnError(job.Item.Name + ": it is free again in " + lease.String() + ": " + err.Error())
	}
}

// poll is how long a worker sleeps at most: others, and clocks, may change what is due.
const poll = 5 * time.Second

// mostJobs is how many items one process carries out at once.
const mostJobs = 4

// sweepEvery is the time between removals of what is no longer kept.
const sweepEvery = 24 * time.Hour

// sweep removes what is kept no longer: of this plan by its rule, and of what no plan made by that of the
// estate. What other plans made is theirs to remove.
func (w *Watcher) sweep(ctx context.Context) error {
	rule, err := w.Store.Rule(ctx)
	if err != nil {
		return err
	}
	own := rule
	if w.Plan.Keep != nil {
		own = *w.Plan.Keep
	}
	mine := store.Part{Item: w.Plan.Name + "/", Run: history.WatchedBy(w.Plan.Name)}
	others := store.Part{Rest: true, Run: history.Watched}
	for _, one := range []struct {
		rule store.Rule
		part store.Part
		what string
	}{{own, mine, "of this plan"}, {rule, others, "that no plan made"}} {
		runs, answers, before, err := w.Store.Sweep(ctx, one.rule, one.part)
		if err != nil {
			return err
		}
		if runs+answers > 0 {
			w.OnError(fmt.Sprintf("removed %s and %s %s, from before %s: %s", present.Count(runs, "run", "runs"),
				present.Count(answers, "answer", "answers"), one.what, before.UTC().Format("2006-01-02 15:04"), one.rule))
		}
	}
	return nil
}

// Run watches until ctx ends. With once it does what is due, and returns when that is done.
func (w *Watcher) Run(ctx context.Context, once bool) {
	w.outage.Tell = w.OnError
	if w.Name == "" {
		host, _ := os.Hostname()
		w.Name = host + " " + history.NewID()
	}
	var jobs sync.WaitGroup
	defer jobs.Wait()
	free := make(chan struct{}, mostJobs)
	ended := make(chan struct{}, 1)
	var swept time.Time
	for ctx.Err() == nil {
		if now := w.Store.Now(); now.Sub(swept) > sweepEvery && w.sweep(ctx) == nil {
			swept = now
		}
		recalled := w.Recall(ctx)
		now := w.Store.Now()
		begun, next, err := w.Claim(ctx, now, mostJobs-len(free))
		if ctx.Err() == nil {
			w.outage.Note(errors.Join(recalled, err))
		}
		for _, job := range begun {
			job.Since = w.began(job.Item)
			free <- struct{}{}
			jobs.Go(func() {
				w.do(ctx, job)
				<-free
				select {
				case ended <- struct{}{}:
				default:
				}
			})
		}
		if once {
			jobs.Wait()
			if len(begun) > 0 && err == nil {
				continue // there may be more than went at once
			}
		}
		failed := w.Deliver(ctx, w.Store.Now())
		if once {
			w.mu.Lock()
			w.waiting = failed || err != nil
			w.mu.Unlock()
			return
		}
		wait := min(max(next.Sub(w.Store.Now()), 100*time.Millisecond), poll)
		if len(free) == mostJobs {
			wait = poll
		}
		select {
		case <-ended:
		case <-time.After(wait):
		case <-ctx.Done():
		}
	}
}

// Raised reports whether the worker raised an alarm, and whether an alarm did not go out or the
// store could not be read.
func (w *Watcher) Raised() (raised, waiting bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.raised, w.waiting
}
