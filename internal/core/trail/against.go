package trail

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/resolve"
)

// A Comparison sets what was said of messages to groups beside what an estate says of them.
type Comparison struct {
	Messages []Compared
	Causes   []infer.Cause // for what differs from what the estate says
	Lost     []infer.Miss  // what no change of the estate explains
	// Passed counts messages to groups of which the estate can say nothing, since nobody
	// is named as their sender.
	Passed int
	// Strangers counts deliveries to addresses that the estate does not know, of which no
	// change is thought.
	Strangers int
	Tried     int // messages that causes were looked for with: the latest

	trials []infer.Trial
}

// Compared is a message to a group.
type Compared struct {
	Story *Story
	Group estate.ID
	To    address.Address
	Fate  *message.Fate // by the estate
	// Said holds what was said of the message as a whole; All: nothing that tells verdicts
	// apart.
	Said infer.Verdicts
	// Told reports whether the log reports each member: it has lines of the members of the
	// group, and the end of the message.
	Told    bool
	Members []Member
}

// Member is somebody that a message comes to, by the estate or by the log.
type Member struct {
	ID      estate.ID // or None
	Address string
	Outcome resolve.Outcome
	Named   bool       // the estate has an outcome for them
	Line    *Recipient // what was said of them; nil: nothing
}

// Agrees reports whether what the estate says of somebody agrees with the log.
func (m *Member) Agrees() bool {
	if m.Line == nil {
		return !m.Named || !deliveries.Has(m.Outcome)
	}
	outcome := resolve.Outcome(infer.None)
	if m.Named {
		outcome = m.Outcome
	}
	return outcomesOf(m.Line.Fate).Has(outcome)
}

// All is the set of all verdicts.
const All = ^infer.Verdicts(0)

// deliveries are the outcomes for which there is a line of somebody.
var deliveries = infer.Either(resolve.Inbox, resolve.Undeliverable)

// outcomesOf returns the outcomes that agree with what was said of somebody.
func outcomesOf(f Fate) infer.Outcomes {
	switch f {
	case InMailbox, InJunk:
		return infer.Either(resolve.Inbox)
	case Passed, Late:
		return infer.Either(resolve.Inbox, resolve.Undeliverable)
	case Failed, Rejected:
		return infer.Either(resolve.Undeliverable)
	case InDigest:
		return infer.Either(resolve.Digest)
	case OnHold:
		return infer.Either(resolve.Waiting)
	}
	return ^infer.Outcomes(0)
}

// mostTrials is how many messages a change is looked for with: the latest.
const mostTrials = 200

// Compare sets messages beside what the estate of r says of them.
func Compare(r *resolve.Resolver, stories []*Story) *Comparison {
	c := &Comparison{}
	for _, s := range stories {
		for _, written := range s.Addressed() {
			to, err := address.Parse(written)
			if err != nil {
				continue
			}
			group, ok := r.Estate().Find(to)
			if !ok || !r.Estate().IsGroup(group) {
				continue
			}
			from, err := address.Parse(s.From)
			if err != nil {
				c.Passed++
				continue
			}
			c.add(r, s, group, message.Envelope{From: from, To: to, Message: resolve.Message{Size: s.Size}})
		}
	}
	latest := c.trials[max(0, len(c.trials)-mostTrials):]
	c.Tried = len(latest)
	c.Causes, c.Lost = infer.Explain(r, latest)
	return c
}

// Only leaves what is said of a person, and of messages as a whole.
func (c *Comparison) Only(person estate.ID) {
	other := func(m infer.Miss) bool { return m.Person != person && m.Person != estate.None }
	for i := range c.Messages {
		one := &c.Messages[i]
		one.Members = slices.DeleteFunc(one.Members, func(m Member) bool { return m.ID != person })
	}
	c.Causes = slices.DeleteFunc(c.Causes, func(cause infer.Cause) bool {
		return !slices.ContainsFunc(cause.Explains, func(m infer.Miss) bool { return !other(m) })
	})
	c.Lost, c.Strangers = slices.DeleteFunc(c.Lost, other), 0
}

// add sets one message beside the estate.
func (c *Comparison) add(r *resolve.Resolver, s *Story, group estate.ID, e message.Envelope) {
	by, err := address.Parse(s.Login)
	if err == nil && r.Sender(e.From).ID != estate.None && r.Estate().IsGroup(r.Sender(e.From).ID) {
		e.By = by
	}
	one := Compared{Story: s, Group: group, To: e.To}
	one.Said = s.verdicts(r.Estate(), group)
	one.Fate = message.Of(r, e)
	// Whether somebody inside was authenticated, by something else than a login, no log says:
	// what agrees with the log is taken to be so.
	if r.Sender(e.From).Inside && s.Login == "" && !one.Said.Has(one.Fate.Verdict) {
		unproven := e
		unproven.Message.Unproven = true
		if fate := message.Of(r, unproven); one.Said.Has(fate.Verdict) {
			e, one.Fate = unproven, fate
		}
	}
	one.members(r.Estate(), s)
	for _, m := range one.Members {
		if m.ID == estate.None && !m.Agrees() {
			c.Strangers++
		}
	}
	c.Messages = append(c.Messages, one)
	c.trials = append(c.trials, infer.Trial{From: e.From, By: e.By, To: e.To, Message: e.Message,
		Seen: infer.Seen{Verdicts: one.Said, People: one.people(r.Estate())}})
}

// verdicts returns the verdicts of a group that agree with what was said of a message.
func (s *Story) verdicts(e *estate.Estate, group estate.ID) infer.Verdicts {
	is := func(text string) bool {
		a, err := address.Parse(text)
		if err != nil {
			return false
		}
		id, ok := e.Find(a)
		return ok && id == group
	}
	if slices.ContainsFunc(s.Expanded, is) {
		return infer.OneOf(estate.Admit)
	}
	said := All
	for i := range s.Recipients {
		r := &s.Recipients[i]
		switch {
		case r.Group != "" && is(r.Group):
			return infer.OneOf(estate.Admit)
		case !is(r.Address):
		case r.Fate == Rejected:
			said = infer.OneOf(estate.Refuse)
		case r.Fate == OnHold:
			said = infer.OneOf(estate.Hold)
		case r.Fate == Gone:
			said = infer.OneOf(estate.Drop)
		case r.Fate == InArchive:
			said = infer.OneOf(estate.Admit)
		}
	}
	return said
}

// members lays the recipients by the estate beside those by the log.
func (c *Compared) members(e *estate.Estate, s *Story) {
	lines := map[string]*Recipient{} // by the address that counts
	var order []string
	nested := false
	for i := range s.Recipients {
		r := &s.Recipients[i]
		a, err := address.Parse(r.Address)
		if err != nil {
			continue
		}
		key := e.Key(a)
		if id, ok := e.Find(a); ok {
			if e.IsGroup(id) {
				continue
			}
			key = e.Key(e.Address(id))
		}
		nested = nested || r.Group != "" || len(s.Expanded) > 0
		if lines[key] == nil {
			order = append(order, key)
		}
		lines[key] = r
	}
	c.Told = nested && s.tellsOfAll() && c.Said == infer.OneOf(estate.Admit)
	if c.Fate.Verdict == estate.Admit || c.Told {
		if d := c.Fate.Delivery(); d != nil {
			for _, recipient := range d.Recipients() {
				a := e.Address(recipient.ID)
				key := e.Key(a)
				c.Members = append(c.Members, Member{recipient.ID, a.String(), recipient.Outcome, true, lines[key]})
				delete(lines, key)
			}
		}
	}
	for _, key := range order {
		if line := lines[key]; line != nil && nested {
			m := Member{ID: estate.None, Address: line.Address, Line: line}
			if a, err := address.Parse(line.Address); err == nil {
				if id, ok := e.Find(a); ok {
					m.ID, m.Address = id, e.Address(id).String()
				}
			}
			c.Members = append(c.Members, m)
		}
	}
	slices.SortStableFunc(c.Members, func(a, b Member) int {
		return strings.Compare(strings.ToLower(a.Address), strings.ToLower(b.Address))
	})
}

// tellsOfAll reports whether something final is said of each recipient but those that are
// held.
func (s *Story) tellsOfAll() bool {
	if s.Whole {
		return true
	}
	return s.begun && !slices.ContainsFunc(s.entries, func(one entry) bool { return (one.host.ends || s.laidOut) && !one.done }) &&
		!slices.ContainsFunc(s.Recipients, func(r Recipient) bool { return r.Fate == Waiting || r.Fate == Late })
}

// people returns what agrees with what was said of people.
func (c *Compared) people(e *estate.Estate) map[estate.ID]infer.Outcomes {
	seen := map[estate.ID]infer.Outcomes{}
	for i := range c.Members {
		m := &c.Members[i]
		if m.ID == estate.None || !e.IsPerson(m.ID) {
			continue
		}
		switch {
		case m.Line != nil:
			seen[m.ID] = outcomesOf(m.Line.Fate)
		case c.Told:
			seen[m.ID] = ^deliveries
		}
	}
	return seen
}

// Differs reports whether the log and the estate disagree about a message.
func (c *Compared) Differs() bool {
	return !c.Said.Has(c.Fate.Verdict) || slices.ContainsFunc(c.Members, func(m Member) bool {
		return (m.Line != nil || c.Told) && !m.Agrees()
	})
}
