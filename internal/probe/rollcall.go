package probe

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/mail/watch"
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

// A Call is a roll call: what one's own mailbox tells of who got a message.
type Call struct {
	Run     string
	Group   estate.ID
	Caller  address.Address
	Reply   string // of the server that it was handed to
	Members []Presence
	Others  []string // who answered and is no member
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
	p := &Plan{Run: name, resolver: r, connections: l}
	if p.Run == "" {
		p.Run = randomID(8)
	}
	way, ok := l.Sender(caller, e.InsideDomain(caller.Domain()), false)
	if !ok {
		return nil, fmt.Errorf("the connections have no way to send as %s", caller)
	}
	c := Case{Kind: RollCall, Group: group, From: caller, To: e.Address(group), Way: way.Name, way: way}
	p.Cases = []Case{c}
	p.identify()
	if n := len(p.deliveries(&p.Cases[0])); n > l.Limits.People {
		return nil, fmt.Errorf("nothing is sent: %d people would be asked, and the connections allow %d", n, l.Limits.People)
	}
	account, ok := l.Account(caller, e.InsideDomain(caller.Domain()))
	if !ok {
		return nil, fmt.Errorf("the connections do not open the mailbox of %s, where the answers go", caller)
	}
	dir := filepath.Join(o.Dir, p.Run)
	j, err := newJournal(dir, p)
	if err != nil {
		return nil, err
	}
	defer j.close()
	w := &watch.Watch{Accounts: []watch.Account{account}, Connections: 1}
	marks, problems := w.Mark(ctx)
	if err := problems[account.Name]; err != nil {
		return nil, err
	}
	if err := j.write(line{Marks: marks}, true); err != nil {
		return nil, err
	}
	reply, err := p.ask(ctx, j)
	if err != nil {
		return nil, err
	}
	return p.look(ctx, &history{plan: &plannedRun{}, marks: marks, replies: map[int]send.Reply{0: reply}})
}

// ask sends the message of a roll call, the only case of the plan. A message that is
// not taken is an error.
func (p *Plan) ask(ctx context.Context, j *Journal) (send.Reply, error) {
	c := &p.Cases[0]
	raw, err := p.rollCall(c)
	if err != nil {
		return send.Reply{}, err
	}
	if err := j.write(line{Sending: &attempt{Case: 0}}, true); err != nil {
		return send.Reply{}, err
	}
	session := send.NewSession(c.way.As(c.From))
	defer session.Close()
	reply := session.Send(ctx, send.Envelope{From: c.From.String(), To: c.To.String(), ID: c.Tag, Notify: true}, raw)
	if err := j.write(line{Replied: &attempt{Case: 0, Reply: &reply}}, true); err != nil {
		return reply, err
	}
	if !reply.Accepted() {
		return reply, fmt.Errorf("the message is not taken: %s", reply)
	}
	return reply, nil
}

// PlanCall returns a roll call that has not been sent: who would be asked.
func PlanCall(r *resolve.Resolver, group estate.ID, caller address.Address) *Call {
	p := &Plan{resolver: r}
	call := &Call{Group: group, Caller: caller}
	for _, person := range p.deliveries(&Case{Group: group, From: caller}) {
		call.Members = append(call.Members, Presence{Person: person, State: NotYet})
	}
	return call
}

// LookCall looks again who has answered a roll call.
func LookCall(ctx context.Context, dir string, r *resolve.Resolver, l *connections.Connections) (*Call, error) {
	h, err := readJournal(ctx, dir)
	if err != nil {
		return nil, err
	}
	p, err := restore(h, r, l)
	if err != nil {
		return nil, err
	}
	if len(p.Cases) != 1 || p.Cases[0].Kind != RollCall {
		return nil, errors.New("this run is no roll call")
	}
	return p.look(ctx, h)
}

// rollCall writes the message of a roll call.
func (p *Plan) rollCall(c *Case) ([]byte, error) {
	return compose.Message{
		From: c.From, To: c.To, ReplyTo: c.From, ID: c.ID, Date: time.Now(),
		Subject: "Please answer: does this reach you? [" + c.Tag + "]",
		Text: "We are checking who gets the mail of " + c.To.String() + ".\n\nPlease answer this message, an empty " +
			"answer will do. Nothing else needs to be done.\n",
		Extra: []compose.Field{{Name: read.Tag, Value: c.Tag}},
	}.Bytes()
}

// look reads the answers in the caller's mailbox.
func (p *Plan) look(ctx context.Context, h *history) (*Call, error) {
	c := &p.Cases[0]
	e := p.resolver.Estate()
	call := &Call{Run: p.Run, Group: c.Group, Caller: c.From, Reply: h.replies[0].String()}
	account, ok := p.connections.Account(c.From, e.InsideDomain(c.From.Domain()))
	if !ok {
		return nil, fmt.Errorf("the connections do not open the mailbox of %s", c.From)
	}
	w := &watch.Watch{
		Accounts:    []watch.Account{account},
		Connections: 1,
		Every:       time.Minute,
		Wants: func(m *read.Message) bool {
			return p.wants(m) || strings.Contains(m.Subject, c.Tag)
		},
	}
	looking, stop := context.WithCancel(ctx)
	defer stop()
	var report watch.Report
	w.Run(looking, h.marks, func(r watch.Report) {
		report = r
		stop()
	})
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

// deliveries returns the people who are to get the message of a roll call, whatever
// they get of it, by address; the caller knows already.
func (p *Plan) deliveries(c *Case) []estate.ID {
	from := p.resolver.Sender(c.From)
	var people []estate.ID
	for _, recipient := range p.resolver.Deliver(c.Group, &from, resolve.Message{}).Recipients {
		if p.resolver.Estate().IsPerson(recipient.ID) && recipient.ID != from.ID {
			people = append(people, recipient.ID)
		}
	}
	return people
}

// count takes one message in the caller's mailbox into account.
func (p *Plan) count(call *Call, states map[estate.ID]*Presence, m *read.Message) {
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
