// Package probe sends real messages to groups, looks into mailboxes for what
// becomes of them, and sets what it saw beside what was predicted.
//
// A run goes in three steps: a Plan says which messages, which senders, to which
// group; Run sends them and watches; Judge compares, and finds the change to the
// estate that explains what differs.
package probe

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
)

// A Kind is a kind of case.
type Kind string

// The kinds of cases.
const (
	Outsider    Kind = "outsider"     // a stranger from outside
	Forged      Kind = "forged"       // somebody claims an inside address
	Insider     Kind = "insider"      // an inside person who is not a member
	Member      Kind = "member"       // a member
	Moderator   Kind = "moderator"    // somebody who can release held mail
	Refused     Kind = "refused"      // somebody that the gate refuses
	Invitation  Kind = "invitation"   // a calendar request
	Attachment  Kind = "attachment"   // with a file
	Alias       Kind = "alias"        // to a further address of the group
	SendAs      Kind = "send-as"      // in the group's name
	ReplyPerson Kind = "reply-person" // a member answers a stranger as themselves
	ReplyGroup  Kind = "reply-group"  // a member answers a stranger in the group's name
	Expected    Kind = "expected"     // somebody that an expectation speaks of
	Rule        Kind = "rule"         // somebody that a rule decides about that no other case tries
)

// Kinds returns all kinds of cases.
func Kinds() []Kind { return slices.Clone(kinds) }

var kinds = []Kind{
	Outsider,
	Forged,
	Insider,
	Member,
	Moderator,
	Refused,
	Invitation,
	Attachment,
	Alias,
	SendAs,
	ReplyPerson,
	ReplyGroup,
	Rule,
}

// A Case is one message of a run.
type Case struct {
	Name       string
	Kind       Kind
	Group      estate.ID // that it is about
	From       address.Address
	By         address.Address // who sends it in the name of From, or the zero Address
	To         address.Address
	Traits     resolve.Message
	Connection string // the connection to send

	ID  string // Message-ID
	Tag string // what marks it
}

// Trial returns the case as package infer knows it, with nothing seen yet.
func (c *Case) Trial() infer.Trial {
	return infer.Trial{From: c.From, By: c.By, To: c.To, Message: c.Traits}
}

// sender is who submits the message.
func (c *Case) sender() address.Address {
	if c.By.IsValid() {
		return c.By
	}
	return c.From
}

// A RunPlan is what a run is going to do.
type RunPlan struct {
	Run   string // the name of the run
	ID    string // of the run in the store; "" before it is there
	Cases []Case
	// Notes say what could not be planned, and why.
	Notes []string
	// Touched are those who would find a test message in their mailbox, sorted.
	Touched []estate.ID
	// Unwatched are those who are predicted to get something, and whose mailbox the
	// connections do not open, sorted.
	Unwatched []estate.ID

	resolver    *resolve.Resolver
	connections *connections.Connections
	names       []string // see groupNames

	predictions []infer.Prediction // see Predict
}

// deliver returns what becomes of a message of a case that is sent to a group, or on to one.
func (p *RunPlan) deliver(to estate.ID, from *resolve.Sender, m resolve.Message) *resolve.Delivery {
	return p.resolver.Deliver(resolve.Query{Group: to, Sender: from, Message: m})
}

// A Choice says which cases are wanted.
type Choice struct {
	Groups []estate.ID
	Kinds  []Kind // none: all
	// From picks senders to a group, in place of those that are chosen; kinds are left aside then.
	From func(group estate.ID) []address.Address
	// Expected are expectations whose messages are sent, in place of the usual cases.
	Expected []expect.Expectation
	Sample   int    // so many cases at most, spread over all; 0: all
	Run      string // the name of the run; "": any
	Approve  bool   // what is held is going to be let in
}

// NewPlan plans a run.
func NewPlan(r *resolve.Resolver, l *connections.Connections, choice Choice) *RunPlan {
	p := &RunPlan{Run: choice.Run, resolver: r, connections: l}
	if p.Run == "" {
		p.Run = randomID(8)
	}
	for i := range choice.Expected {
		p.planExpected(&choice.Expected[i])
	}
	for _, group := range choice.Groups {
		if len(choice.Expected) > 0 {
			break
		}
		if r.Estate().Group(group).Kind == estate.Roster && len(choice.Kinds) == 0 && choice.From == nil {
			continue // it takes no mail
		}
		if choice.From != nil {
			senders := choice.From(group)
			if len(senders) == 0 {
				p.note("nobody is picked who would write to %s", r.Estate().Address(group))
			}
			for _, from := range senders {
				p.add(Case{Kind: kindOf(r, group, from), Group: group, From: from, To: r.Estate().Address(group)})
			}
			continue
		}
		for _, kind := range kinds {
			if len(choice.Kinds) == 0 || slices.Contains(choice.Kinds, kind) {
				p.plan(group, kind)
			}
		}
	}
	if choice.Sample > 0 && len(p.Cases) > choice.Sample {
		spread := make([]Case, choice.Sample)
		for i := range spread {
			spread[i] = p.Cases[i*len(p.Cases)/choice.Sample]
		}
		p.Cases = spread
	}
	p.identify()
	if choice.Approve {
		p.touchReleased()
	}
	return p
}

// Estate returns what the plan was made for.
func (p *RunPlan) Estate() *estate.Estate { return p.resolver.Estate() }

// Resolver returns what evaluates the estate of the plan, on its day.
func (p *RunPlan) Resolver() *resolve.Resolver { return p.resolver }

// kindOf returns what kind of case a sender makes.
func kindOf(r *resolve.Resolver, group estate.ID, from address.Address) Kind {
	s := r.Sender(from)
	switch {
	case s.ID != estate.None && r.Members(group).Contains(uint32(s.ID)):
		return Member
	case s.Inside:
		return Insider
	}
	return Outsider
}

func randomID(bytes int) string {
	b := make([]byte, bytes)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

// identify gives the cases names and marks that nobody can guess.
func (p *RunPlan) identify() {
	for i := range p.Cases {
		c := &p.Cases[i]
		c.Name = fmt.Sprintf("%d", i+1)
		c.Tag = p.Run + "." + randomID(12)
		c.ID = c.Tag + "@" + c.From.Domain()
	}
	p.unwatched()
	touched := map[estate.ID]bool{}
	for i := range p.Cases {
		for id, outcome := range p.Predict(i).Outcomes {
			if outcome <= resolve.Digest {
				touched[id] = true
			}
		}
		for _, id := range p.asked(i) {
			touched[id] = true
		}
	}
	for id := range touched {
		p.Touched = append(p.Touched, id)
	}
	e := p.resolver.Estate()
	slices.SortFunc(p.Touched, func(a, b estate.ID) int { return e.Rank(a) - e.Rank(b) })
}

// unwatched notes who is predicted to get something and cannot be looked at.
func (p *RunPlan) unwatched() {
	e := p.resolver.Estate()
	for i := range p.Cases {
		for id, outcome := range p.Predict(i).Outcomes {
			a := e.Address(id)
			if _, ok := p.connections.Mailbox(a, e.InsideDomain(a.Domain())); !ok && outcome <= resolve.Digest &&
				!slices.Contains(p.Unwatched, id) {
				p.Unwatched = append(p.Unwatched, id)
			}
		}
	}
	slices.SortFunc(p.Unwatched, func(a, b estate.ID) int { return e.Rank(a) - e.Rank(b) })
}

// touchReleased adds those who find a message in their mailbox once it is let in.
func (p *RunPlan) touchReleased() {
	e := p.resolver.Estate()
	for i := range p.Cases {
		prediction := p.Predict(i)
		if prediction.Group == estate.None || prediction.Verdict == estate.Refuse || prediction.Verdict == estate.Drop {
			continue
		}
		from := p.resolver.Sender(p.Cases[i].From)
		for _, recipient := range p.deliver(prediction.Group, &from, p.Cases[i].Traits).Recipients() {
			if e.IsPerson(recipient.ID) && recipient.Outcome <= resolve.Waiting &&
				!slices.Contains(p.Touched, recipient.ID) {
				p.Touched = append(p.Touched, recipient.ID)
			}
		}
	}
	slices.SortFunc(p.Touched, func(a, b estate.ID) int { return e.Rank(a) - e.Rank(b) })
}

// Predict returns what is predicted of a case.
func (p *RunPlan) Predict(i int) infer.Prediction {
	for len(p.predictions) <= i {
		t := p.Cases[len(p.predictions)].Trial()
		p.predictions = append(p.predictions, infer.Predict(p.resolver, &t))
	}
	return p.predictions[i]
}

// asked returns those who would be asked to release a message.
func (p *RunPlan) asked(i int) []estate.ID {
	prediction := p.Predict(i)
	if prediction.Group == estate.None || prediction.Verdict != estate.Hold {
		return nil
	}
	people, _ := p.resolver.Approvers(prediction.Group)
	return people
}

// add adds a case, if there is a connection to send it.
func (p *RunPlan) add(c Case) {
	e := p.resolver.Estate()
	sender := c.sender()
	connection, ok := p.connections.Sender(sender, e.InsideDomain(sender.Domain()), c.Kind == Forged)
	if !ok {
		p.note("%s to %s: the connections have no way to send as %s", c.Kind, e.Address(c.Group), sender)
		return
	}
	c.Connection = connection.Name
	p.Cases = append(p.Cases, c)
}

func (p *RunPlan) note(format string, args ...any) {
	note := fmt.Sprintf(format, args...)
	if !slices.Contains(p.Notes, note) {
		p.Notes = append(p.Notes, note)
	}
}

// plan adds the cases of a kind for a group, where somebody can send them.
func (p *RunPlan) plan(group estate.ID, kind Kind) {
	e := p.resolver.Estate()
	g := e.Group(group)
	c := Case{Kind: kind, Group: group, To: g.Address}
	stranger, known := p.stranger()
	switch kind {
	case Outsider:
		if !known {
			p.note("outsider: the connections name no stranger to write from")
			return
		}
		c.From = stranger
	case Moderator:
		people, _ := p.resolver.Approvers(group)
		i := slices.IndexFunc(people, p.sendable)
		if i < 0 {
			return
		}
		c.From = e.Address(people[i])
	case Rule:
		p.planRules(c)
		return
	case SendAs, ReplyGroup:
		p.planSendAs(c, kind, stranger, known)
		return
	case ReplyPerson:
		if !known || !g.Kind.Keeps() && !p.outsidersWrite(group) || !p.someone(&c) {
			return
		}
		c.To = stranger
	default:
		if !p.someone(&c) {
			if !known || kind != Invitation && kind != Attachment {
				return
			}
			c.From = stranger
		}
		c.Traits.Unproven, c.Traits.Invitation = kind == Forged, kind == Invitation
		if kind == Attachment {
			c.Traits.Size = attachmentSize
		}
		if kind == Alias {
			for _, also := range g.Also {
				c.To = also
				p.add(c)
			}
			return
		}
	}
	p.add(c)
}

// someone finds who is to send a case: the first person that all that is asked of
// its kind is true of, or else most of it.
func (p *RunPlan) someone(c *Case) bool {
	var wanted [][]func(group, person estate.ID) bool
	switch c.Kind {
	case Forged:
		wanted = [][]func(estate.ID, estate.ID) bool{{p.admitted, p.member}, {p.member}, {}}
	case Insider:
		wanted = [][]func(estate.ID, estate.ID) bool{{p.notMember, p.admitted}, {p.notMember}}
	case Member:
		wanted = [][]func(estate.ID, estate.ID) bool{{p.member, p.admitted}, {p.member}}
	case Refused:
		wanted = [][]func(estate.ID, estate.ID) bool{{p.refused}}
	case Invitation, Attachment:
		wanted = [][]func(estate.ID, estate.ID) bool{{p.admitted, p.member}, {p.admitted}}
	case Alias:
		wanted = [][]func(estate.ID, estate.ID) bool{{p.admitted}, {}}
	case ReplyPerson:
		wanted = [][]func(estate.ID, estate.ID) bool{{p.member}}
	}
	for _, all := range wanted {
		if id, ok := p.find(c.Group, all...); ok {
			c.From = p.resolver.Estate().Address(id)
			return true
		}
	}
	return false
}

// mostExpected is how many messages of one expectation are sent.
const mostExpected = 2

// planExpected adds cases for an expectation: some of those that it speaks of.
func (p *RunPlan) planExpected(x *expect.Expectation) {
	e := p.resolver.Estate()
	group, _ := e.Find(x.Group)
	added := 0
	for _, try := range expect.Tries(p.resolver, x) {
		c := Case{Kind: Expected, Group: group, From: try.From.Address, To: e.Address(group), Traits: try.Message}
		switch {
		case added == mostExpected:
			return
		case try.Stranger == "outside":
			stranger, ok := p.stranger()
			if !ok || try.Message.Unproven {
				continue
			}
			c.From = stranger
		case try.Message.Unproven:
			c.Kind = Forged
		case try.Stranger != "" || try.From.ID == estate.None || !p.sendable(try.From.ID):
			continue
		}
		if try.Message.Suspect || try.Message.Size > mostPadding {
			p.note(
				"%q: it is not for the sender to make a message suspect, and nothing larger than %d MB is sent",
				x.Text,
				mostPadding/1_000_000,
			)
			continue
		}
		before := len(p.Cases)
		p.add(c)
		added += len(p.Cases) - before
	}
}

// planRules adds a case for each rule of a gate that decides for somebody, and that
// no case so far tries.
func (p *RunPlan) planRules(c Case) {
	tried := map[resolve.Decision]bool{}
	for i := range p.Cases {
		if p.Cases[i].Group == c.Group {
			t := p.Cases[i].Trial()
			if prediction := infer.Predict(p.resolver, &t); prediction.Group == c.Group {
				tried[prediction.Decision()] = true
			}
		}
	}
	e := p.resolver.Estate()
	for _, class := range p.resolver.Gate(c.Group).Decided(resolve.Message{}) {
		if tried[class.Decision] {
			continue
		}
		for it := class.Senders.Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); e.IsPerson(id) && p.sendable(id) {
				c.From = e.Address(id)
				p.add(c)
				break
			}
		}
	}
}

// planSendAs adds the case of somebody who writes in a group's name.
func (p *RunPlan) planSendAs(c Case, kind Kind, stranger address.Address, known bool) {
	e := p.resolver.Estate()
	g := e.Group(c.Group)
	if len(g.SendAs) == 0 || kind == ReplyGroup && !known {
		return
	}
	if g.SendAsProof != estate.ProofNone {
		p.note("%s for %s: it takes a code that is mailed first; use probe send-as", kind, g.Address)
		return
	}
	for _, s := range p.resolver.Rights(c.Group).Delegates().People {
		if e.Inside(s.ID) && p.sendable(s.ID) { // who is outside logs in elsewhere
			c.From, c.By = g.Address, e.Address(s.ID)
			if kind == ReplyGroup {
				c.To = stranger
			}
			p.add(c)
			return
		}
	}
}

// stranger returns an outside address to write from that the estate does not know.
func (p *RunPlan) stranger() (address.Address, bool) {
	for _, a := range p.connections.Strangers {
		if _, known := p.resolver.Estate().Find(a); !known {
			return a, true
		}
	}
	return address.Address{}, false
}

func (p *RunPlan) outsidersWrite(group estate.ID) bool {
	return p.resolver.Gate(group).Post(p.resolver.Strangers().Outside, resolve.Message{}).Verdict == estate.Admit
}

// Describe names a case for people.
func (c *Case) Describe() string {
	text := string(c.Kind) + ": " + c.From.String()
	if c.By.IsValid() {
		text += " by " + c.By.String()
	}
	if c.Traits.Unproven {
		text += " (claimed)"
	}
	return strings.TrimSpace(text + " to " + c.To.String())
}
