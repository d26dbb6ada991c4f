package ask

import (
	"context"
	"errors"
	"slices"
	"strconv"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/store"
)

// Caller says who asks, and by which connections.
type Caller struct {
	As    string // the caller's own address
	File  string // of connections
	Named bool   // somebody named it: only then commands for secrets are run
}

// connect loads the connections, and finds the caller.
func (c *Caller) connect(ctx context.Context, d *Desk) (*connections.Connections, address.Address, error) {
	l, err := connections.Load(ctx, c.File)
	if err != nil {
		return nil, address.Address{}, ConnectionsError(c.Named, err)
	}
	me, err := d.Address("as", c.As)
	return l, me, err
}

// RollCall asks every member of a group to answer, or looks who has.
type RollCall struct {
	Caller
	Group string
	Send  bool   // send the message; else it is planned
	Run   string // the name of the new run, "": one is made up; without Send: look again
}

// Ask plans a roll call, sends it or looks again. The place has a store, but for a plan.
func (q *RollCall) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	if q.Run != "" && !q.Send {
		return q.look(ctx, at, d)
	}
	l, me, err := q.connect(ctx, d)
	if err != nil {
		return nil, err
	}
	group, err := d.Group(q.Group)
	if err != nil {
		return nil, err
	}
	if !q.Send {
		return &Result{Answer: present.NewRollCall(d.Resolver, probe.PlanCall(d.Resolver, group, me))}, nil
	}
	if err := l.Unlock(ctx, q.Named, at.Warn); err != nil {
		return nil, err
	}
	options := probe.Options{Store: at.Store, State: StateFolder(), Version: at.Version, OnError: at.Warn}
	if options.Estate, err = d.Evaluated(ctx, at); err != nil {
		return nil, err
	}
	call, err := probe.StartCall(ctx, d.Resolver, l, group, me, options, q.Run)
	switch {
	case errors.Is(err, store.ErrExists):
		return nil, Errorf("there is a run %s already; name another", q.Run)
	case err != nil:
		return nil, Network(err)
	}
	return &Result{Answer: present.NewRollCall(d.Resolver, call)}, nil
}

// look looks who has answered a roll call.
func (q *RollCall) look(ctx context.Context, at *Place, d *Desk) (*Result, error) {
	l, err := connections.Load(ctx, q.File)
	if err != nil {
		return nil, ConnectionsError(q.Named, err)
	}
	if err := l.Unlock(ctx, q.Named, at.Warn); err != nil {
		return nil, err
	}
	k, err := d.Kept(ctx, at, q.Run, l)
	if err != nil {
		return nil, err
	}
	call, err := k.LookCall(ctx)
	if err != nil {
		return nil, Network(err)
	}
	return &Result{Answer: present.NewRollCall(d.Resolver, call)}, nil
}

// Held asks which held messages wait for an approver.
type Held struct{ Caller }

// Ask finds the requests in the approver's mailbox.
func (q *Held) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, _, me, requests, err := q.requests(ctx, at)
	if err != nil {
		return nil, err
	}
	return &Result{Answer: present.NewHeldQueue(d.Resolver, me, requests)}, nil
}

func (q *Held) requests(ctx context.Context, at *Place) (
	d *Desk, l *connections.Connections, me address.Address, requests []probe.Request, err error,
) {
	if d, err = Open(ctx, at); err != nil {
		return nil, nil, me, nil, err
	}
	if l, me, err = q.connect(ctx, d); err != nil {
		return nil, nil, me, nil, err
	}
	if err = l.Unlock(ctx, q.Named, at.Warn); err != nil {
		return nil, nil, me, nil, err
	}
	if requests, err = probe.Requests(ctx, d.Resolver, l, me); err != nil {
		return nil, nil, me, nil, Network(err)
	}
	return d, l, me, requests, nil
}

// Decide admits or refuses held messages, which the numbers of the list name, and visits each that is decided.
func (q *Held) Decide(
	ctx context.Context, at *Place, numbers []string, admit bool, visit func(present.HeldMessage),
) error {
	d, l, me, requests, err := q.requests(ctx, at)
	if err != nil {
		return err
	}
	var chosen []*probe.Request
	for _, text := range numbers {
		n, err := strconv.Atoi(text)
		i := slices.IndexFunc(requests, func(r probe.Request) bool { return r.Number == n })
		if err != nil || i < 0 {
			return Errorf("%q is no number that held list shows: there are %d", text, len(requests))
		}
		chosen = append(chosen, &requests[i])
	}
	for _, r := range chosen {
		if err := r.Decide(ctx, d.Resolver, l, admit); err != nil {
			return Network(err)
		}
		visit(present.NewHeldQueue(d.Resolver, me, []probe.Request{*r}).Held[0])
	}
	return nil
}
