package probe

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
)

// RollCall is the kind of a message that asks every member to answer it.
const RollCall Kind = "rollcall"

// What is known of a member by a roll call.
const (
	Answered = "answered"
	NotYet   = "not yet"
	Bounced  = "bounced"
	Arrived  = "delivered" // the mail service says so (RFC 3461); they have not answered
)

// A Call is a roll call: what one's own mailbox says about who got a message.
type Call struct {
	Run     string
	Group   estate.ID
	Caller  address.Address
	Reply   string // of the server that it was handed to
	Members []Presence
	Others  []string // who answered and is not a member
}

// Presence is one member's answer.
type Presence struct {
	Person estate.ID
	State  string
	Detail string // of a bounce
}

// StartCall asks the members of a group to answer, from somebody's own address.
func StartCall(
	ctx context.Context,
	r *resolve.Resolver,
	l *connections.Connections,
	group estate.ID,
	caller address.Address,
	o Options,
	name string,
) (*Call, error) {
	e := r.Estate()
	p := &RunPlan{Run: name, resolver: r, connections: l}
	if p.Run == "" {
		p.Run = randomID(8)
	}
	inside := e.InsideDomain(caller.Domain())
	connection, ok := l.Sender(caller, inside, false)
	if !ok {
		return nil, fmt.Errorf("the connections have no way to send as %s", caller)
	}
	p.Cases = []Case{{Kind: RollCall, Group: group, From: caller, To: e.Address(group), Connection: connection.Name}}
	p.identify()
	if n := len(p.deliveries(&p.Cases[0])); n > l.Limits.People {
		return nil, fmt.Errorf("nothing is sent: %d people would be asked, and the connections allow %d", n, l.Limits.People)
	}
	account, ok := l.Account(caller, inside)
	if !ok {
		return nil, fmt.Errorf("the connections do not open the mailbox of %s, where the answers go", caller)
	}
	box, err := mailbox.Open(ctx, account) // what cannot be read later is not asked for
	if err != nil {
		return nil, err
	}
	box.Close()
	row, err := p.row(o, keptCall, &Checked{})
	if err != nil {
		return nil, err
	}
	row.Looks, row.Expected, row.Terms.Settle = nil, nil, 0
	if err := o.Store.Plan(ctx, row); err != nil {
		return nil, err
	}
	p.ID = row.ID
	run, err := p.work(ctx, o)
	if err != nil {
		return nil, err
	}
	if reply := run.Replies[0]; !reply.Accepted() && !run.Unsure[0] {
		return nil, fmt.Errorf("the message is not taken: %s", reply)
	}
	return p.look(ctx, run.Replies[0], o.Store.Now())
}

// PlanCall returns a roll call that has not been sent: who would be asked.
func PlanCall(r *resolve.Resolver, group estate.ID, caller address.Address) *Call {
	p := &RunPlan{resolver: r}
	call := &Call{Group: group, Caller: caller}
	for _, person := range p.deliveries(&Case{Group: group, From: caller}) {
		call.Members = append(call.Members, Presence{Person: person, State: NotYet})
	}
	return call
}

// LookCall looks again who has answered a roll call.
func (k *Kept) LookCall(ctx context.Context) (*Call, error) {
	if k.Record.Kind != keptCall || len(k.Plan.Cases) != 1 {
		return nil, errors.New("this run is no roll call")
	}
	run, err := k.Run()
	if err != nil {
		return nil, err
	}
	return k.Plan.look(ctx, run.Replies[0], k.Record.Began)
}

// look reads the answers in the caller's mailbox.
func (p *RunPlan) look(ctx context.Context, reply send.Reply, began time.Time) (*Call, error) {
	c := &p.Cases[0]
	e := p.resolver.Estate()
	call := &Call{Run: p.Run, Group: c.Group, Caller: c.From, Reply: reply.String()}
	account, ok := p.connections.Account(c.From, e.InsideDomain(c.From.Domain()))
	if !ok {
		return nil, fmt.Errorf("the connections do not open the mailbox of %s", c.From)
	}
	const before = 48 * time.Hour // servers search by days, in a time zone of their own
	report := mailbox.Look(ctx, account, mailbox.Query{Since: began.Add(-before), Tag: p.Run + ".", Through: true,
		Wants: p.concerns})
	if report.Err != nil {
		return nil, report.Err
	}
	states := map[estate.ID]*Presence{}
	for _, recipient := range p.deliveries(c) {
		call.Members = append(call.Members, Presence{Person: recipient, State: NotYet})
	}
	for i := range call.Members {
		states[call.Members[i].Person] = &call.Members[i]
	}
	for _, item := range report.Items {
		p.count(call, states, item.Message)
	}
	return call, nil
}

// concerns reports whether a message may be an answer to the call, by its header.
func (p *RunPlan) concerns(m *read.Message) bool {
	c := &p.Cases[0]
	return m.Tag == c.Tag || m.ID == c.ID || slices.Contains(m.Answers, c.ID) || strings.Contains(m.Subject, c.Tag) ||
		m.Auto != "" || strings.HasPrefix(m.Type, "multipart/") || m.Failed() != nil || m.FromSystem()
}

// deliveries returns the people who are to get the message of a roll call, whatever
// they get of it, by address; the caller knows already.
func (p *RunPlan) deliveries(c *Case) []estate.ID {
	from := p.resolver.Sender(c.From)
	var people []estate.ID
	for _, recipient := range p.deliver(c.Group, &from, resolve.Message{}).Recipients() {
		if p.resolver.Estate().IsPerson(recipient.ID) && recipient.ID != from.ID {
			people = append(people, recipient.ID)
		}
	}
	return people
}

// count takes one message in the caller's mailbox into account.
func (p *RunPlan) count(call *Call, states map[estate.ID]*Presence, m *read.Message) {
	c := &p.Cases[0]
	e := p.resolver.Estate()
	mark := func(text, state, detail string) bool {
		a, err := address.Parse(text)
		if err != nil {
			return false
		}
		id, ok := e.Find(a)
		if !ok || states[id] == nil {
			return false
		}
		if states[id].State != Answered {
			states[id].State, states[id].Detail = state, detail
		}
		return true
	}
	switch {
	case m.Bounce != nil && (m.About(c.ID) || m.Bounce.EnvelopeID == c.Tag):
		for _, f := range m.Bounce.Recipients {
			switch f.Action {
			case "delivered", "relayed":
				mark(f.Final, Arrived, "")
			case "failed", "":
				mark(f.Final, Bounced, strings.TrimSpace(f.Status+" "+f.Diagnostic))
			}
		}
	case m.Tag == c.Tag || m.ID == c.ID || m.Auto != "":
		// the message itself, or a program's answer: nobody has read it
	case slices.Contains(m.Answers, c.ID) || strings.Contains(m.Subject, c.Tag) || m.Mentions(c.Tag):
		for _, from := range m.From {
			if !mark(from.String(), Answered, "") && from.Key() != c.From.Key() {
				call.Others = append(call.Others, from.String())
			}
		}
	}
}
