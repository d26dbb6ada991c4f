package present

import (
	"strconv"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/probe"
)

// RollCall tells who has answered a message to a group.
type RollCall struct {
	Run     string         `json:"run"` // "" where nothing has been sent
	Group   string         `json:"group"`
	Caller  string         `json:"caller"`
	Members []CalledMember `json:"members"`
	Others  []string       `json:"others"` // who answered and is not a member
	Counts  map[string]int `json:"counts"`
}

// CalledMember is one member and what is known of them.
type CalledMember struct {
	Address string `json:"address"`
	State   string `json:"state"` // answered, delivered, bounced, not yet
	Detail  string `json:"detail"`
}

// NewRollCall reports a roll call.
func NewRollCall(r *resolve.Resolver, c *probe.Call) *RollCall {
	n := newNamer(r)
	a := &RollCall{
		Run:     c.Run,
		Group:   n.address(c.Group),
		Caller:  c.Caller.String(),
		Members: []CalledMember{},
		Others:  append([]string{}, c.Others...),
		Counts:  map[string]int{},
	}
	for _, m := range c.Members {
		a.Members = append(a.Members, CalledMember{n.address(m.Person), m.State, m.Detail})
		a.Counts[m.State]++
	}
	return a
}

var callStates = []string{probe.Bounced, probe.NotYet, probe.Arrived, probe.Answered}

func callStyle(state string) Style {
	switch state {
	case probe.Answered:
		return Good
	case probe.Bounced:
		return Bad
	}
	return Doubtful
}

func (a *RollCall) writeText(p *Page) {
	if a.Run == "" {
		p.Line(2, Span{Strong, "Plan: ask " + count(len(a.Members), "member", "members") + " of " + a.Group +
			" to answer. Nothing is sent without --send."})
		p.Line(2, Span{Plain, "From " + a.Caller + ", who gets the answers"})
		p.Gap()
		for _, m := range a.Members {
			p.Line(2, Span{Plain, "  " + m.Address})
		}
		return
	}
	p.Line(2, Span{Strong, a.Group + ": " + strconv.Itoa(a.Counts[probe.Answered]) + " of " +
		count(len(a.Members), "member has answered", "members have answered")})
	p.Line(2, countSpans(a.Counts, []string{probe.Answered, probe.Arrived, probe.NotYet, probe.Bounced}, callStyle)...)
	p.Gap()
	var rows [][]Span
	for _, state := range callStates {
		for _, m := range a.Members {
			if m.State == state {
				rows = append(rows, []Span{{callStyle(state), state}, {Plain, m.Address}, {Faint, m.Detail}})
			}
		}
	}
	const most = 40
	shown := p.shown(len(rows), most)
	p.Table(rows[:shown])
	p.more(len(rows)-shown, "more")
	for _, other := range a.Others {
		p.Line(2, Span{Doubtful, "also answered: "}, Span{Plain, other})
	}
	p.Gap()
	p.Line(0, Span{Faint, "Look again: yorvet rollcall --run " + a.Run})
}

func (a *RollCall) table(t *table) {
	t.head("address", "state", "detail")
	for _, m := range a.Members {
		t.row(m.Address, m.State, m.Detail)
	}
}

// HeldQueue is what waits for an approver.
type HeldQueue struct {
	Approver string        `json:"approver"`
	Held     []HeldMessage `json:"held"`
}

// HeldMessage is one message that waits.
type HeldMessage struct {
	Number  int    `json:"number"`
	Group   string `json:"group"`
	From    string `json:"from"`    // as the message claims
	Subject string `json:"subject"` // of the message
	Date    string `json:"date"`    // of the message (RFC 3339), or ""
	Size    int    `json:"size"`    // bytes
	Request string `json:"request"` // the subject of the request
	Says    string `json:"says"`    // how the request begins
}

// NewHeldQueue tells what waits for an approver.
func NewHeldQueue(r *resolve.Resolver, approver address.Address, requests []probe.Request) *HeldQueue {
	n := newNamer(r)
	a := &HeldQueue{Approver: approver.String(), Held: []HeldMessage{}}
	for _, q := range requests {
		a.Held = append(a.Held, newHeldMessage(n, q))
	}
	return a
}

func newHeldMessage(n namer, q probe.Request) HeldMessage {
	m := HeldMessage{
		Number: q.Number, Group: n.address(q.Group), Subject: q.Held.Subject, Size: q.Held.Size,
		Request: q.Subject, Says: q.Text,
	}
	if len(q.Held.From) > 0 {
		m.From = q.Held.From[0].String()
	}
	if !q.Held.Date.IsZero() {
		m.Date = q.Held.Date.Format(time.RFC3339)
	}
	return m
}

// Line says what a held message is: who it is from, as it claims, and its subject, date
// and size.
func (m HeldMessage) Line() string {
	from := m.From
	if from == "" {
		from = "nobody in particular"
	}
	text := from + " to " + m.Group + ", \"" + m.Subject + "\""
	if date, err := time.Parse(time.RFC3339, m.Date); err == nil {
		text += ", " + date.Format("2 Jan 2006 15:04")
	}
	return text + ", " + size(m.Size)
}

// size writes a number of bytes; kB and MB are powers of ten.
func size(bytes int) string {
	switch {
	case bytes < 1000:
		return count(bytes, "byte", "bytes")
	case bytes < 1_000_000:
		return strconv.Itoa((bytes+500)/1000) + " kB"
	}
	return strconv.Itoa((bytes+500_000)/1_000_000) + " MB"
}

func (a *HeldQueue) writeText(p *Page) {
	if len(a.Held) == 0 {
		p.Line(2, Span{Strong, "No held message waits for " + a.Approver})
		return
	}
	p.Line(2, Span{Strong, count(len(a.Held), "held message waits", "held messages wait") + " for " + a.Approver})
	p.Gap()
	for _, m := range a.Held {
		p.Line(5, Span{Strong, "  " + strconv.Itoa(m.Number) + "  "}, Span{Plain, m.Line()})
		p.Line(5, Span{Faint, "     " + m.Says})
	}
	p.Gap()
	p.Line(0, Span{Faint, "Decide: yorvet held admit NUMBER --as " + a.Approver + ", or refuse"})
}

func (a *HeldQueue) table(t *table) {
	t.head("number", "group", "from", "subject", "date", "size", "says")
	for _, m := range a.Held {
		t.row(m.Number, m.Group, m.From, m.Subject, m.Date, m.Size, m.Says)
	}
}
