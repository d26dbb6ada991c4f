package present

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"iter"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Expectations says which expectations hold. Very many people may break one: who does is
// worked out when it is shown.
type Expectations struct {
	tried []triedExpectation
}

// triedExpectation is an expectation that was evaluated.
type triedExpectation struct {
	n     namer
	file  string
	x     *expect.Expectation
	holds bool
}

// writeJSON writes the expectations one after the other.
func (a *Expectations) writeJSON(w *jsonStream) { streamList(w, "expectations", a.Each()) }

// Each returns the expectations one after the other, with who breaks them.
func (a *Expectations) Each() iter.Seq[Expectation] {
	return func(yield func(Expectation) bool) {
		for _, one := range a.tried {
			if !yield(one.told()) {
				return
			}
		}
	}
}

// Brief returns the expectations one after the other, each with one who breaks it, if anybody
// does, and with how many do.
func (a *Expectations) Brief() iter.Seq[Expectation] {
	return func(yield func(Expectation) bool) {
		for _, one := range a.tried {
			e := Expectation{File: one.file, Line: one.x.Line, Column: one.x.Column, Text: one.x.Text, Holds: one.holds}
			words := counterWords{n: one.n, x: one.x}
			words.group, _ = one.n.e.Find(one.x.Group)
			e.Group = one.n.address(words.group)
			if !e.Holds {
				expect.Each(one.n.r, one.x, func(c expect.Counterexample) bool {
					if e.Breaking++; e.Breaking == 1 {
						e.Counterexamples = append(e.Counterexamples, words.of(c))
					}
					return e.Breaking < mostBreaking
				})
			}
			if !yield(e) {
				return
			}
		}
	}
}

// An Expectation is one statement, and who breaks it.
type Expectation struct {
	File            string           `json:"file"`
	Line            int              `json:"line"`
	Column          int              `json:"column"`
	Group           string           `json:"group"`
	Text            string           `json:"text"`
	Holds           bool             `json:"holds"`
	Picked          int              `json:"picked"`
	Counterexamples []Counterexample `json:"counterexamples"`

	Breaking int `json:"-"` // in brief: how many break it, mostBreaking at most
}

// mostBreaking is how many are counted who break an expectation.
const mostBreaking = 10_000

// A Counterexample breaks an expectation.
type Counterexample struct {
	Address string `json:"address"`
	Who     string `json:"who"`               // person, outside stranger, inside stranger or forged stranger
	Says    string `json:"says"`              // what is the case instead
	Outcome string `json:"outcome,omitempty"` // of a recipient
	Rule    int    `json:"rule"`              // that decides, where one does
	Place   string `json:"place,omitempty"`
}

// Add evaluates the expectations of a file.
func (a *Expectations) Add(r *resolve.Resolver, file string, list []expect.Expectation) {
	n := newNamer(r)
	for i := range list {
		a.tried = append(a.tried, triedExpectation{n, file, &list[i], expect.Holds(r, &list[i])})
	}
}

// told puts an expectation into words, with all who break it.
func (t triedExpectation) told() Expectation {
	list := []Counterexample{}
	e := t.tell(func(c Counterexample) { list = append(list, c) })
	e.Counterexamples = list
	return e
}

// tell puts an expectation into words, and visits those who break it.
func (t triedExpectation) tell(visit func(Counterexample)) Expectation {
	words := counterWords{n: t.n, x: t.x}
	words.group, _ = t.n.e.Find(t.x.Group)
	met := false
	result := expect.Each(t.n.r, t.x, func(c expect.Counterexample) bool {
		met = true
		visit(words.of(c))
		return true
	})
	if !result.Holds && !met {
		visit(Counterexample{Says: "matches nobody"})
	}
	return Expectation{File: t.file, Line: t.x.Line, Column: t.x.Column, Text: t.x.Text, Group: t.n.address(result.Group),
		Holds: result.Holds, Picked: result.Picked}
}

// Broken returns how many expectations do not hold.
func (a *Expectations) Broken() int {
	broken := 0
	for _, one := range a.tried {
		if !one.holds {
			broken++
		}
	}
	return broken
}

// counterWords puts those who break an expectation into words.
type counterWords struct {
	n       namer
	x       *expect.Expectation
	group   estate.ID
	reasons map[string]Recipient // see reasonsOf; nil: not yet known

	// What the gate says of the last one: it says the same of most.
	decision expect.Counterexample
	judged   Counterexample
	known    bool
}

// of puts one into words.
func (w *counterWords) of(c expect.Counterexample) Counterexample {
	switch w.x.Kind {
	case expect.Judges:
		if !w.known || c.Decision != w.decision.Decision || c.Message != w.decision.Message {
			w.judged, w.decision, w.known = w.n.counterexample(w.x, w.group, c, nil), c, true
		}
		e := w.judged
		e.Who, e.Address = whoBreaks(c)
		return e
	case expect.Reaches, expect.NeverReaches, expect.Invites:
		if w.reasons == nil {
			w.reasons = w.n.reasonsOf(w.x, w.group)
		}
	}
	return w.n.counterexample(w.x, w.group, c, w.reasons)
}

// whoBreaks says who somebody is, and their address if they have one.
func whoBreaks(c expect.Counterexample) (who, address string) {
	who = "person"
	if c.From.IsValid() {
		address = c.From.String()
	}
	if c.Stranger != "" {
		who = c.Stranger + " stranger"
	}
	return who, address
}

// reasonsOf returns why people get, or do not get, the message of an expectation: by address.
func (n namer) reasonsOf(x *expect.Expectation, group estate.ID) map[string]Recipient {
	var from *resolve.Sender
	if x.From.IsValid() {
		sender := n.r.Sender(x.From)
		from = &sender
	}
	reasons := map[string]Recipient{}
	for _, one := range n.recipients(n.r.Deliver(resolve.Query{Group: group, Sender: from, Message: x.Message()})) {
		reasons[one.Address] = one
	}
	return reasons
}

// says tells what comes of a message for a recipient, and why.
func (r Recipient) says() string {
	if delivered(r.Outcome) && !strings.HasPrefix(r.cause.text, r.Outcome) {
		return r.Outcome + ", " + r.cause.text
	}
	return r.cause.text
}

func (n namer) counterexample(
	x *expect.Expectation, group estate.ID, c expect.Counterexample, reasons map[string]Recipient,
) Counterexample {
	var e Counterexample
	e.Who, e.Address = whoBreaks(c)
	g := n.e.Group(group)
	switch x.Kind {
	case expect.Judges:
		d := newDecision(n.e, group, c.Decision)
		e.Says, e.Rule, e.Place = d.Verdict+", "+d.by(), d.Rule, d.Place
		if traits := traitsOf(c.Message); traits != "" {
			e.Says = traits + ": " + e.Says
		}
	case expect.Reaches, expect.NeverReaches, expect.Invites:
		switch {
		case c.Gets:
			reason := reasons[e.Address]
			e.Outcome, e.Says, e.Place = c.Outcome.String(), reason.says(), cmp.Or(reason.cause.place, reason.own)
		case c.Decision.Verdict != estate.Admit:
			d := newDecision(n.e, group, c.Decision)
			e.Says, e.Rule, e.Place = "gets nothing: the "+d.who()+" says "+d.Verdict+", "+d.by(), d.Rule, d.Place
		default:
			e.Says = "no recipient"
		}
	case expect.SendsAs, expect.SendsOnly:
		e.Says, e.Rule = "may not send as it", c.Rule
		if c.SendAs != estate.NoSendAs {
			rule := g.SendAs[c.Rule-1]
			e.Says = "sends " + c.SendAs.String() + " the group, rule " + strconv.Itoa(c.Rule) + ": " + oneLine(rule.Text)
			e.Place = n.position(rule.Place)
		}
	case expect.Approves:
		e.Says = "cannot release held mail"
	case expect.ApprovesAtLeast:
		e.Who, e.Says = "", "only "+count(c.Number, "approver has", "approvers have")+" a mailbox that works"
	}
	return e
}

// traitsOf tells what is special about a message, or "".
func traitsOf(m resolve.Message) string {
	var traits []string
	for _, trait := range []struct {
		is   bool
		name string
	}{{m.Unproven, "unproven"}, {m.Suspect, "suspect"}, {m.Automatic, "automatic"}, {m.Invitation, "an invitation"},
		{m.Size > 0, count(int(m.Size), "byte", "bytes")}} {
		if trait.is {
			traits = append(traits, trait.name)
		}
	}
	return strings.Join(traits, ", ")
}

func (a *Expectations) writeText(p *Page) {
	broken := a.Broken()
	head := []Span{{Strong, count(len(a.tried), "expectation", "expectations")}, {Plain, ": "}}
	if broken == 0 {
		head = append(head, Span{Good, "all hold"})
	} else {
		head = append(head, Span{Bad, strconv.Itoa(broken) + " broken"})
		if hold := len(a.tried) - broken; hold > 0 {
			head = append(head, Span{Plain, ", " + strconv.Itoa(hold) + " hold"})
		}
	}
	p.Line(2, head...)
	for _, one := range a.tried {
		if !one.holds {
			var by brokenBy
			e := one.tell(func(c Counterexample) { by.add(c, p.options.All) })
			p.Gap()
			p.expectation(e, Span{Bad, "broken"})
			p.counterexamples(&by)
		}
	}
	if p.options.All && broken < len(a.tried) {
		p.Gap()
		for e := range a.Each() {
			if e.Holds {
				p.expectation(e, Span{Good, "holds"})
			}
		}
	}
}

// expectation writes a statement, where it stands, and whether it holds.
func (p *Page) expectation(e Expectation, holds Span) {
	place := e.File + ":" + strconv.Itoa(e.Line) + ":" + strconv.Itoa(e.Column)
	p.Line(2, Span{Faint, place}, Span{Plain, "  "}, holds, Span{Plain, "  " + e.Group})
	p.Line(4, Span{Strong, "  " + e.Text})
}

// brokenBy gathers who breaks an expectation: those who break it alike together.
type brokenBy struct {
	n       int
	reasons []*brokenFor
	index   map[brokenReason]*brokenFor
}

type brokenReason struct{ says, place string }

// brokenFor are those who break an expectation for one reason.
type brokenFor struct {
	brokenReason
	n     int
	names []string // of the first, or of all
}

func (b *brokenBy) add(c Counterexample, all bool) {
	name := c.Address
	if label, ok := strangerLabels[c.Who]; ok {
		name += " (" + label + ")"
	}
	r := brokenReason{c.Says, c.Place}
	one := b.index[r]
	if one == nil {
		if b.index == nil {
			b.index = map[brokenReason]*brokenFor{}
		}
		one = &brokenFor{brokenReason: r}
		b.index[r] = one
		b.reasons = append(b.reasons, one)
	}
	b.n++
	if one.n++; all || one.n <= mostShown {
		one.names = append(one.names, name)
	}
}

// counterexamples writes who breaks an expectation, and why.
func (p *Page) counterexamples(by *brokenBy) {
	shown := by.reasons[:p.shown(len(by.reasons), mostShown)]
	left := by.n
	for _, r := range shown {
		left -= r.n
		switch {
		case r.names[0] == "":
			p.LineAt(6, r.place, Span{Plain, "    " + r.says})
		case r.n == 1:
			p.LineAt(6, r.place, Span{Plain, "    " + r.names[0] + ": " + r.says})
		default:
			p.LineAt(6, r.place, Span{Plain, "    " + strconv.Itoa(r.n) + " addresses: " + r.says})
			p.Line(6, Span{Plain, "      " + p.firstOf(r.names, r.n)})
		}
	}
	p.more(left, "more")
}

func (a *Expectations) table(t *table) {
	t.head("file", "line", "group", "text", "holds", "address", "who", "says", "place")
	for e := range a.Each() {
		if e.Holds {
			t.row(e.File, e.Line, e.Group, e.Text, e.Holds, "", "", "", "")
		}
		for _, c := range e.Counterexamples {
			t.row(e.File, e.Line, e.Group, e.Text, e.Holds, c.Address, c.Who, c.Says, c.Place)
		}
	}
}

// story tells who breaks an expectation, a line each.
func (e Expectation) story() string {
	var b strings.Builder
	for _, c := range e.Counterexamples {
		line := c.Says
		if c.Address != "" {
			line = c.Address + " (" + c.Who + "): " + line
		}
		if c.Place != "" {
			line += " at " + c.Place
		}
		b.WriteString(Clean(line) + "\n")
	}
	return b.String()
}

// writeTAP writes TAP version 14.
func (a *Expectations) writeTAP(w io.Writer) error {
	var b bytes.Buffer
	fmt.Fprintf(&b, "TAP version 14\n1..%d\n", len(a.tried))
	i := 0
	for e := range a.Each() {
		i++
		ok := "ok"
		if !e.Holds {
			ok = "not ok"
		}
		description := strings.NewReplacer(`\`, `\\`, "#", `\#`).Replace(Clean(e.Group + " " + e.Text))
		fmt.Fprintf(&b, "%s %d - %s\n", ok, i, description)
		if !e.Holds {
			fmt.Fprintf(&b, "  ---\n  at: %q\n  broken-by:\n", e.File+":"+strconv.Itoa(e.Line))
			for line := range strings.Lines(e.story()) {
				fmt.Fprintf(&b, "    - %q\n", strings.TrimSpace(line))
			}
			b.WriteString("  ...\n")
		}
	}
	_, err := w.Write(b.Bytes())
	return err
}

// junit returns the expectations as tests.
func (a *Expectations) junit() (string, []junitCase) {
	var cases []junitCase
	for e := range a.Each() {
		c := junitCase{Class: Clean(e.Group), Name: Clean(e.Text), File: Clean(e.File), Line: e.Line, Time: "0"}
		if !e.Holds {
			c.Failure = &junitFailure{Message: "broken by " + strconv.Itoa(len(e.Counterexamples)), Text: e.story()}
		}
		cases = append(cases, c)
	}
	return "yorvet expect", cases
}
