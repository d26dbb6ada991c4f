package probe

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/store"
)

// Options say how a run goes.
type Options struct {
	Store    *store.Store
	State    string // a folder for the identity of the agent of this process; "": it has none that lasts
	Estate   Evaluated
	Version  string                    // of the program
	Approve  bool                      // answer the requests to approvers
	Progress func(store.Progress)      // gets how far it is; nil: nobody
	Sent     func(ctx context.Context) // is called once all is sent, before the wait for the rest; nil: nothing
	OnError  func(text string)         // gets what keeps it from its work; nil: nobody
	// Blind is asked whether messages are to be sent where no mailbox opens; nil: they are not.
	Blind func() bool
}

// Evaluated is what a plan was made of, as the store keeps it.
type Evaluated struct {
	Digest, Body, Path string
}

// A Run is what has been sent and seen.
type Run struct {
	Plan      *RunPlan
	Replies   map[int]send.Reply // by case
	Unsure    map[int]bool       // whether the case was accepted is not known
	Sightings []Sighting
	Boxes     map[string]Box // by address of who it belongs to, as Plan.key returns it
	Approved  map[int]bool   // by case: a request was answered
	Broken    bool           // it was ended before its time, or is under way
	UnderWay  bool           // it is being worked on
	// Elsewhere is set where the estate that it was planned with is not at hand: what was
	// predicted then is known, why it differs is not.
	Elsewhere bool
}

// A Box is a mailbox of a run.
type Box struct {
	Account string
	Opened  bool   // it was looked into
	Through bool   // all of it was gone through when nothing more was waited for
	Problem string // why not, or ""
}

// A Sighting is something about a case that was seen in a mailbox.
type Sighting struct {
	mailbox.Place
	Validity, UID uint32
	Case          int
	What          string // as package agent says
	agent.Details
	Seconds float64   // after it was sent
	Look    time.Time // when the last look began that saw it
}

// Kept says that a run is one of probes, or a roll call.
const (
	keptProbe = "probe"
	keptCall  = "rollcall"
)

// Start sends the messages of a plan and watches for what becomes of them.
func Start(ctx context.Context, p *RunPlan, o Options) (*Run, error) {
	checked := p.check(ctx, p.first())
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	for _, text := range checked.Problems {
		o.fail(text)
	}
	if checked.Senders == 0 {
		return nil, &UnreachableError{"no connection works", checked.Problems}
	}
	if checked.Mailboxes == 0 && len(checked.boxes) > 0 && (o.Blind == nil || !o.Blind()) {
		return nil, &UnreachableError{fmt.Sprintf("none of the mailboxes that were tried opens (%d), so nothing that comes may be seen",
			len(checked.boxes)), checked.Problems}
	}
	row, err := p.row(o, keptProbe, checked)
	if err != nil {
		return nil, err
	}
	if err := o.Store.Plan(ctx, row); err != nil {
		return nil, err
	}
	p.ID = row.ID
	return p.work(ctx, o)
}

// An UnreachableError says that nothing was sent, as no connection works, or none of the mailboxes that were tried opens.
type UnreachableError struct {
	Text     string
	Problems []string
}

func (e *UnreachableError) Error() string { return "nothing is sent: " + e.Text }

func (o *Options) fail(text string) {
	if o.OnError != nil {
		o.OnError(text)
	}
}

// work works on the run of a plan until it has ended.
func (p *RunPlan) work(ctx context.Context, o Options) (*Run, error) {
	a := &agent.Agent{Store: o.Store, Connections: p.connections, Run: p.ID, State: o.State, OnError: o.OnError, Sent: o.Sent,
		OnProgress: o.Progress}
	err := a.Work(ctx)
	wait := farewell
	if ctx.Err() == nil {
		wait = patientFarewell
	}
	finishing, stop := context.WithTimeout(context.WithoutCancel(ctx), wait)
	defer stop()
	if ctx.Err() != nil {
		err = errors.Join(err, o.Store.Stop(finishing, p.ID))
	}
	record, recordErr := o.Store.Record(finishing, p.Run)
	for recordErr != nil && !errors.Is(recordErr, store.ErrNoRun) && ctx.Err() == nil && finishing.Err() == nil {
		time.Sleep(time.Second) // the store is away: what was seen is in it
		record, recordErr = o.Store.Record(finishing, p.Run)
	}
	if recordErr != nil {
		return nil, errors.Join(err, recordErr)
	}
	run, runErr := p.run(record)
	return run, errors.Join(err, runErr)
}

// How long the store is waited for when a run ends: by somebody who has interrupted it, and else.
const (
	farewell        = 10 * time.Second
	patientFarewell = 3 * time.Minute
)

// mayLast returns how long a run may take at most: to send what is to be sent at its pace,
// and then as long as there is patience.
func (p *RunPlan) mayLast(cases int) time.Duration {
	limits := p.connections.Limits
	return time.Duration(float64(cases)/limits.Pace*float64(time.Second)) + limits.Patience + agent.Grace
}

// A Kept is a run in the store, with what it was planned with.
type Kept struct {
	Record *store.Record
	Plan   *RunPlan
}

// Load returns a run of the store. restore makes an estate of what the store keeps of one;
// now is the estate at hand, for a run whose own is not kept.
func Load(
	ctx context.Context, s *store.Store, name string, l *connections.Connections,
	restore func(ctx context.Context, body string) (*estate.Estate, error), now *resolve.Resolver,
) (*Kept, error) {
	record, err := s.Record(ctx, name)
	if err != nil {
		return nil, err
	}
	body, err := s.EstateOf(ctx, record.Estate)
	if err != nil {
		return nil, err
	}
	r := now
	if body != "" {
		e, err := restore(ctx, body)
		if err != nil {
			return nil, fmt.Errorf("the estate of run %s: %w", name, err)
		}
		day, err := estate.ParseDay(record.Day)
		if err != nil {
			return nil, err
		}
		r = resolve.New(e, day)
	}
	if r == nil {
		return nil, ErrNoEstate
	}
	p := &RunPlan{Run: record.Name, ID: record.ID, Notes: record.Notes, resolver: r, connections: l}
	return &Kept{record, p}, p.restore(record)
}

// ErrNoEstate says that the estate of a run is not kept, and none is at hand.
var ErrNoEstate = errors.New("its estate is not kept, and none is at hand")

// Run returns what was sent and seen, as far as it goes.
func (k *Kept) Run() (*Run, error) { return k.Plan.run(k.Record) }

// Unsent returns how many messages are still to be sent.
func (k *Kept) Unsent() int {
	n := 0
	for _, c := range k.Record.Cases {
		if c.State == store.Planned || c.State == store.GivenUp {
			n++
		}
	}
	return n
}

// Resume continues a run that was ended before its time. What has been sent, or may have
// been, is not sent again.
func (k *Kept) Resume(ctx context.Context, o Options) (*Run, error) {
	if err := o.Store.Reopen(ctx, k.Plan.ID, k.Plan.mayLast(k.Unsent())); err != nil {
		return nil, err
	}
	return k.Plan.work(ctx, o)
}

// run returns what the store knows of a run of the plan.
func (p *RunPlan) run(record *store.Record) (*Run, error) {
	run := &Run{Plan: p, Replies: map[int]send.Reply{}, Unsure: map[int]bool{}, Boxes: map[string]Box{},
		Approved: record.Answered, Broken: record.State != store.StateEnded,
		UnderWay: record.State == store.StateOpen || record.State == store.StateClosing}
	sent := map[int]time.Time{}
	for _, c := range record.Cases {
		if c.Reply != nil {
			var reply send.Reply
			if err := json.Unmarshal(c.Reply, &reply); err != nil {
				return nil, err
			}
			run.Replies[c.N] = reply
		}
		run.Unsure[c.N] = c.State == store.Unsure || c.State == store.Sending
		sent[c.N] = c.Intent
	}
	served := map[string]bool{} // connections by which somebody has opened a mailbox
	for _, l := range record.Looks {
		served[l.Connection] = served[l.Connection] || !l.Looked.IsZero()
	}
	for _, l := range record.Looks {
		box := Box{Account: l.Account, Opened: !l.Looked.IsZero(), Problem: l.Problem}
		box.Through = box.Opened && !record.Closing.IsZero() && !l.Through.Before(record.Closing)
		if !box.Opened && box.Problem == "" && !run.Broken {
			box.Problem = "nobody who works on the run opens it"
			if boxes, ok := p.connections.Boxes(l.Connection); served[l.Connection] || ok && !boxes.Away() {
				limits := p.connections.Limits
				box.Problem = fmt.Sprintf("it was not reached in time: limits: connections (%d) opens more at once, "+
					"patience (%s) waits longer", limits.Connections, limits.Patience)
			}
		}
		run.Boxes[p.key(l.Account)] = box
	}
	for _, o := range record.Observations {
		s := Sighting{Place: mailbox.Place{Account: o.Account, Folder: o.Folder}, Validity: o.Validity, UID: o.UID, Case: o.N,
			What: o.What, Look: o.Look}
		if err := json.Unmarshal(o.Detail, &s.Details); err != nil {
			return nil, err
		}
		s.Place.Role = s.Details.Role
		if t := sent[o.N]; !t.IsZero() {
			s.Seconds = o.Seen.Sub(t).Round(100 * time.Millisecond).Seconds()
		}
		run.Sightings = append(run.Sightings, s)
	}
	return run, nil
}

// items returns what was seen by account, as package mailbox knows it.
func (run *Run) items(which func(*Sighting) bool) map[string][]mailbox.Item {
	byAccount := map[string][]mailbox.Item{}
	for i := range run.Sightings {
		s := &run.Sightings[i]
		item := mailbox.Item{Place: s.Place, Validity: s.Validity, UID: s.UID}
		same := func(one mailbox.Item) bool {
			return one.Place == item.Place && one.Validity == item.Validity && one.UID == item.UID
		}
		if which(s) && !slices.ContainsFunc(byAccount[s.Account], same) {
			byAccount[s.Account] = append(byAccount[s.Account], item)
		}
	}
	return byAccount
}

// account returns how to look into a mailbox of the run from this machine.
func (run *Run) account(name string) (mailbox.Account, bool) {
	a, err := address.Parse(name)
	if err != nil {
		return mailbox.Account{}, false
	}
	return run.Plan.connections.Account(a, run.Plan.resolver.Estate().InsideDomain(a.Domain()))
}

// Tidy removes the messages of a run from the mailboxes that the connections open, those
// that were seen and no others. It returns how many it removed. Where servers remove no single
// messages, expunge is asked whether to mark them and remove what is marked; nil: no.
func Tidy(ctx context.Context, run *Run, expunge func(accounts []string) bool) (int, error) {
	byAccount := run.items(func(*Sighting) bool { return true })
	removed := 0
	var errs []error
	remove := func(names []string, marking bool) (singly []string) {
		for _, name := range names {
			account, ok := run.account(name)
			if !ok {
				errs = append(errs, fmt.Errorf("%s: the connections do not open the mailbox", name))
				continue
			}
			n, err := mailbox.Remove(ctx, account, byAccount[name], marking)
			removed += n
			switch {
			case errors.Is(err, mailbox.ErrSingly) && expunge != nil:
				singly = append(singly, name)
			case err != nil:
				errs = append(errs, err)
			}
		}
		return singly
	}
	if left := remove(slices.Sorted(maps.Keys(byAccount)), false); len(left) > 0 {
		if expunge(left) {
			remove(left, true)
		} else {
			errs = append(errs, fmt.Errorf("%d of the mailboxes, such as that of %s: %w", len(left), left[0], mailbox.ErrSingly))
		}
	}
	return removed, errors.Join(errs...)
}

// evidenceName is the file name of a message that was seen.
func evidenceName(s *Sighting) string {
	plain := strings.Map(func(r rune) rune {
		if r == '@' || r == '.' || r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' {
			return r
		}
		return '_'
	}, strings.ToLower(s.Account))
	return fmt.Sprintf("case-%d-%s-%s-%d.eml", s.Case+1, plain, s.Place.Role, s.UID)
}
