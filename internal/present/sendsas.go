package present

import (
	"slices"
	"strconv"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// SendsAs answers who may write in a group's name.
type SendsAs struct {
	Group  string     `json:"group"`
	People []Delegate `json:"people"`
	Reader Reader     `json:"reader"`

	none string // why nobody may, and what would serve
}

// A Delegate is a person who may send as the group.
type Delegate struct {
	Address string `json:"address"`
	SendAs  string `json:"sends"`
	Rule    int    `json:"rule"`
	Proof   string `json:"proof"` // not-needed, possible or impossible
	Why     string `json:"why"`
	Written string `json:"written"` // the rule as written
	Place   string `json:"place,omitempty"`
	Fix     string `json:"fix,omitempty"` // what to change where the proof is impossible

	cause cause
	own   string
}

// Reason is Why without the place.
func (d *Delegate) Reason() string { return d.cause.text }

// Reader is what the reader of a message in the group's name sees.
type Reader struct {
	From     string `json:"from"`
	As       string `json:"as"`       // Sender, where they send as it
	For      string `json:"for"`      // Sender, where they send for it
	AnswerTo string `json:"answerTo"` // where an answer goes
	Private  bool   `json:"private"`  // whether a member's own address shows in some such message
}

// NewSendsAs asks who may write in the name of a group.
func NewSendsAs(r *resolve.Resolver, group estate.ID) *SendsAs {
	n := newNamer(r)
	g := n.e.Group(group)
	a := &SendsAs{Group: n.address(group), People: []Delegate{}}
	delegates := r.Rights(group).Delegates()
	for _, s := range delegates.People {
		rule := g.SendAs[s.Rule-1]
		delegate := Delegate{Address: n.address(s.ID), SendAs: s.SendAs.String(), Rule: s.Rule, Proof: s.Proof.String(),
			Written: oneLine(rule.Text), Place: n.position(rule.Place)}
		delegate.cause, delegate.own, delegate.Fix = n.proof(delegates, s)
		delegate.Why = delegate.cause.text
		if place := delegate.cause.place + delegate.own; place != "" {
			delegate.Why += " (" + place + ")"
		}
		a.People = append(a.People, delegate)
		if s.SendAs == estate.ForGroup {
			a.Reader.For = "the person who writes"
			a.Reader.Private = true
		}
	}
	a.Reader.From, a.Reader.AnswerTo = a.Group, a.Group
	if g.Kind == estate.Roster {
		a.Reader.AnswerTo = "nowhere: a roster accepts no mail"
	}
	if len(a.People) == 0 {
		a.none = n.silence(group, g)
	}
	return a
}

// silence tells why nobody may send as a group, and what would serve.
func (n namer) silence(id estate.ID, g *estate.Group) string {
	switch {
	case len(g.SendAs) == 0 && g.Kind == estate.Roster:
		return "It is a roster, and answers to it would be refused: a forum or a mailbox " +
			"would serve, for example with send-as: [as members]."
	case len(g.SendAs) == 0 && g.Kind == estate.List:
		return "To allow it: yorvet group set " + n.address(id) + " \"send-as=as owners\". A list has no archive: " +
			"if several people answer, a forum or a mailbox serves better, as each sees what the others wrote."
	case len(g.SendAs) == 0:
		return "To allow it: yorvet group set " + n.address(id) + " \"send-as=as owners\""
	}
	return "The send-as rules of the group match no person."
}

// proof tells whether the ownership code reaches a delegate, what stands in the
// path, and what to change.
func (n namer) proof(delegates *resolve.Delegates, s resolve.Delegate) (c cause, own, fix string) {
	g := n.e.Group(delegates.Group)
	where := n.position(g.Where("send-as-proof"))
	switch {
	case s.Proof == resolve.ProofNotNeeded:
		return cause{text: "no proof is needed"}, "", ""
	case delegates.Code == nil:
		return cause{
			text:  "the estate has no code-sender",
			place: where,
		}, "", "name the code-sender, or set send-as-proof to none"
	case delegates.Code.Verdict != estate.Admit:
		said := newDecision(n.e, delegates.Group, *delegates.Code)
		return cause{
				text:  "the " + said.who() + " does not admit the code: " + said.byIn(),
				place: said.at(),
			}, "",
			"put \"admit " + n.e.Settings().CodeSender.String() + "\" " + before(said)
	case s.Receipt == nil:
		return cause{
			text:  "the code is mailed to the group, and they are not a member",
			place: where,
		}, "", "make them a member, or let somebody else send"
	}
	c, own = n.why(delegates.Delivery, *s.Receipt)
	if s.Proof == resolve.ProofPossible {
		c.text = "the code reaches them: " + c.text
		return c, own, ""
	}
	c.text = "the code does not reach them: " + s.Receipt.Outcome.String() + ", " + c.text
	fixes := map[resolve.Outcome]string{
		resolve.Digest:        "set their copy to every until they have the code",
		resolve.Waiting:       "let the nested group's gate admit " + n.e.Settings().CodeSender.String(),
		resolve.Stopped:       "let the nested group's gate admit " + n.e.Settings().CodeSender.String(),
		resolve.Nothing:       "set their copy to every, or make the group a forum, where they can read it",
		resolve.Undeliverable: "repair their mailbox",
	}
	return c, own, fixes[s.Receipt.Outcome]
}

// before says where in a gate a rule has to stand to decide first.
func before(d Decision) string {
	if d.Edge > 0 {
		return "into the gate, and leave that address out of edge rule " + strconv.Itoa(d.Edge)
	}
	if d.Rule == 0 {
		return "into the gate"
	}
	return "before rule " + strconv.Itoa(d.Rule)
}

func (a *SendsAs) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	if len(a.People) == 0 {
		p.Line(2, Span{Plain, a.none})
		return
	}
	hindered := a.hindered()
	for i, h := range hindered {
		if i > 0 {
			p.Gap()
		}
		text := "! " + h.cause.text
		if len(hindered) > 1 || len(h.people) < len(a.People) {
			text = "! " + count(len(h.people), "person", "people") + ": " + h.cause.text
		}
		p.LineAt(2, h.place(), Span{Bad, text})
		if len(hindered) > 1 || len(h.people) < len(a.People) {
			p.Line(2, Span{Plain, "  " + p.some(h.people)})
		}
		p.Line(2, Span{Plain, "  fix: " + h.fix})
	}
	p.Gap()
	p.Title("Who may")
	for _, b := range a.rights() {
		p.block(b)
	}
	p.Gap()
	p.Title("What the reader sees")
	rows := [][]Span{{{Faint, "From"}, {Plain, a.Reader.From}}}
	sendAs := map[string]bool{}
	for _, s := range a.People {
		sendAs[s.SendAs] = true
	}
	if sendAs["as"] {
		rows = append(rows, []Span{{Faint, "as"}, {Plain, "no Sender: nobody's own address shows"}})
	}
	if sendAs["for"] {
		rows = append(rows, []Span{{Faint, "for"}, {Plain, "Sender is the person who writes: their own address shows"}})
	}
	rows = append(rows, []Span{{Faint, "answer"}, {Plain, "goes to " + a.Reader.AnswerTo + "; there is no Reply-To"}})
	p.Table(rows)
}

// answer is the first line: true by itself.
func (a *SendsAs) answer() string {
	if len(a.People) == 0 {
		return a.Group + ": nobody may send as it"
	}
	line := a.Group + ": " + count(len(a.People), "person", "people") + " may send as it"
	counts := map[string]int{}
	for _, s := range a.People {
		counts[s.Proof]++
	}
	switch n := counts[resolve.ProofImpossible.String()]; {
	case counts[resolve.ProofNotNeeded.String()] > 0:
		return line + ", no proof is needed"
	case n == 0:
		return line + " and can get the code"
	case n < len(a.People):
		return line + ", but " + strconv.Itoa(n) + " of them cannot get the code"
	case n == 1:
		return line + ", but cannot get the code"
	}
	return line + ", but none of them can get the code"
}

// hindrance is why some people cannot get the ownership code, and what to change.
type hindrance struct {
	cause  cause
	own    string
	fix    string
	people []string
}

func (h hindrance) place() string {
	if h.cause.place == "" && len(h.people) == 1 {
		return h.own
	}
	return h.cause.place
}

// hindered gathers those who cannot get the code by what stands in the way.
func (a *SendsAs) hindered() []hindrance {
	type key struct {
		cause cause
		fix   string
	}
	index := map[key]int{}
	var list []hindrance
	for _, s := range a.People {
		if s.Proof != resolve.ProofImpossible.String() {
			continue
		}
		k := key{s.cause, s.Fix}
		i, ok := index[k]
		if !ok {
			i = len(list)
			index[k] = i
			list = append(list, hindrance{cause: s.cause, own: s.own, fix: s.Fix})
		}
		list[i].people = append(list[i].people, s.Address)
	}
	slices.SortStableFunc(list, func(x, y hindrance) int { return len(y.people) - len(x.people) })
	return list
}

// rights gathers people by the rule that gives them their right.
func (a *SendsAs) rights() []block {
	index := map[int]int{}
	var blocks []block
	for _, s := range a.People {
		i, ok := index[s.Rule]
		if !ok {
			i = len(blocks)
			index[s.Rule] = i
			blocks = append(blocks, block{word: Span{Strong, s.SendAs}, text: "rule " + strconv.Itoa(s.Rule) + ", " + s.Written,
				place: s.Place})
		}
		blocks[i].people = append(blocks[i].people, s.Address)
	}
	return blocks
}

func (a *SendsAs) table(t *table) {
	t.head("group", "address", "send-as", "rule", "proof", "why", "fix", "place")
	for _, s := range a.People {
		t.row(a.Group, s.Address, s.SendAs, s.Rule, s.Proof, s.Why, s.Fix, s.Place)
	}
}
