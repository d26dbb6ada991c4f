package present

import (
	"iter"
	"strconv"

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
	Others  []string       `json:"others"` // who answered and is no member
	Counts  map[string]int `json:"counts"`
}

// CalledMember is one member and what is known of them.
type CalledMember struct {
	Address string `json:"address"`
	State   string `json:"state"` // answered, delivered, bounced, not yet
	Detail  string `json:"detail"`
}

// NewRollCall tells of a roll call.
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
		p.Line(
			2,
			Span{Strong, "Nothing is sent. "},
			Span{
				Plain,
				a.Caller + " would ask " + count(
					len(a.Members),
					"member",
					"members",
				) + " of " + a.Group + " to answer:",
			},
		)
	} else {
		p.Line(2, append([]Span{{Strong, a.Group + ": "}}, countSpans(a.Counts, []string{probe.Answered, probe.Arrived,
			probe.NotYet, probe.Bounced}, callStyle)...)...)
	}
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
	shown := rows
	if !p.options.All && len(rows) > most+2 {
		shown = rows[:most]
	}
	p.Table(shown)
	if len(shown) < len(rows) {
		p.Line(0, Span{Faint, "  and " + strconv.Itoa(len(rows)-len(shown)) + " more"})
		p.cut = true
	}
	for _, other := range a.Others {
		p.Line(2, Span{Doubtful, "also answered: "}, Span{Plain, other})
	}
	p.Gap()
	if a.Run == "" {
		p.Line(0, Span{Faint, "Add --send to ask them."})
	} else {
		p.Line(0, Span{Faint, "Look again: yorvet rollcall --run " + a.Run})
	}
	p.hint()
}

func (a *RollCall) table() ([]string, iter.Seq[[]string]) {
	return []string{"address", "state", "detail"}, func(yield func([]string) bool) {
		for _, m := range a.Members {
			if !yield([]string{m.Address, m.State, m.Detail}) {
				return
			}
		}
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
	Subject string `json:"subject"`
	Says    string `json:"says"`
}

// NewHeldQueue tells what waits for an approver.
func NewHeldQueue(r *resolve.Resolver, approver address.Address, requests []probe.Request) *HeldQueue {
	n := newNamer(r)
	a := &HeldQueue{Approver: approver.String(), Held: []HeldMessage{}}
	for _, q := range requests {
		a.Held = append(a.Held, HeldMessage{q.Number, n.address(q.Group), q.Subject, q.Text})
	}
	return a
}

func (a *HeldQueue) writeText(p *Page) {
	p.Line(2, Span{Strong, count(len(a.Held), "message waits", "messages wait") + " for " + a.Approver})
	p.Gap()
	for _, m := range a.Held {
		p.Line(4, Span{Strong, "  " + strconv.Itoa(m.Number) + " "}, Span{Plain, m.Group})
		p.Line(4, Span{Faint, "    " + m.Says})
	}
	if len(a.Held) > 0 {
		p.Gap()
		p.Line(0, Span{Faint, "yorvet held admit NUMBER lets one in; yorvet held refuse NUMBER does not."})
	}
}

func (a *HeldQueue) table() ([]string, iter.Seq[[]string]) {
	return []string{"number", "group", "subject", "says"}, func(yield func([]string) bool) {
		for _, m := range a.Held {
			if !yield([]string{strconv.Itoa(m.Number), m.Group, m.Subject, m.Says}) {
				return
			}
		}
	}
}
