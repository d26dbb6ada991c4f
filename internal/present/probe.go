package present

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/probe"
)

// ProbePlan is what a probe would send, and who would find it.
type ProbePlan struct {
	Cases   []PlannedCase `json:"cases"`
	Touched []string      `json:"touched"` // who would find a test message in their mailbox
	// Unwatched would get something, and their mailbox is not looked into.
	Unwatched []string `json:"unwatched"`
	Notes     []string `json:"notes"` // what cannot be tried, and why
	Limit     int      `json:"limit"` // how many a run may touch
	// Machines are who works on it: this one, and the agents of the store that are alive.
	Machines []RunAgent `json:"machines"`

	senders, lookers map[string]int // messages and mailboxes, by connection
}

// PlannedCase is one message of a plan.
type PlannedCase struct {
	Case       string         `json:"case"`
	Kind       string         `json:"kind"`
	From       string         `json:"from"`
	By         string         `json:"by,omitempty"`
	To         string         `json:"to"`
	Connection string         `json:"connection"`
	Predicted  string         `json:"predicted"`
	Rule       int            `json:"rule"`
	Receives   map[string]int `json:"receives"`

	group string
}

// NewProbePlan describes a plan.
func NewProbePlan(r *resolve.Resolver, p *probe.RunPlan, limit int, machines []RunAgent) *ProbePlan {
	n := newNamer(r)
	a := &ProbePlan{
		Cases:   []PlannedCase{},
		Touched: n.addresses(p.Touched), Unwatched: n.addresses(p.Unwatched),
		Notes: append([]string{}, p.Notes...),
		Limit: limit, Machines: machines, senders: map[string]int{}, lookers: p.Lookers(),
	}
	for i := range p.Cases {
		c := &p.Cases[i]
		a.senders[c.Connection]++
		prediction := p.Predict(i)
		one := PlannedCase{Case: c.Name, Kind: string(c.Kind), From: c.From.String(), To: c.To.String(), Connection: c.Connection,
			Predicted: prediction.Verdict.String(), Rule: prediction.Rule, Receives: map[string]int{}, group: n.address(c.Group)}
		if c.By.IsValid() {
			one.By = c.By.String()
		}
		for _, outcome := range prediction.Outcomes {
			one.Receives[outcome.String()]++
		}
		a.Cases = append(a.Cases, one)
	}
	return a
}

func (a *ProbePlan) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	if n := len(a.Unwatched); n > 0 {
		p.Line(2, Span{Doubtful, "! " + count(n, "mailbox", "mailboxes") + " of those who would get some cannot be " +
			"looked into: "},
			Span{Plain, p.some(a.Unwatched)})
	}
	if work := a.Work(); len(a.Machines) > 1 && len(work) > 0 {
		p.Gap()
		p.Title("Who works on it")
		for _, line := range work {
			p.Line(4, Span{Plain, "  " + line})
		}
	}
	a.writeCases(p)
	a.writeNotes(p)
	p.Gap()
	if len(a.Touched) > a.Limit {
		text := "the connections allow " + count(a.Limit, "person", "people") +
			". Choose groups or kinds, or raise limits: people."
		p.Line(2, Span{Bad, "! Too many: "}, Span{Plain, text})
	}
}

// answer is the first line: true by itself.
func (a *ProbePlan) answer() string {
	groups := map[string]bool{}
	for _, c := range a.Cases {
		groups[c.group] = true
	}
	if len(a.Cases) == 0 {
		return "Plan: no test message to send."
	}
	return "Plan: " + count(len(a.Cases), "test message", "test messages") + " to " +
		count(len(groups), "group", "groups") +
		"; " + count(len(a.Touched), "person", "people") + " would get some. Nothing is sent without --send."
}

// Work says for each machine what of the plan it sends and looks into.
func (a *ProbePlan) Work() (lines []string) {
	for _, m := range a.Machines {
		var parts []string
		for _, way := range m.Sends {
			if n := a.senders[way]; n > 0 {
				parts = append(parts, "can send "+count(n, "message", "messages")+" by "+way)
			}
		}
		for _, boxes := range m.Looks {
			if n := a.lookers[boxes]; n > 0 {
				parts = append(parts, "can look into "+count(n, "mailbox", "mailboxes")+" by "+boxes)
			}
		}
		if len(parts)+len(m.Problem) == 0 {
			continue // it has none of the connections
		}
		text := m.Host + ": " + strings.Join(parts, ", ")
		if m.Problem != "" {
			text += " (" + m.Problem + ")"
		}
		lines = append(lines, text)
	}
	return lines
}

// Blind says which mailboxes nobody can look into.
func (a *ProbePlan) Blind() string {
	few := a.Unwatched[:min(len(a.Unwatched), firstShown)]
	text := count(len(a.Unwatched), "mailbox", "mailboxes") + " of those who would get some cannot be looked into by anybody: " +
		strings.Join(few, ", ")
	if more := len(a.Unwatched) - len(few); more > 0 {
		text += " and " + strconv.Itoa(more) + " more"
	}
	return text
}

// writeCases lists the messages by group.
func (a *ProbePlan) writeCases(p *Page) {
	group := ""
	shown := a.Cases[:p.shown(len(a.Cases), 30)]
	var rows [][]Span
	flush := func() {
		if len(rows) > 0 {
			p.Table(rows)
			rows = nil
		}
	}
	for _, c := range shown {
		if c.group != group {
			flush()
			group = c.group
			p.Gap()
			p.Line(2, Span{Strong, group})
		}
		from := c.From
		if c.By != "" {
			from = c.By + " as " + c.From
		}
		gets := ""
		if n := c.Receives["inbox"] + c.Receives["digest"]; n > 0 {
			gets = strconv.Itoa(n) + " get it"
		}
		rows = append(
			rows,
			[]Span{
				{Faint, c.Case},
				{Plain, c.Kind},
				{Plain, from},
				{verdictStyle(c.Predicted), c.Predicted},
				{Faint, gets},
			},
		)
	}
	flush()
	p.more(len(a.Cases)-len(shown), "more")
}

// writeNotes lists what cannot be tried.
func (a *ProbePlan) writeNotes(p *Page) {
	if len(a.Notes) > 0 {
		p.Gap()
	}
	p.first(len(a.Notes), 6, "more that cannot be tried", func(i int) {
		p.Line(2, Span{Doubtful, "left out: "}, Span{Plain, a.Notes[i]})
	})
}

func (a *ProbePlan) table(t *table) {
	t.head("case", "kind", "from", "by", "to", "connection", "predicted", "rule")
	for _, c := range a.Cases {
		t.row(c.Case, c.Kind, c.From, c.By, c.To, c.Connection, c.Predicted, c.Rule)
	}
}

// Probe is what a run of probes saw.
type Probe struct {
	Run            string        `json:"run"`
	Cases          []ProbeCase   `json:"cases"`
	Members        []ProbeMember `json:"members"`
	AsPredicted    int           `json:"asPredicted"`
	NotAsPredicted int           `json:"notAsPredicted"`
	NotSent        int           `json:"notSent"`     // messages that no group has had to do with
	NotLookedAt    int           `json:"notLookedAt"` // checks of which nothing can be said
	Reasons        []ProbeReason `json:"reasons"`     // what servers said of what is not as predicted
	Causes         []ProbeCause  `json:"causes"`
	Unexplained    int           `json:"unexplained"`   // differences that no change to the estate explains
	NotLookedInto  []string      `json:"notLookedInto"` // mailboxes that were not gone through to the end, and why
	Notes          []string      `json:"notes"`
	Ended          bool          `json:"ended"` // false: it was ended before its time, or is under way
	// UnderWay is how far a run is that others work on; nil: nobody does.
	UnderWay *Runs `json:"underWay,omitempty"`

	settled int      // differences that servers say the cause of
	late    []string // groups that servers came to know meanwhile
}

// ProbeReason is what a server said of what is not as predicted.
type ProbeReason struct {
	Words string   `json:"words"`          // of the server
	Says  string   `json:"says,omitempty"` // what they come to, where that is no setting of the estate
	Cases []string `json:"cases"`
	Who   []string `json:"who,omitempty"` // members that it is about
}

// ProbeCase is what became of one message.
type ProbeCase struct {
	Case        string      `json:"case"`
	Kind        string      `json:"kind"`
	Group       string      `json:"group"`
	From        string      `json:"from"`
	By          string      `json:"by,omitempty"`
	To          string      `json:"to"`
	Predicted   string      `json:"predicted"`
	Seen        string      `json:"seen"`
	AsPredicted bool        `json:"asPredicted"`
	Sent        string      `json:"sent"`          // accepted, refused, deferred, not sent; "" where nobody knows
	Why         string      `json:"why,omitempty"` // it was not sent, or nothing can be said
	Reply       string      `json:"reply"`         // of the server that it was handed to
	Reader      *probe.View `json:"reader,omitempty"`
	Facets      []Facet     `json:"facets"` // what readers see, beside what was predicted

	explained bool // a cause explains the verdict
	unlooked  bool
}

// Unlooked reports whether nothing can be said of the message.
func (c *ProbeCase) Unlooked() bool { return c.unlooked }

// Facet is one thing that a reader sees of a message.
type Facet struct {
	Name        string `json:"name"`
	Predicted   string `json:"predicted"`
	Seen        string `json:"seen"`
	AsPredicted bool   `json:"asPredicted"`
	Reader      string `json:"reader"` // in whose mailbox
	AsIf        *AsIf  `json:"asIf,omitempty"`
}

// ProbeMember is what one mailbox got of one message.
type ProbeMember struct {
	Case        string  `json:"case"`
	Address     string  `json:"address"`
	Predicted   string  `json:"predicted"`
	Seen        string  `json:"seen"`
	AsPredicted bool    `json:"asPredicted"`
	Seconds     float64 `json:"seconds"`
	Where       string  `json:"where"`
	Why         string  `json:"why,omitempty"` // it was not looked at, or what a bounce says

	index     int
	unlooked  bool
	explained bool // a cause explains it
}

// Unlooked reports whether nothing can be said of the mailbox.
func (m *ProbeMember) Unlooked() bool { return m.unlooked }

// ProbeCause is what explains a difference.
type ProbeCause struct {
	Explains int      `json:"explains"` // differences, each counted with one cause
	Cases    []string `json:"cases"`
	AsIf     []AsIf   `json:"asIf"` // equally good, the likeliest first

	example  string // of what it explains
	messages int    // in which the differences are
}

// AsIf is a change under which all would have been predicted.
type AsIf struct {
	Says    string `json:"says"`
	Group   string `json:"group,omitempty"`
	Person  string `json:"person,omitempty"`
	Setting string `json:"setting"`
	Value   string `json:"value"`
	YAML    string `json:"yaml"`
}

// NewProbe tells what a run saw.
func NewProbe(r *resolve.Resolver, j *probe.Judgement) *Probe {
	n := newNamer(r)
	a := &Probe{
		Run:           j.Run.Plan.Run,
		Cases:         []ProbeCase{},
		Members:       []ProbeMember{},
		Reasons:       []ProbeReason{},
		Causes:        []ProbeCause{},
		NotLookedInto: []string{},
		Notes:         append([]string{}, j.Run.Plan.Notes...),
		Ended:         !j.Run.Broken,
	}
	a.AsPredicted, a.NotAsPredicted, a.NotLookedAt = j.Counts()
	a.Unexplained = a.NotAsPredicted
	a.addCases(n, j)
	for i := range j.Members {
		m := &j.Members[i]
		name := a.Cases[m.Case].Case
		one := ProbeMember{Case: name, Address: m.Address, Predicted: m.Predicted, Seen: m.Seen, AsPredicted: m.AsPredicted,
			Seconds: m.Seconds, Where: m.Where, Why: m.Why, index: m.Case, unlooked: m.Unlooked}
		a.Members = append(a.Members, one)
	}
	for i := range j.Cases {
		if after := j.Run.Replies[i].KnownAfter; after > 0 {
			note := fmt.Sprintf("The server knows %s since %.0f s after the first try", j.Cases[i].Case.To, after)
			a.late = append(a.late, note)
			a.Notes = append(a.Notes, note)
		}
	}
	for i := range j.Reasons {
		a.addReason(&j.Reasons[i])
	}
	for _, cause := range j.Causes {
		one := n.cause(j, cause)
		one.Explains, one.messages = a.markExplained(n, j, cause)
		one.example = a.example(n, j, cause)
		a.Causes = append(a.Causes, one)
		a.Unexplained -= one.Explains
	}
	for _, box := range j.Run.Boxes {
		if box.Problem != "" && !box.Through {
			a.NotLookedInto = append(a.NotLookedInto, box.Account+": "+strings.TrimPrefix(box.Problem, box.Account+": "))
		}
	}
	sort.Strings(a.NotLookedInto)
	return a
}

// addReason adds what a server said, and marks what it settles: of a message as a whole, all that
// follows from it.
func (a *Probe) addReason(r *probe.Reason) {
	const longest = 300
	one := ProbeReason{Words: cutAt(oneLine(r.Words), longest), Says: r.Says, Cases: []string{}, Who: r.Who}
	settle := func(explained *bool) {
		if r.Settles() && !*explained {
			*explained = true
			a.settled++
			a.Unexplained--
		}
	}
	for _, number := range r.Cases {
		c := &a.Cases[number]
		one.Cases = append(one.Cases, c.Case)
		if r.Who == nil && !c.AsPredicted && !c.unlooked {
			settle(&c.explained)
		}
		for i := range a.Members {
			m := &a.Members[i]
			if m.index == number && !m.AsPredicted && !m.unlooked && (r.Who == nil || slices.Contains(r.Who, m.Address)) {
				settle(&m.explained)
			}
		}
	}
	a.Reasons = append(a.Reasons, one)
}

// cutAt returns the beginning of a text, so many bytes at most.
func cutAt(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "") + " ..."
}

// addCases adds what became of the messages.
func (a *Probe) addCases(n namer, j *probe.Judgement) {
	for i := range j.Cases {
		c := &j.Cases[i]
		one := ProbeCase{
			Case:        c.Case.Name,
			Kind:        string(c.Case.Kind),
			Group:       n.address(c.Case.Group),
			From:        c.Case.From.String(),
			To:          c.Case.To.String(),
			Predicted:   c.Predicted.String(),
			Seen:        c.Seen,
			AsPredicted: c.AsPredicted,
			Sent:        c.Sent,
			Why:         c.Why,
			Reply:       c.Reply,
			Reader:      c.View,
			Facets:      []Facet{},
			unlooked:    c.Unlooked,
		}
		if c.Seen == probe.NotSent || c.Seen == probe.Deferred {
			a.NotSent++
			a.NotLookedAt--
		}
		for _, f := range c.Facets {
			one.Facets = append(one.Facets, n.facet(f))
			if f.AsIf != nil {
				a.Unexplained--
			}
		}
		if c.Case.By.IsValid() {
			one.By = c.Case.By.String()
		}
		a.Cases = append(a.Cases, one)
	}
}

// facet words one thing that a reader sees.
func (n namer) facet(f probe.Facet) Facet {
	one := Facet{Name: f.Name, Predicted: f.Predicted, Seen: f.Seen, AsPredicted: f.AsPredicted, Reader: f.Reader}
	if f.AsIf != nil {
		asIf := n.asIf(f.AsIf)
		one.AsIf = &asIf
	}
	return one
}

func (a *Probe) table(t *table) {
	t.head("case", "kind", "from", "to", "address", "predicted", "seen", "as-predicted", "seconds", "where", "why", "reply")
	for i, c := range a.Cases {
		t.row(c.Case, c.Kind, c.From, c.To, "", c.Predicted, c.Seen, c.AsPredicted, "", "", c.Why, c.Reply)
		for _, m := range a.Members {
			if m.index == i {
				t.row(c.Case, c.Kind, c.From, c.To, m.Address, m.Predicted, m.Seen, m.AsPredicted,
					fmt.Sprintf("%.1f", m.Seconds), m.Where, m.Why, "")
			}
		}
	}
}

// junit returns the verdicts and mailboxes as tests.
func (a *Probe) junit() (string, []junitCase) {
	var cases []junitCase
	add := func(c ProbeCase, name, predicted, seen string, ok, unlooked bool, why string, seconds float64) {
		one := junitCase{Class: Clean(c.Group), Name: Clean(name), Time: fmt.Sprintf("%.1f", seconds)}
		switch {
		case unlooked:
			one.Failure = &junitFailure{Message: Clean("not looked at: " + why), Text: Clean(c.Reply)}
		case !ok:
			one.Failure = &junitFailure{
				Message: Clean("predicted " + predicted + ", seen " + seen),
				Text:    Clean(c.Reply),
			}
		}
		cases = append(cases, one)
	}
	for i, c := range a.Cases {
		name := c.Case + " " + c.Kind + " from " + c.From
		add(c, name, c.Predicted, c.Seen, c.AsPredicted, c.unlooked, c.Why, 0)
		for _, f := range c.Facets {
			add(c, name+": "+f.Name, quoted(f.Predicted), quoted(f.Seen), f.AsPredicted, false, "", 0)
		}
		for _, m := range a.Members {
			if m.index == i {
				add(c, name+": "+m.Address, m.Predicted, m.Seen, m.AsPredicted, m.unlooked, m.Why, m.Seconds)
			}
		}
	}
	return "yorvet probe", cases
}
