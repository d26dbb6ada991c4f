package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/store"
)

// sender sends messages over one connection, one after the other.
type sender struct {
	a          *Agent
	connection *connections.Connection
	sessions   map[string]*send.Session // by who logs in
	hopeless   map[string]send.Reply    // logins that fail whatever is tried, likewise
}

// sendIn sends what is due over a connection, until ctx ends.
func (a *Agent) sendIn(ctx context.Context, name string) {
	connection, ok := a.Connections.Connection(name)
	if !ok {
		return
	}
	s := &sender{a, connection, map[string]*send.Session{}, map[string]send.Reply{}}
	defer s.close()
	limits := a.Connections.Limits
	step := time.Duration(float64(time.Second) / limits.Pace)
	worker := store.Worker{Holder: a.name, Run: a.Run, Connections: []string{name}}
	for ctx.Err() == nil && !a.isRefused(name) {
		waiting, err := a.Store.Waiting(ctx, worker)
		if err != nil {
			a.outage.Note(err)
			clock.Sleep(ctx, away)
			continue
		}
		if !slices.Contains(waiting, name) {
			s.close() // a connection that nobody uses is not kept
			clock.Sleep(ctx, a.poll())
			continue
		}
		turn, err := a.Store.Turn(ctx, name, step)
		if err != nil {
			a.outage.Note(err)
			clock.Sleep(ctx, away)
			continue
		}
		if !clock.Sleep(ctx, turn.Sub(a.Store.Now())) {
			continue
		}
		c, err := a.Store.Claim(ctx, worker, name, max(1, limits.Connections))
		switch {
		case err != nil:
			a.outage.Note(err)
			clock.Sleep(ctx, away)
		case c == nil:
			clock.Sleep(ctx, a.poll())
		default:
			s.work(ctx, c)
		}
	}
}

func (s *sender) close() {
	for who, session := range s.sessions {
		session.Close()
		delete(s.sessions, who)
	}
}

// work sends a case that is claimed, and says what became of it.
func (s *sender) work(ctx context.Context, c *store.Claim) {
	reply, again := s.send(ctx, c)
	state, due := store.GivenUp, time.Time{}
	switch {
	case isLoginRefused(reply) && s.a.refuse(ctx, s.connection.Name, reply.String()):
		state = store.Planned
	case reply.Accepted():
		state, reply.KnownAfter = store.Sent, s.a.known(c.MessageID).Seconds()
	case again && reply.UnknownAddress():
		s.a.unknown(c.MessageID)
		state, due = store.Planned, s.a.Store.Now().Add(pauseAfter(c.Tries))
	case reply.Refusal():
		state = store.Refused
	case reply.Unknown():
		state = store.Unsure
	case reply.Temporary():
		state, due = store.Planned, s.a.Store.Now().Add(pauseAfter(c.Tries))
	}
	data, err := json.Marshal(reply)
	if err != nil {
		data = nil
	}
	// What became of it is written even if the agent is to end, or the store is away.
	if err := s.a.persist(ctx, func(ctx context.Context) error {
		return s.a.Store.Settle(ctx, s.a.name, c, state, data, due)
	}); err != nil {
		s.a.trouble(ctx, err)
	}
}

// isLoginRefused reports whether a login is refused for good: nothing was sent.
func isLoginRefused(r send.Reply) bool { return r.Stage == "login" && r.Code >= 500 && !r.Temporary() }

// pauseAfter returns how long to wait before a message is sent again.
func pauseAfter(tries int) time.Duration {
	const least, most = time.Second, 30 * time.Second
	return min(least<<min(tries-1, 10), most)
}

// send sends a case that is claimed. again is set where it may be sent once more to an address that the
// server does not know.
func (s *sender) send(ctx context.Context, c *store.Claim) (reply send.Reply, again bool) {
	d, from, err := s.draft(ctx, c)
	var raw []byte
	if err == nil {
		raw, err = d.Message(c.MessageID, c.Tag, clock.Now())
	}
	if err != nil {
		return send.Reply{Stage: "connect", Text: err.Error(), Certain: !errors.Is(err, errStore)}, false
	}
	who := from.Key()
	if reply, ok := s.hopeless[who]; ok {
		return reply, false
	}
	session := s.session(from)
	reply = session.Send(ctx, send.Envelope{From: from.String(), To: d.To, ID: c.Tag, Notify: d.Notify,
		Plain: d.Plain}, raw)
	if reply.Certain || isLoginRefused(reply) {
		s.hopeless[who] = reply
	}
	return reply, d.Retry
}

// errStore is what errors are of a store that does not answer: what was claimed is sent later.
var errStore = errors.New("the store does not answer")

// draft reads the draft of a case that is claimed, with who submits it; what an agent does not send is
// an error.
func (s *sender) draft(ctx context.Context, c *store.Claim) (d Draft, from address.Address, err error) {
	if len(c.Draft) > mostDraft || json.Unmarshal(c.Draft, &d) != nil {
		return d, from, errors.New("what is to be sent cannot be read")
	}
	run, err := s.a.cases(ctx, c.Run)
	if err != nil {
		return d, from, fmt.Errorf("%w: %w", errStore, err)
	}
	if !isMark(run.run, c.Tag, c.MessageID) {
		return d, from, errors.New("what is to be sent is not marked as a plan marks it")
	}
	if err := d.check(); err != nil {
		return d, from, err
	}
	if from, err = d.Submitter(); err != nil {
		return d, from, err
	}
	return d, from, maySend(s.connection, from, run.domains)
}

// session returns the connection of somebody. Where there are many, one of another is
// closed for it.
func (s *sender) session(from address.Address) *send.Session {
	who := from.Key()
	if session := s.sessions[who]; session != nil {
		return session
	}
	if len(s.sessions) >= max(1, s.a.Connections.Limits.Connections/s.a.senders()) {
		for other, session := range s.sessions {
			session.Close()
			delete(s.sessions, other)
			break
		}
	}
	s.sessions[who] = send.NewSession(s.connection.As(from))
	return s.sessions[who]
}

// keyOf returns the key of an address, or the text in lower case where it is none.
func keyOf(text string) string {
	a, err := address.Parse(text)
	if err != nil {
		return strings.ToLower(text)
	}
	return a.Key()
}
