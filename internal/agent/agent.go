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
	"maps"
	"os"
	"slices"
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
	State       string                   // a folder that holds its identity; "": it has none that lasts
	// OnProgress gets how far a run is, now and then; nil: nobody asks.
	OnProgress func(store.Progress)
	// Sent is called once, when all messages of a run have been sent; nil: nothing is.
	Sent func(ctx context.Context)
	// OnError gets what keeps the agent from its work: the store that does not answer, a login
	// that fails. nil: nobody asks.
	OnError func(text string)

	identity *identity
	name     string // of this process
	host     string
	ways     []string // the names of the connections that it sends over
	look     []string // and of those that it opens mailboxes by

	outage store.Outage

	mutex   sync.Mutex
	runs    map[string]*wanted // by ID
	told    map[string]bool    // troubles
	refused map[string]string  // by connection: why others of its name are left to do the work
	sentTo  map[string]bool    // runs of which Sent was called

	unknownSince map[string]time.Time // by Message-ID: when the server did not know the address first
}

// The times between looks for work.
const (
	steerEvery = time.Second
	beatEvery  = 1500 * time.Millisecond
	pollOwn    = 60 * time.Millisecond // of an agent for one run
	pollAll    = 250 * time.Millisecond
	away       = time.Second // after an error of the store
)

// Work works until ctx ends; where it is for one run, until that has ended.
func (a *Agent) Work(ctx context.Context) error {
	a.host, _ = os.Hostname()
	a.identity = takeIdentity(a.State)
	defer a.identity.leave()
	a.name = a.identity.name + "-" + randomID(6)
	a.runs, a.told, a.sentTo = map[string]*wanted{}, map[string]bool{}, map[string]bool{}
	a.refused, a.unknownSince = map[string]string{}, map[string]time.Time{}
	a.outage.Tell = a.OnError
	offer := a.Connections.Offer()
	for _, w := range offer.Send {
		a.ways = append(a.ways, w.Name)
	}
	for _, m := range offer.Look {
		a.look = append(a.look, m.Name)
	}
	if err := a.sayAlive(ctx); err != nil {
		return err
	}
	working, stop := context.WithCancel(ctx)
	defer stop()
	var done sync.WaitGroup
	done.Go(func() { a.beat(working) })
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
func (a *Agent) beat(ctx context.Context) {
	for {
		err := errors.Join(a.sayAlive(ctx), a.expireDead(ctx), a.Store.Rescue(ctx))
		if ctx.Err() == nil {
			a.outage.Note(err)
		}
		if !clock.Sleep(ctx, beatEvery) {
			return
		}
	}
}

// sayAlive says that the agent is alive, and what it can do.
func (a *Agent) sayAlive(ctx context.Context) error {
	offer := a.Connections.Offer()
	a.mutex.Lock()
	problems := slices.Sorted(maps.Values(a.refused))
	offer.Send = slices.DeleteFunc(offer.Send, func(w connections.OfferedConnection) bool { return a.refused[w.Name] != "" })
	offer.Look = slices.DeleteFunc(offer.Look, func(m connections.OfferedMailboxes) bool { return a.refused[m.Name] != "" })
	a.mutex.Unlock()
	offers, err := json.Marshal(offer)
	if err != nil {
		return err
	}
	return a.Store.Beat(ctx, store.Agent{Name: a.name, Host: a.host, Offers: offers, Problem: strings.Join(problems, "; ")})
}

// others reports whether another agent that is alive has a connection of a name.
func (a *Agent) others(ctx context.Context, connection string) bool {
	agents, err := a.Store.Agents(ctx)
	return err == nil && slices.ContainsFunc(agents, func(other store.Agent) bool {
		var offer connections.Offer
		return other.Name != a.name && json.Unmarshal(other.Offers, &offer) == nil &&
			(slices.ContainsFunc(offer.Send, func(w connections.OfferedConnection) bool { return w.Name == connection }) ||
				slices.ContainsFunc(offer.Look, func(m connections.OfferedMailboxes) bool { return m.Name == connection }))
	})
}

// refuse hands the work of a connection whose login is refused to other agents that have a connection of its
// name, and reports whether there are any. Without them this agent goes on, so that the run tells the reason.
func (a *Agent) refuse(ctx context.Context, connection, why string) bool {
	if a.isRefused(connection) {
		return true
	}
	if !a.others(ctx, connection) {
		return false
	}
	text := connection + ": " + why + "; others do its work"
	a.mutex.Lock()
	a.refused[connection] = text
	a.mutex.Unlock()
	a.outage.Note(a.sayAlive(ctx))
	a.trouble(ctx, errors.New(text))
	return true
}

func (a *Agent) isRefused(connection string) bool {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	return a.refused[connection] != ""
}

// persist writes to the store, and tries again while the store is away: for as long as the agent works, and a
// few times when it is to end.
func (a *Agent) persist(ctx context.Context, write func(ctx context.Context) error) error {
	const tries, most = 5, 2 * time.Second
	wait := 20 * time.Second // a file answers late where the disk is slow, and no sooner if it is asked again
	if a.Store.Shared() {
		wait = 5 * time.Second
	}
	lasting := context.WithoutCancel(ctx)
	pause := away / 4
	for ending := 0; ; pause = min(2*pause, most) {
		writing, stop := context.WithTimeout(lasting, wait)
		err := write(writing)
		stop()
		a.outage.Note(err)
		if ctx.Err() != nil {
			ending++
		}
		if err == nil || ending == tries {
			return err
		}
		clock.Sleep(lasting, pause)
	}
}

// expireDead declares agents dead whose process is gone, of the same state folder. Agents of other folders
// count as dead after a silence.
func (a *Agent) expireDead(ctx context.Context) error {
	agents, err := a.Store.Agents(ctx)
	gone := a.identity.gone()
	for _, other := range agents {
		identity, _, _ := strings.Cut(other.Name, "-")
		if other.Name != a.name && (identity == a.identity.name || slices.Contains(gone, identity)) {
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
	if !told && a.OnError != nil {
		a.OnError(text)
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
	worker := store.Worker{Holder: a.name, Run: a.Run, Connections: append(append([]string{}, a.ways...), a.look...)}
	for {
		began := clock.Now()
		names := []string{a.Run}
		var err error
		if a.Run == "" {
			names, err = a.Store.Under(ctx, worker)
		}
		for _, name := range names {
			var t store.Progress
			if t, err = a.Store.Progress(ctx, name); err != nil {
				break
			}
			if a.OnProgress != nil {
				a.OnProgress(t)
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
			a.outage.Note(err)
			pause = away
		}
		if !clock.Sleep(ctx, pause) {
			return
		}
	}
}

// mostGrace bounds the wait for the next mailbox when all of them are gone through for the last time.
const mostGrace = 20 * time.Second

func (a *Agent) steerRun(ctx context.Context, name string, t store.Progress) error {
	now := a.Store.Now()
	if now.Sub(t.Steered) > steerEvery {
		var err error
		if t, err = a.Store.Steer(ctx, name); err != nil { // there may be more time now
			return err
		}
	}
	sent := t.Waiting == 0 && t.Sending == 0
	if sent && a.Sent != nil && !a.sentTo[name] {
		a.sentTo[name] = true
		a.Sent(ctx)
	}
	switch t.State {
	case store.StateOpen:
		if isOver(t, now) {
			return a.Store.Finish(ctx, name, t.Resumed)
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
func isThrough(t store.Progress, now time.Time) bool {
	grace := min(max(t.Terms.Patience/2, 2*time.Second), mostGrace)
	last := later(later(t.Closing, t.LastThrough), t.Resumed)
	return t.Unlooked == 0 || now.After(last.Add(grace))
}

// isOver reports whether nothing more is waited for in a run.
func isOver(t store.Progress, now time.Time) bool { return now.After(Ends(t)) }

// Ends returns when a run is over if nothing more comes: all has come that is predicted and a little
// time has passed, or patience is at its end. However long sending takes, patience begins after the last
// message that was sent.
func Ends(t store.Progress) time.Time {
	news, sent, quiet := later(t.LastNews, t.Resumed), later(t.LastSent, t.Resumed), t.Terms.Settle
	switch {
	case t.Waiting > 0 || t.Sending > 0:
		return later(t.Until, sent.Add(t.Terms.Patience))
	case t.Accepted == 0:
		return time.Time{} // nothing is under way
	case t.Missing > 0:
		begun := t.Until.Add(-Grace - t.Terms.Patience) // when all could be sent, or the run was taken up again
		news, sent, quiet = later(news, begun), later(sent, begun), t.Terms.Quiet
	}
	if end := news.Add(quiet); end.Before(sent.Add(t.Terms.Patience)) {
		return end
	}
	return sent.Add(t.Terms.Patience)
}

// Grace is how long a run may take apart from sending and patience.
const Grace = 3 * time.Second

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
