package present

import (
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

	unknown bool // the sender has an inside address that nobody has
}

// A Recipient is somebody and what they get of a message.
type Recipient struct {
	Address string   `json:"address"`
	Outcome string   `json:"outcome"`
	Via     []string `json:"via"`
	Why     string   `json:"why"`
	// NotFrom is whose mail they do not get so, where no sender is asked about.
	NotFrom *NotFrom `json:"notFrom,omitempty"`

	cause *cause
	own   string // the place of the entry that decides, if it is one
}

// NewReceives lays a message out from a group; s is nil for no sender in
// particular.
func NewReceives(r *resolve.Resolver, group estate.ID, s *resolve.Sender, m resolve.Message) *Receives {
	n := newNamer(r)
	a := &Receives{Group: n.address(group)}
	if s != nil {
		decision := newDecision(n.e, group, r.Gate(group).Post(*s, m))
		a.From, a.Decision = s.Address.String(), &decision
		a.unknown = s.Inside && s.ID == estate.None
	} else if n.e.Group(group).Kind == estate.Roster {
		decision := newDecision(n.e, group, resolve.Decision{Verdict: estate.Refuse})
		a.Decision = &decision
	}
	d := r.Deliver(resolve.Query{Group: group, Sender: s, Message: m})
	a.Recipients = n.recipients(d)
	if s == nil && len(d.Paths) > 1 && n.e.Group(group).Kind != estate.Roster {
		notFrom := n.notFrom(group, d.Recipients(), m)
		for i, recipient := range d.Recipients() {
			a.Recipients[i].NotFrom = notFrom[recipient.ID]
		}
	}
	return a
}

func (n namer) recipients(d *resolve.Delivery) []Recipient {
	list := make([]Recipient, len(d.Recipients()))
	chains := d.Chains(n.address)
	told := alike{words: map[alikeKey]*alikeWords{}}
	for i, recipient := range d.Recipients() {
		why, own := told.why(n, d, recipient)
		list[i] = Recipient{
			Address: n.address(recipient.ID),
			Outcome: recipient.Outcome.String(),
			Via:     chains.Of(d.Path(recipient)),
			Why:     why.text,
			cause:   why,
			own:     own,
		}
		if place := why.place + own; place != "" {
			list[i].Why += " (" + place + ")"
		}
	}
	return list
}

// alike remembers what was written about recipients, for others whose outcome has
// the same reason.
type alike struct {
	words map[alikeKey]*alikeWords
	key   alikeKey // the last one: most are as the one before
	last  *alikeWords
}

type alikeKey struct {
	reason  resolve.Reason // without the place of an entry
	outcome resolve.Outcome
}

type alikeWords struct {
	cause *cause
	own   bool // the place of the entry belongs to it
}

// wished are the outcomes that a wish gives, and no gate or mailbox.
var wished = []resolve.Outcome{resolve.Inbox, resolve.Digest, resolve.Archive, resolve.Nothing}

// why is namer.why.
func (told *alike) why(n namer, d *resolve.Delivery, recipient resolve.Recipient) (*cause, string) {
	reason := d.Reason(recipient)
	if reason.Nobody || reason.Shared || !slices.Contains(wished, recipient.Outcome) {
		why, own := n.why(d, recipient)
		return &why, own
	}
	key := alikeKey{reason, recipient.Outcome}
	if !reason.Rule {
		key.reason.Listed = estate.Place{}
	}
	if told.last == nil || key != told.key {
		words, ok := told.words[key]
		if !ok {
			why, own := n.why(d, recipient)
			words = &alikeWords{&why, own != ""}
			told.words[key] = words
		}
		told.key, told.last = key, words
	}
	if told.last.own {
		return told.last.cause, n.position(reason.Listed)
	}
	return told.last.cause, ""
}

func (a *Receives) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	if a.unknown {
		p.Line(2, Span{Doubtful, "! " + a.From + " is not in the estate; answered for an unknown inside address"})
	}
	if a.Decision != nil {
		p.LineAt(2, a.Decision.at(), Span{Plain, verdictPast[a.Verdict] + ", " + a.by()})
	}
	if len(a.Recipients) == 0 {
		return
	}
	gathered := p.byCause(a.Recipients)
	if a.Decision != nil && a.Verdict != estate.Admit.String() {
		p.Line(2, Span{Plain, "If it is admitted: " + howMany(a.Recipients)})
	} else {
		p.Line(2, worst(gathered))
	}
	a.writeNotFrom(p)
	p.recipients(gathered)
}

// writeNotFrom says who gets it from some senders only.
func (a *Receives) writeNotFrom(p *Page) {
	var order []string
	people := map[string][]string{}
	for _, r := range a.Recipients {
		if r.NotFrom == nil {
			continue
		}
		text := r.NotFrom.text()
		if people[text] == nil {
			order = append(order, text)
		}
		people[text] = append(people[text], r.Address)
	}
	for _, text := range order {
		p.Line(2, Span{Doubtful, "! "}, Span{Plain, p.some(people[text]) + ": " + text})
	}
}

// answer is the first line: true by itself.
func (a *Receives) answer() string {
	who := a.Group
	switch {
	case a.From != "":
		who += ", from " + a.From
	case a.Decision == nil:
		who += ", if every gate admits"
	}
	if a.Decision != nil && a.Verdict != estate.Admit.String() {
		if a.Verdict == estate.Hold.String() {
			return who + ": held for approval, nobody gets it before that"
		}
		return who + ": " + verdictPast[a.Verdict] + ", nobody gets it"
	}
	return who + ": " + howMany(a.Recipients)
}

// howMany says how many get a message and how many do not.
func howMany(list []Recipient) string {
	gets, reads := 0, 0
	for _, one := range list {
		switch one.Outcome {
		case "inbox", "digest":
			gets++
		case "archive":
			reads++
		}
	}
	all := len(list)
	switch all {
	case 0:
		return "nobody receives it"
	case 1:
		return "one address, " + list[0].Outcome
	}
	line := strconv.Itoa(gets) + " of " + count(all, "address", "addresses") + " get it"
	if reads > 0 {
		line += ", " + strconv.Itoa(reads) + " can read it"
	}
	switch missing := all - gets - reads; missing {
	case 0:
	case 1:
		line += ", 1 does not"
	default:
		line += ", " + strconv.Itoa(missing) + " do not"
	}
	return line
}

// worst names the most frequent reason for which somebody gets nothing of it.
func worst(g gathered) Span {
	var most block
	for _, outcome := range outcomeOrder[:4] {
		for _, b := range g.blocks[outcome] {
			if len(b.people) > len(most.people) {
				most = b
			}
		}
	}
	if most.people == nil {
		return Span{Plain, "Everybody who is listed gets it or can read it"}
	}
	if len(most.people) == 1 {
		return Span{most.word.Style, "! " + most.people[0] + ": " + most.word.Text}
	}
	return Span{most.word.Style, "! " + strconv.Itoa(len(most.people)) + " " + most.word.Text}
}

// outcomeOrder is the order in which outcomes are listed: what is wrong first.
var outcomeOrder = []string{"undeliverable", "stopped", "waiting", "nothing", "archive", "digest", "inbox"}

// recipients writes those who get nothing delivered, and how many do; with --all also by
// which path and setting.
func (p *Page) recipients(g gathered) {
	counts := g.counts
	var missing, rest []block
	delivered := 0
	for i, outcome := range outcomeOrder {
		if i < 4 {
			missing = append(missing, g.blocks[outcome]...)
			delete(counts, outcome)
		} else {
			rest = append(rest, g.blocks[outcome]...)
			delivered += counts[outcome]
		}
	}
	slices.SortStableFunc(missing, func(x, y block) int { return len(y.people) - len(x.people) })
	p.blocks("Not delivered", missing)
	switch {
	case delivered == 0:
	case p.options.All:
		p.blocks("Delivered", rest)
	default:
		p.Gap()
		spans := []Span{{Strong, "Delivered (" + strconv.Itoa(delivered) + ")"}, {Plain, ": "}}
		spans = append(spans, countSpans(counts, resolve.OutcomeWords(), outcomeStyle)...)
		p.Line(2, append(spans, Span{Faint, "   (--all lists them)"})...)
	}
}

// gathered are recipients by outcome.
type gathered struct {
	counts map[string]int
	blocks map[string][]block // of those that are shown, by what they have the outcome for
}

// byCause gathers recipients by outcome and by what they have it for.
func (p *Page) byCause(list []Recipient) gathered {
	type key struct {
		outcome, via string
		cause        cause
	}
	counts := map[string]int{}
	index := map[key]int{}
	blocks := map[string][]block{}
	var last key // most are as the one before
	at := 0
	for _, r := range list {
		counts[r.Outcome]++
		if delivered(r.Outcome) && !p.options.All {
			continue
		}
		via := ""
		if len(r.Via) > 1 {
			via = shorten(r.Via[1:])
		}
		if via == r.cause.names {
			via = ""
		}
		if k := (key{r.Outcome, via, *r.cause}); len(blocks) == 0 || k != last {
			i, ok := index[k]
			if !ok {
				i = len(blocks[r.Outcome])
				index[k] = i
				b := block{word: Span{outcomeStyle(r.Outcome), r.cause.text}, via: via, place: r.cause.place}
				blocks[r.Outcome] = append(blocks[r.Outcome], b)
			}
			last, at = k, i
		}
		b := &blocks[r.Outcome][at]
		b.people = append(b.people, r.Address)
		b.places = append(b.places, r.own)
	}
	return gathered{counts, blocks}
}

// shorten writes a chain of groups; the middle of a very long one is left out.
func shorten(via []string) string {
	const most = 4
	if len(via) > most {
		return via[0] + ", ... " + strconv.Itoa(len(via)-2) + " more ..., " + via[len(via)-1]
	}
	return strings.Join(via, ", ")
}

func (a *Receives) table(t *table) {
	t.head("group", "from", "verdict", "rule", "address", "outcome", "via", "why")
	verdict, rule := "", ""
	if a.Decision != nil {
		verdict, rule = a.Verdict, strconv.Itoa(a.Rule)
	}
	for _, r := range a.Recipients {
		t.row(a.Group, a.From, verdict, rule, r.Address, r.Outcome, strings.Join(r.Via, " > "), r.Why)
	}
}
