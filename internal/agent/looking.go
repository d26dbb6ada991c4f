package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/store"
)

const (
	// before is how long before a run began what is found in a mailbox may have come, by
	// the server's clock: it searches by days, in a time zone of its own.
	before = 48 * time.Hour
	// holdEvery is how often a mailbox that is kept open is said to be held.
	holdEvery = time.Second
)

// lookInto looks into mailboxes that are due, as many at once as there may be connections,
// until ctx ends.
func (a *Agent) lookInto(ctx context.Context) {
	worker := store.Worker{Holder: a.name, Run: a.Run, Connections: slices.Clone(a.look)}
	most := max(1, a.Connections.Limits.Connections)
	free := make(chan struct{}, most)
	for range most {
		free <- struct{}{}
	}
	var visits sync.WaitGroup
	defer visits.Wait()
	for {
		select {
		case <-free:
		case <-ctx.Done():
			return
		}
		worker.Connections = slices.DeleteFunc(worker.Connections, a.isRefused)
		v, err := a.Store.Visit(ctx, worker, most)
		if v != nil && err == nil {
			visits.Go(func() {
				a.visit(ctx, store.Worker{Holder: a.name, Run: a.Run, Connections: a.look}, v)
				free <- struct{}{}
			})
			continue
		}
		free <- struct{}{}
		pause := a.poll()
		if err != nil {
			a.outage.Note(err)
			pause = away
		}
		clock.Sleep(ctx, pause)
	}
}

// visitor looks into one mailbox.
type visitor struct {
	a       *Agent
	visit   *store.Visit
	run     store.Run
	account mailbox.Account
	cases   *wanted
	marks   []mailbox.Mark // where the last look ended
	first   []mailbox.Mark // where the mailbox ended when the run was planned
}

// visit looks into a mailbox, once or as long as there is a connection to spare for it.
func (a *Agent) visit(ctx context.Context, worker store.Worker, v *store.Visit) {
	x, err := a.visitor(ctx, v)
	if err != nil {
		a.trouble(ctx, err)
		now := a.Store.Now()
		// Else the store could not be asked, or another agent opens it, which ends some time.
		certain := errors.Is(err, errNotOurs) && !a.others(ctx, v.Connection)
		a.found(ctx, v, store.Looked{Began: now, Problem: err.Error(), Certain: certain, Next: now.Add(holdEvery)})
		return
	}
	count, err := a.Store.Mailboxes(ctx, worker)
	stay := err == nil && count <= max(1, a.Connections.Limits.Connections)
	if x.run.Terms.LookEvery <= 0 {
		x.run.Terms.LookEvery = a.Connections.Limits.LookEvery
	}
	box, err := mailbox.Open(ctx, x.account)
	if err != nil {
		x.report(ctx, mailbox.Report{Account: v.Account, Err: err}, a.Store.Now(), false, false)
		return
	}
	defer box.Close()
	for through := v.Through; ; {
		began := a.Store.Now()
		r := box.Look(x.query(through))
		keep := stay && !through && r.Err == nil
		if kept := x.report(ctx, r, began, through, keep); !keep || !kept {
			return
		}
		var mine bool
		if mine, through = x.wait(ctx, box); !mine {
			return
		}
	}
}

// errNotOurs is what the errors are of mailboxes that no connection of the agent opens.
var errNotOurs = errors.New("the connections do not open the mailbox")

func (a *Agent) visitor(ctx context.Context, v *store.Visit) (*visitor, error) {
	address, err := address.Parse(v.Account)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errNotOurs, err)
	}
	boxes, ok := a.Connections.Boxes(v.Connection)
	if !ok || boxes.Away() {
		return nil, fmt.Errorf("%w of %s", errNotOurs, v.Account)
	}
	x := &visitor{a: a, visit: v, account: boxes.Account(address)}
	if x.run, err = a.Store.RunOf(ctx, v.Run); err != nil {
		return nil, err
	}
	if !boxes.Opens(address, slices.Contains(x.run.Terms.Domains, address.Domain())) {
		return nil, fmt.Errorf("%w of %s", errNotOurs, v.Account)
	}
	if x.cases, err = a.cases(ctx, v.Run); err != nil {
		return nil, err
	}
	if v.Marks != nil {
		err = json.Unmarshal(v.Marks, &x.marks)
	}
	if v.First != nil {
		err = errors.Join(err, json.Unmarshal(v.First, &x.first))
	}
	return x, err
}

func (x *visitor) query(through bool) mailbox.Query {
	return mailbox.Query{Marks: x.marks, First: x.first, Since: since(x.run.Began, x.a.Store.Now()), Through: through,
		Tag:   x.run.Name + ".",
		Wants: x.cases.wants}
}

// wait waits for news in a mailbox that is kept open. It reports whether the mailbox is still
// the agent's, and whether all of it is to be gone through now.
func (x *visitor) wait(ctx context.Context, box mailbox.Box) (mine, through bool) {
	for left := x.run.Terms.LookEvery; left > 0; left -= holdEvery {
		began := clock.Now()
		pause := min(left, holdEvery)
		if !box.Wait(ctx, pause) {
			x.release(ctx)
			return false, false
		}
		news := clock.Since(began) < pause*9/10
		var err error
		mine, through, err = x.a.Store.Hold(ctx, x.a.name, x.visit)
		if err != nil {
			x.a.outage.Note(err)
			return false, false
		}
		if !mine || through || news {
			return mine, through
		}
	}
	return true, false
}

// release frees a mailbox whose connection has ended: it is due at once, for anybody.
func (x *visitor) release(ctx context.Context) {
	if ctx.Err() == nil {
		x.a.found(ctx, x.visit, store.Looked{Began: x.a.Store.Now(), Problem: "the connection ended",
			Next: x.a.Store.Now().Add(holdEvery)})
	}
}

// report writes what a look came to, and reports whether that is kept.
func (x *visitor) report(ctx context.Context, r mailbox.Report, began time.Time, through, keep bool) bool {
	f := store.Looked{Began: began, Through: through, Keep: keep, Next: x.a.Store.Now().Add(x.run.Terms.LookEvery)}
	if r.Err != nil {
		if ctx.Err() != nil {
			return false // it was the agent that ended it
		}
		f.Problem, f.Certain, f.Keep = r.Err.Error(), mailbox.IsCertain(r.Err), false
		if f.Certain && x.a.refuse(ctx, x.visit.Connection, f.Problem) {
			f.Certain = false
		}
		f.Next = x.a.Store.Now().Add(min(x.run.Terms.LookEvery, holdEvery))
		if x.a.Run == "" { // else it is reported with what was seen
			x.a.trouble(ctx, r.Err)
		}
	} else {
		x.marks = r.Marks
		f.Marks, _ = json.Marshal(r.Marks)
	}
	for _, item := range r.Items {
		for _, s := range x.cases.sight(item, x.a.Store.Now()) {
			if s.what == Approval {
				s.details.Doubt = x.doubt(item.Message, s.n)
			}
			detail, err := json.Marshal(s.details)
			if err != nil {
				continue
			}
			f.Observations = append(f.Observations, store.Observation{N: s.n, Account: x.visit.Account, Folder: item.Folder,
				Validity: item.Validity, UID: item.UID, What: s.what, Seen: x.a.Store.Now(), Detail: detail})
		}
	}
	fresh, kept := x.a.found(ctx, x.visit, f)
	for _, o := range fresh {
		if o.What == Approval && x.run.Approve {
			x.answer(ctx, o)
		}
	}
	return kept
}

// found keeps what a look came to, and returns what of it is new, and whether it is kept.
func (a *Agent) found(ctx context.Context, v *store.Visit, f store.Looked) (fresh []store.Observation, kept bool) {
	err := a.persist(ctx, func(ctx context.Context) (err error) {
		fresh, err = a.Store.Found(ctx, a.name, v, f)
		return err
	})
	return fresh, err == nil
}

// doubt says why a request to an approver is not believed, or returns "": anybody could
// write one, and an answer goes where it says.
func (x *visitor) doubt(m *read.Message, n int) string {
	inside := func(a address.Address) bool { return slices.Contains(x.run.Terms.Domains, a.Domain()) }
	ours := func(a address.Address) bool { return inside(a) || x.a.Connections.Believes(a) }
	c := x.cases.cases[n]
	tagged := slices.ContainsFunc(m.Inner, func(i read.Inner) bool { return i.Tag == c.tag })
	answer, err := address.Parse(answerTo(m))
	switch {
	case m.Auto == "" || m.Auto == "no":
		return "no program wrote it (Auto-Submitted)"
	case len(m.From) != 1 || !ours(m.From[0]):
		return "it is not from inside"
	case !tagged:
		return "the message in it is not the one that was sent"
	case err != nil || !ours(answer):
		return "its answer would go outside"
	}
	return ""
}

// answer answers a request as the approver whose mailbox it is in, if it is believed and
// nobody else does.
func (x *visitor) answer(ctx context.Context, o store.Observation) {
	var d Details
	if json.Unmarshal(o.Detail, &d) != nil || d.Doubt != "" {
		return
	}
	from, err := address.Parse(o.Account)
	if err != nil {
		return
	}
	way, ok := x.a.Connections.Sender(from, slices.Contains(x.run.Terms.Domains, from.Domain()), false)
	if !ok || way.Away() {
		return
	}
	request := fmt.Sprint(o.Account, " ", o.Folder, " ", o.Validity, " ", o.UID)
	mine, err := x.a.Store.Answer(ctx, x.a.name, x.run.ID, o.N, request)
	if err != nil || !mine {
		x.a.outage.Note(err)
		return
	}
	to, err := address.Parse(d.Answer)
	if err != nil {
		return
	}
	reply, err := Decide(ctx, way.As(from), from, to, d.ID, "admit", true)
	if err != nil || !reply.Accepted() {
		return
	}
	if err := x.a.persist(ctx, func(ctx context.Context) error {
		return x.a.Store.Answered(ctx, x.run.ID, o.N, request)
	}); err != nil {
		x.a.trouble(ctx, err)
	}
}

// Decide answers a request to an approver: the message is admitted, or refused.
func Decide(
	ctx context.Context, route send.Route, from, to address.Address, request, subject string, admit bool,
) (send.Reply, error) {
	word := "REFUSE"
	if admit {
		word = "ADMIT"
	}
	raw, err := compose.Message{
		From: from, To: to, ID: randomID(12) + "@" + from.Domain(), InReplyTo: request, Date: clock.Now(),
		Subject: "Re: " + subject, Text: word + "\n",
	}.Bytes()
	if err != nil {
		return send.Reply{}, err
	}
	session := send.NewSession(route)
	defer session.Close()
	return session.Send(ctx, send.Envelope{From: from.String(), To: to.String()}, raw), nil
}
