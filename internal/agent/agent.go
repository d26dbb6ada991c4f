// Package agent works on the runs of a store: it sends what is due over the connections
// that it has, and looks into the mailboxes that it can open. Several agents on several
// machines may work on one run; none of them needs to know the estate, and no secret of
// theirs is in the store.
package agent

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/store"
)

// An Agent works on runs.
type Agent struct {
	Store       *store.Store
	Connections *connections.Connections // with their secrets
	Run         string                   // only the run of this ID; "": all
	// Standing is told how far a run is, now and then; nil: nobody is.
	Standing func(store.Standing)
	// Sent is called once, when all messages of a run have been sent; nil: nothing is.
	Sent func(ctx context.Context)
	// Trouble is told what keeps the agent from its work: the store that cannot be reached,
	// a login that fails. nil: nobody is.
	Trouble func(text string)

	name string
	host string
	ways []string // the names of the connections that it sends over
	look []string // and of those that it opens mailboxes by

	mutex  sync.Mutex
	runs   map[string]*wanted // by name
	told   map[string]bool    // troubles
	sentTo map[string]bool    // runs of which Sent was called

	unknownSince map[string]time.Time // by Message-ID: when the server did not know the address first
}

// The times between looks for work.
const (
	beatEvery = 1500 * time.Millisecond
	pollOwn   = 60 * time.Millisecond // of an agent for one run
	pollAll   = 250 * time.Millisecond
	away      = time.Second // after an error of the store
)

// Work works until ctx ends; where it is for one run, until that has ended.
func (a *Agent) Work(ctx context.Context) error {
	host, _ := os.Hostname()
	a.host = host
	a.name = fmt.Sprintf("%s-%d-%s", host, os.Getpid(), randomID(6))
	a.runs, a.told, a.sentTo = map[string]*wanted{}, map[string]bool{}, map[string]bool{}
	a.unknownSince = map[string]time.Time{}
	offer := a.Connections.Offer()
	for _, w := range offer.Send {
		a.ways = append(a.ways, w.Name)
	}
	for _, m := range offer.Look {
		a.look = append(a.look, m.Name)
	}
	offers, err := json.Marshal(offer)
	if err != nil {
		return err
	}
	me := store.Agent{Name: a.name, Host: host, Offers: offers}
	if err := a.Store.Beat(ctx, me); err != nil {
		return err
	}
	working, stop := context.WithCancel(ctx)
	defer stop()
	var done sync.WaitGroup
	done.Go(func() { a.beat(working, me) })
	for _, way := range a.ways {
		for range a.senders() {
			done.Go(func() { a.sendIn(working, way) })
		}
	}
	if len(a.look) > 0 {
		done.Go(func() { a.lookInto(working) })
	}
	a.steer(working)
	stop()
	done.Wait()
	leaving, end := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer end()
	return errors.Join(ctx.Err(), a.Store.Leave(leaving, a.name))
}

// senders returns how many messages are sent at once over each connection.
func (a *Agent) senders() int {
	const quick = 20 // messages a second that one sender may not manage
	if limits := a.Connections.Limits; limits.Pace > quick {
		return min(4, max(1, limits.Connections))
	}
	return 1
}

func randomID(bytes int) string {
	b := make([]byte, bytes)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

// beat says again and again that the agent is alive, and takes over what dead ones held.
func (a *Agent) beat(ctx context.Context, me store.Agent) {
	for {
		a.beaten(ctx, errors.Join(a.Store.Beat(ctx, me), a.bury(ctx), a.Store.Rescue(ctx)))
		if !sleep(ctx, beatEvery) {
			return
		}
	}
}

// beaten tells what kept the agent from saying that it is alive; when nothing does, an outage has
// ended, and is told again if it comes again.
func (a *Agent) beaten(ctx context.Context, err error) {
	if err != nil {
		a.trouble(ctx, err)
		return
	}
	a.mutex.Lock()
	defer a.mutex.Unlock()
	clear(a.told)
}

// bury takes agents of this machine whose process is gone for dead at once: others are when
// they have been silent for a while.
func (a *Agent) bury(ctx context.Context) error {
	agents, err := a.Store.Agents(ctx)
	for _, other := range agents {
		rest, ours := strings.CutPrefix(other.Name, a.host+"-")
		number, _, _ := strings.Cut(rest, "-")
		if pid, bad := strconv.Atoi(number); ours && other.Host == a.host && bad == nil && !isAlive(pid) {
			err = errors.Join(err, a.Store.Leave(ctx, other.Name))
		}
	}
	return err
}

// trouble tells what keeps the agent from its work, once.
func (a *Agent) trouble(ctx context.Context, err error) {
	if err == nil || ctx.Err() != nil {
		return
	}
	a.mutex.Lock()
	text := err.Error()
	told := a.told[text]
	a.told[text] = true
	a.mutex.Unlock()
	if !told && a.Trouble != nil {
		a.Trouble(text)
	}
}

// unknown notes that a server does not know the address that a message is for.
func (a *Agent) unknown(message string) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if _, ok := a.unknownSince[message]; !ok {
		a.unknownSince[message] = a.Store.Now()
	}
}

// known returns for how long a server did not know the address that a message is for; 0: it did.
func (a *Agent) known(message string) time.Duration {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if since, ok := a.unknownSince[message]; ok {
		return a.Store.Now().Sub(since)
	}
	return 0
}

func (a *Agent) poll() time.Duration {
	if a.Run != "" {
		return pollOwn
	}
	return pollAll
}

// sleep waits, and reports false where ctx has ended.
func sleep(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(max(0, d))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
		return true
	}
}

// cases returns the messages of a run, as they are recognised.
func (a *Agent) cases(ctx context.Context, run string) (*wanted, error) {
	a.mutex.Lock()
	known := a.runs[run]
	a.mutex.Unlock()
	if known != nil {
		return known, nil
	}
	cases, err := a.Store.Cases(ctx, run)
	if err != nil {
		return nil, err
	}
	row, err := a.Store.RunOf(ctx, run)
	if err != nil {
		return nil, err
	}
	w := wantedOf(row, cases)
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.runs[run] = w
	return w, nil
}

// steer ends runs whose time has come. It returns when ctx ends, or when the only run has
// ended.
func (a *Agent) steer(ctx context.Context) {
	worker := store.Worker{Holder: a.name, Run: a.Run, Lanes: append(append([]string{}, a.ways...), a.look...)}
	for {
		began := clock.Now()
		names := []string{a.Run}
		var err error
		if a.Run == "" {
			names, err = a.Store.Under(ctx, worker)
		}
		for _, name := range names {
			var t store.Standing
			if t, err = a.Store.Standing(ctx, name); err != nil {
				break
			}
			if a.Standing != nil {
				a.Standing(t)
			}
			if a.Run != "" && t.State != store.StateOpen && t.State != store.StateClosing {
				return
			}
			if err = a.steerRun(ctx, name, t); err != nil {
				break
			}
		}
		if errors.Is(err, store.ErrNoRun) && a.Run != "" {
			return
		}
		// A busy store is asked less often; but this process may just have been asleep.
		pause := min(max(2*a.poll(), 10*clock.Since(began)), away)
		if err != nil {
			a.trouble(ctx, err)
			pause = away
		}
		if !sleep(ctx, pause) {
			return
		}
	}
}

// mostGrace is how long the next mailbox is waited for at most, when all are gone through for the
// last time.
const mostGrace = 20 * time.Second

func (a *Agent) steerRun(ctx context.Context, name string, t store.Standing) error {
	now := a.Store.Now()
	sent := t.Waiting == 0 && t.Sending == 0
	if sent && a.Sent != nil && !a.sentTo[name] {
		a.sentTo[name] = true
		a.Sent(ctx)
	}
	switch t.State {
	case store.StateOpen:
		if isOver(t, now) {
			return a.Store.Finish(ctx, name)
		}
	case store.StateClosing:
		if isThrough(t, now) {
			return a.Store.End(ctx, name)
		}
	}
	return nil
}

// isThrough reports whether all mailboxes have been gone through for the last time, or none has been
// for a while.
func isThrough(t store.Standing, now time.Time) bool {
	grace := min(max(t.Terms.Patience/2, 2*time.Second), mostGrace)
	return t.Unlooked == 0 || now.After(t.Closing.Add(grace)) && now.After(t.LastThrough.Add(grace))
}

// isOver reports whether nothing more is waited for in a run.
func isOver(t store.Standing, now time.Time) bool { return now.After(Ends(t)) }

// Ends returns when a run is over if nothing more comes: all has come that is predicted and a little
// time has passed, or patience is at its end.
func Ends(t store.Standing) time.Time {
	if t.Waiting > 0 || t.Sending > 0 {
		return t.Until
	}
	if t.Accepted == 0 {
		return time.Time{} // nothing is under way
	}
	news, sent, quiet := t.LastNews, t.LastSent, t.Terms.Settle
	if t.Missing > 0 {
		begun := t.Until.Add(-Grace - t.Terms.Patience) // when all could be sent, or the run was taken up again
		news, sent, quiet = later(news, begun), later(sent, begun), t.Terms.Quiet
	}
	end := t.Until
	for _, other := range []time.Time{news.Add(quiet), sent.Add(t.Terms.Patience)} {
		if other.Before(end) {
			end = other
		}
	}
	return end
}

// Grace is how long a run may take besides sending and patience.
const Grace = 3 * time.Second

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
