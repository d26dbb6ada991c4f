package ask

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/store"
)

// Probe asks whether real messages fare as predicted.
type Probe struct {
	Groups Groups
	Kinds  []string // of cases; none: all
	From   string   // from everyone that a selector picks, rather than the usual cases; "": these
	Expect []string // the messages that files of expectations speak of, rather than the usual cases
	Sample int      // so many cases at most; 0: all
	SendAs string   // instead: a group, as everyone who may send as it
	Pace   *float64 // messages a second; nil: what the connections say

	File  string // of the connections
	Named bool   // somebody named it: it has to be there

	Run        string // the name of a new run; "": one is made up
	Approve    bool   // requests to approvers are answered
	SendAnyway bool   // even where nobody would see what becomes of the messages
	Evidence   string // a folder for the messages that differed, or ""

	l    *connections.Connections
	bare error // what is wrong if no agent has connections either
}

// runName is what a run may be called: it is part of Message-IDs and file names.
var runName = regexp.MustCompile(`^[A-Za-z0-9-]{1,40}$`)

// CheckRunName returns an error where an option is no name of a run.
func CheckRunName(option, run string) error {
	if run != "" && !runName.MatchString(run) {
		return Errorf("--%s: %q is no name of a run, expected letters, digits and hyphens", option, run)
	}
	return nil
}

// Load reads the connections. With unlock it fetches their secrets, too.
func (q *Probe) Load(ctx context.Context, at *Place, unlock bool) (err error) {
	q.l, err = connections.Load(ctx, q.File)
	if errors.Is(err, fs.ErrNotExist) && !q.Named {
		q.l, q.bare, err = connections.None(), ConnectionsError(q.Named, err), nil
	}
	if err != nil {
		return ConnectionsError(q.Named, err)
	}
	if q.Pace != nil {
		if q.l.Limits.Pace = *q.Pace; !(*q.Pace > 0 && *q.Pace <= 1000) {
			return Errorf("--pace takes a number above 0, up to 1000")
		}
	}
	if unlock {
		return q.l.Unlock(ctx, q.Named, at.Warn)
	}
	return nil
}

// ConnectionsError says why a connections file, which somebody may have named, could not be read.
func ConnectionsError(named bool, err error) error {
	var file *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist) && !named:
		return Errorf("there is no connections.yaml here; name the connections file with --connections. " +
			"To rehearse without a mail server: yorvet standin --connections connections.yaml")
	case errors.As(err, &file):
		return Errorf("%w", err)
	}
	return err
}

// Plan tells what would be sent, by this machine and the agents of the store that are alive.
func (q *Probe) Plan(ctx context.Context, at *Place, d *Desk) (*Result, error) {
	machines, err := q.machines(ctx, at)
	if err != nil {
		return nil, err
	}
	plan, err := q.plan(ctx, d)
	if err != nil {
		return nil, err
	}
	return &Result{Answer: present.NewProbePlan(d.Resolver, plan, q.l.Limits.People, machines)}, nil
}

// machines returns who works on a run: this machine, and the agents of the store, whose connections are joined.
func (q *Probe) machines(ctx context.Context, at *Place) ([]present.RunAgent, error) {
	list := []present.RunAgent{agentOf(&store.Agent{Host: "this machine"}, q.l.Offer())}
	if at.Store != nil {
		agents, err := at.Store.Agents(ctx)
		if err != nil {
			return nil, Network(err)
		}
		for i := range agents {
			var offer connections.Offer
			if err := json.Unmarshal(agents[i].Offers, &offer); err != nil {
				return nil, fmt.Errorf("what agent %s can do: %w", agents[i].Name, err)
			}
			q.l.Join(offer)
			list = append(list, agentOf(&agents[i], offer))
		}
	}
	if q.bare != nil && len(list) == 1 {
		return nil, q.bare
	}
	return list, nil
}

// plan plans a run: of the usual cases, or of everyone who writes in a group's name.
func (q *Probe) plan(ctx context.Context, d *Desk) (*probe.RunPlan, error) {
	if q.SendAs != "" {
		group, err := d.Group(q.SendAs)
		if err != nil {
			return nil, err
		}
		return probe.NewSendAsPlan(d.Resolver, q.l, group, q.Run), nil
	}
	c := probe.Choice{Sample: q.Sample, Run: q.Run, Approve: q.Approve}
	var err error
	if c.Groups, err = d.Groups(q.Groups); err != nil {
		return nil, err
	}
	if len(c.Groups) == 0 {
		return nil, Errorf("--groups leaves no group to probe")
	}
	for _, text := range q.Kinds {
		kind := probe.Kind(text)
		if !slices.Contains(probe.Kinds(), kind) {
			return nil, Unknown("kind", text, KindWords())
		}
		c.Kinds = append(c.Kinds, kind)
	}
	if q.From != "" {
		if c.From, err = d.picked(q.From, c.Groups); err != nil {
			return nil, err
		}
	}
	lists, err := d.expectations(ctx, q.Expect)
	if err != nil {
		return nil, err
	}
	c.Expected = slices.Concat(lists...)
	return probe.NewPlan(d.Resolver, q.l, c), nil
}

// KindWords are the kinds of cases.
func KindWords() []string {
	var words []string
	for _, kind := range probe.Kinds() {
		words = append(words, string(kind))
	}
	return words
}

// Check tries the logins that a plan needs.
func (q *Probe) Check(ctx context.Context, d *Desk) (*Result, error) {
	if q.bare != nil {
		return nil, q.bare
	}
	plan, err := q.plan(ctx, d)
	if err != nil {
		return nil, err
	}
	checked := probe.Check(ctx, plan)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	then := func() error {
		if len(checked.Problems) > 0 && checked.Senders+checked.Mailboxes == 0 {
			return Network(errors.New("no connection works"))
		}
		return nil
	}
	return &Result{Answer: present.NewChecked(checked), Wrong: len(checked.Problems) > 0, Then: then}, nil
}

// Ask sends the messages of a plan, and sees what becomes of them.
func (q *Probe) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	if err := q.Load(ctx, at, true); err != nil {
		return nil, err
	}
	return q.Send(ctx, at, d)
}

// ErrNotAgreed says that nothing is sent, as anyone who was asked did not agree.
var ErrNotAgreed = errors.New("nothing is sent")

// Send is Ask with the estate and the connections loaded.
func (q *Probe) Send(ctx context.Context, at *Place, d *Desk) (*Result, error) {
	began := clock.Now()
	machines, err := q.machines(ctx, at)
	if err != nil {
		return nil, err
	}
	evaluated, err := d.Evaluated(ctx, at)
	if err != nil {
		return nil, err
	}
	plan, err := q.plan(ctx, d)
	if err != nil {
		return nil, err
	}
	if len(plan.Cases) == 0 {
		return nil, Errorf("there is nothing to send: the connections have no way for any of the messages")
	}
	shown := present.NewProbePlan(d.Resolver, plan, q.l.Limits.People, machines)
	if len(plan.Touched) > q.l.Limits.People {
		const text = "nothing is sent: %d people would find a test message, and the connections allow %d"
		tooMany := Errorf(text, len(plan.Touched), q.l.Limits.People)
		return &Result{Answer: shown, Then: func() error { return tooMany }}, nil
	}
	if !q.sendsUnwatched(at, shown) {
		return nil, ErrNotAgreed
	}
	there := Errorf("there is a run %s already; name another, or go on with it by --resume", plan.Run)
	if q.Run != "" {
		if _, err := at.Store.RunNamed(ctx, q.Run); err == nil {
			return nil, there
		}
	}
	options := q.options(at)
	options.Estate = evaluated
	run, err := probe.Start(ctx, plan, options)
	switch {
	case errors.Is(err, store.ErrExists):
		return nil, there
	case run == nil || err != nil && !errors.Is(err, context.Canceled):
		return nil, Network(err)
	}
	return q.judge(ctx, at, d, run, began)
}

// options returns how a run goes.
func (q *Probe) options(at *Place) probe.Options {
	return probe.Options{Store: at.Store, State: StateFolder(), Version: at.Version, Approve: q.Approve, Progress: at.Progress,
		OnError: at.Warn, Blind: func() bool { return q.sendsBlind(at) }}
}

// StateFolder returns the folder of what this machine remembers of its runs, or "".
func StateFolder() string {
	folder, err := localfile.StateFolder()
	if err != nil {
		return ""
	}
	return folder
}

// sendsBlind reports whether messages are sent though no mailbox opens.
func (q *Probe) sendsBlind(at *Place) bool {
	switch {
	case q.SendAnyway:
		return true
	case at.Agree != nil:
		return at.Agree("None of the mailboxes that were tried opens. Send anyway?", "Nothing is sent.")
	}
	at.Warn("none of the mailboxes that were tried opens; to send all the same: --send-anyway")
	return false
}

// sendsUnwatched tells who sends and who looks, and what nobody can look at: with somebody to ask, that is
// asked about. It reports whether the messages are sent.
func (q *Probe) sendsUnwatched(at *Place, plan *present.ProbePlan) bool {
	if len(plan.Machines) > 1 {
		for _, line := range plan.Work() {
			at.Warn(line)
		}
	}
	if len(plan.Unwatched) == 0 {
		return true
	}
	at.Warn(plan.Blind())
	return q.SendAnyway || at.Agree == nil || at.Agree("Send all the same?", "Nothing is sent.")
}

// Show tells what a run saw, as far as it went.
func (q *Probe) Show(ctx context.Context, at *Place, name string) (*Result, error) {
	d, k, err := q.kept(ctx, at, name)
	if err != nil {
		return nil, err
	}
	run, err := k.Run()
	if err != nil {
		return nil, err
	}
	return q.judge(ctx, at, d, run, clock.Now())
}

// Resume continues a run. Only with send it sends what is still to be sent.
func (q *Probe) Resume(ctx context.Context, at *Place, name string, send bool) (*Result, error) {
	d, k, err := q.kept(ctx, at, name)
	if err != nil {
		return nil, err
	}
	if n := k.Unsent(); n > 0 && !send {
		return nil, Errorf("%d messages of run %s are still to be sent: add --send to send them", n, name)
	}
	began := clock.Now()
	run, err := k.Resume(ctx, q.options(at))
	if run == nil {
		return nil, Network(err)
	}
	return q.judge(ctx, at, d, run, began)
}

// Tidy removes the messages of a run from the mailboxes, and says how many of which run.
func (q *Probe) Tidy(ctx context.Context, at *Place, name string, expunge func(accounts []string) bool) (int, string, error) {
	_, k, err := q.kept(ctx, at, name)
	if err != nil {
		return 0, "", err
	}
	run, err := k.Run()
	if err != nil {
		return 0, "", err
	}
	removed, err := probe.Tidy(ctx, run, expunge)
	return removed, run.Plan.Run, err
}

// kept returns a run of the store, and a desk with the estate that is kept of it, or the one here.
func (q *Probe) kept(ctx context.Context, at *Place, name string) (*Desk, *probe.Kept, error) {
	if q.l == nil {
		q.l = &connections.Connections{}
	}
	d := &Desk{}
	k, err := d.Kept(ctx, at, name, q.l)
	return d, k, err
}

// judge tells what a run saw, and keeps what it came to.
func (q *Probe) judge(ctx context.Context, at *Place, d *Desk, run *probe.Run, began time.Time) (*Result, error) {
	j := probe.Judge(run)
	ending := context.WithoutCancel(ctx)
	as, not, unlooked := j.Counts()
	if !run.UnderWay { // else its last word is not spoken
		if err := at.Store.Judge(ending, run.Plan.ID, j.Checks(), as, not, unlooked); err != nil {
			at.Warn(store.Reason(err).Error())
		}
	}
	if q.Evidence != "" {
		kept, missing, err := probe.KeepEvidence(ending, j, q.Evidence)
		if err != nil {
			at.Warn("evidence: " + err.Error())
		}
		if missing > 0 {
			at.Warn(fmt.Sprintf("evidence: %d messages are kept, %d cannot be had from here", kept, missing))
		}
	}
	a := present.NewProbe(d.Resolver, j)
	wrong := run.UnderWay || not > 0 || unlooked > 0 || run.Broken
	if run.UnderWay {
		var err error
		if a.UnderWay, err = runUnderWay(ending, at.Store, run.Plan.Run); err != nil {
			return nil, Network(err)
		}
	}
	then := func() error {
		if !run.UnderWay && j.Nothing() {
			return Network(errors.New("nothing could be sent, or nothing could be looked at"))
		}
		return nil
	}
	return &Result{Answer: a, Wrong: wrong, Then: then,
		Kept: func() *history.Outcome { return at.probe(began, a) }}, nil
}

// probe returns what is kept of a probe apart from its own run: what was not as predicted. A message is known by its kind,
// its group and who sent it, which are the same in the next run; its number is not.
func (at *Place) probe(began time.Time, a *present.Probe) *history.Outcome {
	o := at.outcome("probe", began, a)
	o.Says += " (run " + a.Run + ")"
	o.Good, o.Bad = a.AsPredicted, a.NotAsPredicted+a.NotLookedAt
	o.Wrong = o.Bad > 0
	byNumber := map[string]*present.ProbeCase{}
	for i := range a.Cases {
		c := &a.Cases[i]
		byNumber[c.Case] = c
		if !c.AsPredicted {
			o.Facts = append(o.Facts, store.Fact{Name: nameOf(c.Kind, c.Group, c.From, c.Predicted, c.Seen),
				Group: strings.ToLower(c.Group), Who: strings.ToLower(c.From),
				Says: c.Kind + " message: predicted " + c.Predicted + ", seen " + seenWords(c.Seen, c.Why)})
		}
	}
	for _, m := range a.Members {
		if !m.AsPredicted {
			c := byNumber[m.Case]
			o.Facts = append(o.Facts, store.Fact{Name: nameOf(c.Kind, c.Group, c.From, m.Address, m.Predicted, m.Seen),
				Group: strings.ToLower(c.Group), Who: strings.ToLower(m.Address),
				Says: c.Kind + " message, mailbox: predicted " + m.Predicted + ", seen " + seenWords(m.Seen, m.Why)})
		}
	}
	return o
}

func seenWords(seen, why string) string {
	if why != "" {
		return seen + " (" + why + ")"
	}
	return seen
}
