package present

import (
	"iter"
	"slices"
	"strconv"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Speaks answers who may write in a group's name.
type Speaks struct {
	Group  string    `json:"group"`
	People []Speaker `json:"people"`
	Reader Reader    `json:"reader"`

	name   string
	folder string
	none   string // why nobody speaks, and what would serve
}

// A Speaker is a person with a voice.
type Speaker struct {
	Address string `json:"address"`
	Voice   string `json:"voice"`
	Rule    int    `json:"rule"`
	Proof   string `json:"proof"` // not-needed, possible or impossible
	Why     string `json:"why"`
	Written string `json:"written"` // the rule as written
	Place   string `json:"place,omitempty"`
	Mend    string `json:"mend,omitempty"` // what to change where the proof is impossible

	cause cause
	own   string
}

// Reader is what the reader of a message in the group's name sees.
type Reader struct {
	From     string `json:"from"`
	As       string `json:"as"`       // Sender, where the voice is as
	For      string `json:"for"`      // Sender, where the voice is for
	AnswerTo string `json:"answerTo"` // where an answer goes
	Private  bool   `json:"private"`  // whether a member's own address shows in some such message
}

// NewSpeaks asks who may write in the name of a group.
func NewSpeaks(r *resolve.Resolver, group estate.ID) *Speaks {
	n := newNamer(r)
	g := n.e.Group(group)
	a := &Speaks{Group: n.address(group), People: []Speaker{}, name: groupName(g), folder: n.folder()}
	speakers := r.Speakers(group)
	for _, s := range speakers.People {
		rule := g.Voice[s.Rule-1]
		speaker := Speaker{Address: n.address(s.ID), Voice: s.Voice.String(), Rule: s.Rule, Proof: s.Proof.String(),
			Written: oneLine(rule.Text), Place: n.position(rule.Place)}
		speaker.cause, speaker.own, speaker.Mend = n.proof(speakers, s)
		speaker.Why = speaker.cause.text
		if place := speaker.cause.place + speaker.own; place != "" {
			speaker.Why += " (" + place + ")"
		}
		a.People = append(a.People, speaker)
		if s.Voice == estate.VoiceFor {
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

// silence tells why nobody may speak for a group, and what would serve.
func (n namer) silence(g *estate.Group) string {
	switch {
	case len(g.Voice) == 0 && g.Kind == estate.Roster:
		return "The group gives nobody a voice. It is a roster, and answers to it would be refused: a forum or a mailbox " +
			"would serve, with a voice such as [as members]."
	case len(g.Voice) == 0 && g.Kind == estate.List:
		return "The group gives nobody a voice; [as owners] or [for members] would. A list keeps nothing: where several " +
			"people answer, a forum or a mailbox serves better, as each sees what the others wrote."
	case len(g.Voice) == 0:
		return "The group gives nobody a voice; [as owners] or [for members] would."
	}
	return "The group's voices fit no person of the estate."
}

// proof tells whether the ownership code reaches a speaker, what stands in the
// way, and what to change.
func (n namer) proof(speakers *resolve.Speakers, s resolve.Speaker) (c cause, own, mend string) {
	g := n.e.Group(speakers.Group)
	where := n.position(g.Where("voice-proof"))
	switch {
	case s.Proof == resolve.ProofNotNeeded:
		return cause{text: "the group asks for no proof"}, "", ""
	case speakers.Code == nil:
		return cause{
			text:  "the estate has no code-sender",
			place: where,
		}, "", "name the code-sender, or set voice-proof to none"
	case speakers.Code.Verdict != estate.Admit:
		said := newDecision(n.e, speakers.Group, *speakers.Code)
		return cause{
				text:  "the gate does not admit the code: " + said.Verdict + ", " + said.by(),
				place: said.Place,
			}, "",
			"put \"admit " + n.e.Settings().CodeSender.String() + "\" before that rule of the gate"
	case s.Receipt == nil:
		return cause{
			text:  "the code is mailed to the group, and they are no member",
			place: where,
		}, "", "make them a member, or let somebody else speak"
	}
	c, own = n.why(speakers.Delivery, *s.Receipt)
	if s.Proof == resolve.ProofPossible {
		c.text = "the code reaches them: " + c.text
		return c, own, ""
	}
	c.text = "the code does not reach them: " + s.Receipt.Outcome.String() + ", " + c.text
	mends := map[resolve.Outcome]string{
		resolve.Digest:        "set their copy to every for as long as it takes",
		resolve.Waiting:       "let the nested group's gate admit " + n.e.Settings().CodeSender.String(),
		resolve.Stopped:       "let the nested group's gate admit " + n.e.Settings().CodeSender.String(),
		resolve.Nothing:       "set their copy to every, or make the group a forum, where they can read it",
		resolve.Undeliverable: "mend their mailbox",
	}
	return c, own, mends[s.Receipt.Outcome]
}

func (a *Speaks) writeText(p *Page) {
	p.folder = a.folder
	p.Line(2, Span{Strong, "Who may write in the name of " + a.Group}, Span{Faint, "  " + a.name})
	p.Gap()
	if len(a.People) == 0 {
		p.Line(2, Span{Bad, "Nobody. "}, Span{Plain, a.none})
		return
	}
	counts := map[string]int{}
	for _, s := range a.People {
		counts[s.Proof]++
	}
	p.Line(2, append([]Span{{Plain, count(len(a.People), "person", "people") + "; the proof is "}},
		countSpans(counts, []string{"impossible", "possible", "not-needed"}, proofStyle)...)...)
	impossible, others := a.byCause()
	p.blocks("Cannot prove it", impossible, mostExceptions)
	p.blocks("May speak", others, mostRest)
	p.Gap()
	p.Title("What the reader sees")
	var rows [][]Span
	rows = append(rows, []Span{{Faint, "From"}, {Plain, a.Reader.From}})
	voices := map[string]bool{}
	for _, s := range a.People {
		voices[s.Voice] = true
	}
	if voices["as"] {
		rows = append(rows, []Span{{Faint, "as"}, {Plain, "no Sender: nobody's own address shows"}})
	}
	if voices["for"] {
		rows = append(rows, []Span{{Faint, "for"}, {Plain, "Sender is the person who writes: their own address shows"}})
	}
	rows = append(rows, []Span{{Faint, "answer"}, {Plain, "goes to " + a.Reader.AnswerTo + "; there is no Reply-To"}})
	p.Table(rows)
	p.hint()
}

func proofStyle(proof string) Style {
	if proof == resolve.ProofImpossible.String() {
		return Bad
	}
	return Good
}

// byCause gathers speakers by voice, rule and proof.
func (a *Speaks) byCause() (impossible, others []block) {
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
			if s.Mend != "" {
				text += ". Mend: " + s.Mend
			}
			blocks = append(blocks, block{word: Span{proofStyle(s.Proof), s.Voice}, text: text, place: s.cause.place})
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

func (a *Speaks) table() ([]string, iter.Seq[[]string]) {
	var rows [][]string
	for _, s := range a.People {
		rows = append(
			rows,
			[]string{a.Group, s.Address, s.Voice, strconv.Itoa(s.Rule), s.Proof, s.Why, s.Mend, s.Place},
		)
	}
	return []string{"group", "address", "voice", "rule", "proof", "why", "mend", "place"}, slices.Values(rows)
}
