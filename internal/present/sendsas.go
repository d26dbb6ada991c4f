package present

import (
	"iter"
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

	folder string
	none   string // why nobody may, and what would serve
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

// Reader is what the reader of a message in the group's name sees.
type Reader struct {
	From     string `json:"from"`
	As       string `json:"as"`       // Sender, where they send as it
	For      string `json:"for"`      // Sender, where they send for it
	AnswerTo string `json:"answerTo"` // where an answer goes
	Private  bool   `json:"private"`  // whether a member's own address shows in some such message
}

// NewSpeaks asks who may write in the name of a group.
func NewSendsAs(r *resolve.Resolver, group estate.ID) *SendsAs {
	n := newNamer(r)
	g := n.e.Group(group)
	a := &SendsAs{Group: n.address(group), People: []Delegate{}, folder: n.folder()}
	delegates := r.Delegates(group)
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
		a.Reader.AnswerTo = "nowhere: a roster takes no mail"
	}
	if len(a.People) == 0 {
		a.none = n.silence(g)
	}
	return a
}

// silence tells why nobody may send as a group, and what would serve.
func (n namer) silence(g *estate.Group) string {
	switch {
	case len(g.SendAs) == 0 && g.Kind == estate.Roster:
		return "It is a roster, and answers to it would be refused: a forum or a mailbox " +
			"would serve, with send-as such as [as members]."
	case len(g.SendAs) == 0 && g.Kind == estate.List:
		return "To let people send as it: send-as: [as owners] or [for members]. A list keeps nothing: where several " +
			"people answer, a forum or a mailbox serves better, as each sees what the others wrote."
	case len(g.SendAs) == 0:
		return "To let people send as it: send-as: [as owners] or [for members]."
	}
	return "The send-as rules of the group fit no person of the estate."
}

// proof tells whether the ownership code reaches a delegate, what stands in the
// way, and what to change.
func (n namer) proof(delegates *resolve.Delegates, s resolve.Delegate) (c cause, own, fix string) {
	g := n.e.Group(delegates.Group)
	where := n.position(g.Where("send-as-proof"))
	switch {
	case s.Proof == resolve.ProofNotNeeded:
		return cause{text: "the group asks for no proof"}, "", ""
	case delegates.Code == nil:
		return cause{
			text:  "the estate has no code-sender",
			place: where,
		}, "", "name the code-sender, or set send-as-proof to none"
	case delegates.Code.Verdict != estate.Admit:
		said := newDecision(n.e, delegates.Group, *delegates.Code)
		return cause{
				text:  "the gate does not admit the code: " + said.Verdict + ", " + said.by(),
				place: said.Place,
			}, "",
			"put \"admit " + n.e.Settings().CodeSender.String() + "\" before that rule of the gate"
	case s.Receipt == nil:
		return cause{
			text:  "the code is mailed to the group, and they are no member",
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
		resolve.Digest:        "set their copy to every for as long as it takes",
		resolve.Waiting:       "let the nested group's gate admit " + n.e.Settings().CodeSender.String(),
		resolve.Stopped:       "let the nested group's gate admit " + n.e.Settings().CodeSender.String(),
		resolve.Nothing:       "set their copy to every, or make the group a forum, where they can read it",
		resolve.Undeliverable: "have their mailbox repaired",
	}
	return c, own, fixes[s.Receipt.Outcome]
}

func (a *SendsAs) writeText(p *Page) {
	p.folder = a.folder
	p.Line(2, Span{Strong, a.answer()})
	if len(a.People) == 0 {
		p.Line(2, Span{Plain, a.none})
		return
	}
	impossible, others := a.byCause()
	if len(impossible) > 0 {
		worst := slices.MaxFunc(impossible, func(a, b block) int { return len(a.people) - len(b.people) })
		p.Line(2, Span{Bad, "! " + count(len(worst.people), "person", "people") + ": " + worst.text})
	}
	p.blocks("Cannot prove it", impossible, mostExceptions)
	p.blocks("May send", others, mostRest)
	p.Gap()
	p.Title("What the reader sees")
	var rows [][]Span
	rows = append(rows, []Span{{Faint, "From"}, {Plain, a.Reader.From}})
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
	p.hint()
}

// answer is the first line: true by itself.
func (a *SendsAs) answer() string {
	if len(a.People) == 0 {
		return a.Group + ": nobody may send as it"
	}
	counts := map[string]int{}
	for _, s := range a.People {
		counts[s.Proof]++
	}
	line := a.Group + ": " + count(len(a.People), "person", "people") + " may send as it"
	if n := counts[resolve.ProofImpossible.String()]; n > 0 {
		line += ", " + strconv.Itoa(n) + " cannot prove it"
	}
	if n := counts[resolve.ProofPossible.String()]; n > 0 {
		line += ", " + strconv.Itoa(n) + " can prove it"
	}
	if n := counts[resolve.ProofNotNeeded.String()]; n > 0 {
		line += ", no proof is needed"
	}
	return line
}

func proofStyle(proof string) Style {
	if proof == resolve.ProofImpossible.String() {
		return Bad
	}
	return Good
}

// byCause gathers delegates by right, rule and proof.
func (a *SendsAs) byCause() (impossible, others []block) {
	type key struct {
		rule  int
		cause cause
	}
	index := map[key]int{}
	var blocks []block
	for _, s := range a.People {
		k := key{s.Rule, s.cause}
		i, ok := index[k]
		if !ok {
			i = len(blocks)
			index[k] = i
			text := "rule " + strconv.Itoa(s.Rule) + ", " + s.Written + "; " + s.cause.text
			if s.Fix != "" {
				text += "; fix: " + s.Fix
			}
			blocks = append(blocks, block{word: Span{proofStyle(s.Proof), s.SendAs}, text: text, place: s.cause.place})
		}
		blocks[i].people = append(blocks[i].people, s.Address)
	}
	for _, b := range blocks {
		if b.word.Style == Bad {
			impossible = append(impossible, b)
		} else {
			others = append(others, b)
		}
	}
	return impossible, others
}

func (a *SendsAs) table() ([]string, iter.Seq[[]string]) {
	var rows [][]string
	for _, s := range a.People {
		rows = append(
			rows,
			[]string{a.Group, s.Address, s.SendAs, strconv.Itoa(s.Rule), s.Proof, s.Why, s.Fix, s.Place},
		)
	}
	return []string{"group", "address", "send-as", "rule", "proof", "why", "fix", "place"}, slices.Values(rows)
}
