package present

import (
	"iter"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Receives answers who receives the mail of a group.
type Receives struct {
	Group      string      `json:"group"`
	From       string      `json:"from,omitempty"`
	*Decision              // absent without a sender
	Recipients []Recipient `json:"recipients"`

	name string
}

// A Recipient is somebody and what they get of a message.
type Recipient struct {
	Address string   `json:"address"`
	Outcome string   `json:"outcome"`
	Via     []string `json:"via"`
	Why     string   `json:"why"`
}

// NewReceives lays a message out from a group; s is nil for no sender in
// particular.
func NewReceives(r *resolve.Resolver, group estate.ID, s *resolve.Sender, m resolve.Message) *Receives {
	n := newNamer(r)
	a := &Receives{Group: n.address(group), name: groupName(n.e.Group(group))}
	if s != nil {
		decision := newDecision(n.e, group, r.Judge(group, *s, m))
		a.From, a.Decision = s.Address.String(), &decision
	} else if n.e.Group(group).Kind == estate.Roster {
		decision := newDecision(n.e, group, resolve.Decision{Verdict: estate.Refuse})
		a.Decision = &decision
	}
	a.Recipients = n.recipients(r.Deliver(group, s, m))
	return a
}

func (n namer) recipients(d *resolve.Delivery) []Recipient {
	list := make([]Recipient, len(d.Recipients))
	chains := d.Chains(n.address)
	for i, recipient := range d.Recipients {
		list[i] = Recipient{
			Address: n.address(recipient.ID),
			Outcome: recipient.Outcome.String(),
			Via:     chains.Of(d.Way(recipient)),
			Why:     n.why(d, recipient),
		}
	}
	return list
}

func (a *Receives) writeText(p *Page) {
	p.Line(2, Span{Strong, "Who receives " + a.Group}, Span{Faint, "  " + a.name})
	p.Gap()
	if a.Decision != nil {
		from := "Mail to it"
		if a.From != "" {
			from = "From " + a.From
		}
		p.Line(2, Span{Plain, from + ": "}, verdictSpan(*a.Decision), Span{Plain, ", " + a.by() + " "}, Span{Faint, a.at()})
		if a.Verdict != estate.Admit.String() {
			p.Line(2, Span{Plain, "What follows is what would happen if it were let in."})
		}
		p.Gap()
	}
	p.recipients(a.Recipients)
}

// at returns the place of the rule that decides in parentheses.
func (d Decision) at() string {
	if d.Rule == 0 {
		return ""
	}
	return "(" + placeOf(d.Place) + ")"
}

// outcomeOrder is the order in which outcomes are listed: what is wrong first.
var outcomeOrder = []string{"undeliverable", "stopped", "waiting", "nothing", "archive", "digest", "inbox"}

// recipients writes counts, then those who get nothing delivered, then the rest.
func (p *Page) recipients(list []Recipient) {
	counts := map[string]int{}
	byOutcome := map[string][][]Span{}
	for _, r := range list {
		counts[r.Outcome]++
		row := []Span{{outcomeStyle(r.Outcome), r.Outcome}, {Plain, r.Address}, {Faint, r.Why}}
		if len(r.Via) > 1 {
			row[2].Text = "via " + strings.Join(r.Via[1:], ", ") + ": " + r.Why
		}
		byOutcome[r.Outcome] = append(byOutcome[r.Outcome], row)
	}
	if len(list) == 0 {
		p.Line(2, Span{Bad, "Nobody"}, Span{Plain, " receives it."})
		return
	}
	words := slices.Clone(resolve.OutcomeWords)
	p.Line(2, append([]Span{{Plain, count(len(list), "address", "addresses") + ": "}}, countSpans(counts, words, outcomeStyle)...)...)
	var exceptions, rest [][]Span
	for i, outcome := range outcomeOrder {
		if i < 4 {
			exceptions = append(exceptions, byOutcome[outcome]...)
		} else {
			rest = append(rest, byOutcome[outcome]...)
		}
	}
	p.list("Not delivered", exceptions, mostExceptions)
	p.list("Delivered", rest, mostRest)
}

func (a *Receives) table() ([]string, iter.Seq[[]string]) {
	return []string{"group", "from", "verdict", "rule", "address", "outcome", "via", "why"}, func(yield func([]string) bool) {
		verdict, rule := "", ""
		if a.Decision != nil {
			verdict, rule = a.Verdict, strconv.Itoa(a.Rule)
		}
		for _, r := range a.Recipients {
			if !yield([]string{a.Group, a.From, verdict, rule, r.Address, r.Outcome, strings.Join(r.Via, " > "), r.Why}) {
				return
			}
		}
	}
}
