package present

import (
	"iter"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Explanations explain messages, each step by step.
type Explanations struct {
	Explanations []*Explanation `json:"explanations"`
}

// An Explanation follows one message.
type Explanation struct {
	From    string          `json:"from"`
	To      string          `json:"to"`
	Message MessageTraits   `json:"message"`
	Sender  SenderTraits    `json:"sender"`
	SendAs  *SendAsDecision `json:"sendAs,omitempty"` // where it is written in a group's name
	Group   string          `json:"group,omitempty"`  // the main address of To, if it is a group
	Tried   []Tried         `json:"tried"`
	Decision
	Approvers  []string    `json:"approvers,omitempty"` // who can release it, if it is held
	Ways       []Way       `json:"ways"`
	Recipients []Recipient `json:"recipients"`
	Sees       Sees        `json:"sees"`
	Nearest    []string    `json:"nearest,omitempty"` // addresses that may have been meant
	// ApproversShut are those of Approvers whose mailbox accepts no mail.
	ApproversShut []string  `json:"approversShut,omitempty"`
	For           *Followed `json:"for,omitempty"` // the one recipient that is followed

	name    string   // of the group
	gate    Decision // of the group, whether or not the message gets there
	unknown string   // the address that Nearest are near to
	owners  bool     // the approvers are owners, for want of moderators
	waiting []string // the approvers, with those marked whose mailboxes accept no mail
}

// MessageTraits are what the gates can know of the message.
type MessageTraits struct {
	Unproven   bool  `json:"unproven"`
	Suspect    bool  `json:"suspect"`
	Automatic  bool  `json:"automatic"`
	Invitation bool  `json:"invitation"`
	Size       int64 `json:"size"`
}

// SenderTraits are what the estate knows of the sender.
type SenderTraits struct {
	Is      string `json:"is"`                // person, group or stranger
	Address string `json:"address,omitempty"` // the main address
	Name    string `json:"name,omitempty"`
	Inside  bool   `json:"inside"` // the claimed address is in a domain of the estate
}

// SendAsDecision is whether somebody may write in a group's name.
type SendAsDecision struct {
	As      string `json:"as"`    // the group
	By      string `json:"by"`    // who writes
	SendAs  string `json:"sends"` // as, for, or "" for none
	Proof   string `json:"proof"` // whether they can show that the name is theirs to use
	Rule    int    `json:"rule"`
	Written string `json:"written"`
	Place   string `json:"place,omitempty"`
}

// Tried is a rule of a gate that was asked.
type Tried struct {
	Rule    int      `json:"rule"`           // of the gate, from 1; 0 for one of the edge
	Edge    int      `json:"edge,omitempty"` // of the edge, from 1
	Written string   `json:"written"`
	Place   string   `json:"place,omitempty"`
	Matched bool     `json:"matched"`
	Because []string `json:"because"` // what settles it
}

// Way is a group that the message reaches, and what has become of it there.
type Way struct {
	Group    string    `json:"group"`
	Kind     string    `json:"kind"`
	From     string    `json:"from,omitempty"` // the group that it comes from
	State    string    `json:"state"`          // open, waiting or stopped
	Decision *Decision `json:"gate,omitempty"` // of the group's own gate, where it is asked
}

// Sees is what each side sees.
type Sees struct {
	Sender   string `json:"sender"`            // what the sender is told
	Before   string `json:"before,omitempty"`  // what an inside sender who is not let in could have known
	From     string `json:"from"`              // RFC 5322 From of the copies
	SentBy   string `json:"sentBy,omitempty"`  // Sender, where it differs
	ReplyTo  string `json:"replyTo,omitempty"` // Reply-To, where there is one
	Subject  string `json:"subject,omitempty"` // what the subject begins with
	Footer   string `json:"footer,omitempty"`  // what stands under each copy
	Answer   string `json:"answer,omitempty"`  // what the author gets back by itself (RFC 3834)
	Reaching int    `json:"reaching"`          // how many get it in their inbox or a digest
}

// Followed is one recipient, and every way in which the message comes to them.
type Followed struct {
	Address string      `json:"address"`
	Outcome string      `json:"outcome"` // "" where nothing is for them
	Why     string      `json:"why"`
	Ways    []PersonWay `json:"ways"`
}

// A Case is a message to be explained.
type Case struct {
	From, To address.Address
	As       estate.ID // the group in whose name it is written, or None
	For      estate.ID // the person who is followed, or None
	Message  resolve.Message
}

// NewExplanation follows one message. It returns nil where To is neither in the
// estate nor in its domains.
func NewExplanation(r *resolve.Resolver, c Case) *Explanation {
	n := newNamer(r)
	a := &Explanation{
		From: c.From.String(), To: c.To.String(),
		Message: MessageTraits(c.Message),
		Tried:   []Tried{}, Ways: []Way{}, Recipients: []Recipient{},
	}
	a.Sender = n.sender(r.Sender(c.From))
	a.Sees.From = a.From
	envelope := message.Envelope{From: c.From, To: c.To, Message: c.Message}
	if c.As != estate.None {
		envelope.From, envelope.By = n.e.Address(c.As), c.From
	}
	f := message.Of(r, envelope)
	if c.As != estate.None {
		a.sendAs(n, c.As, f)
	}
	_, found := n.e.Find(c.To)
	switch {
	case f.To != estate.None && n.e.IsGroup(f.To):
		a.toGroup(n, f, c.Message)
	case f.To != estate.None:
		a.toPerson(n, f, c.Message)
	case !found && n.e.InsideDomain(c.To.Domain()):
		a.Decision = Decision{Verdict: estate.Refuse.String(), Text: "5.1.1 no such address"}
		a.suggest(n, a.To)
		a.Sees.Sender = "is told that there is no such address"
	default:
		return nil
	}
	if c.For != estate.None && f.To != estate.None {
		a.follow(n, f, c)
	}
	if text := a.unspoken(n, c.As, f); text != "" {
		a.Decision = Decision{Verdict: estate.Refuse.String(), Text: text}
		a.Sees.Sender = "is refused by their own mail service: " + a.Text
	} else if f.Sender.ID == estate.None && f.Sender.Inside && a.unknown == "" {
		a.suggest(n, a.From)
	}
	return a
}

// follow notes every way in which the message comes to one person.
func (a *Explanation) follow(n namer, f *message.Fate, c Case) {
	a.For = &Followed{Address: n.address(c.For), Ways: []PersonWay{}}
	if n.e.IsGroup(f.To) {
		d, candidates := n.r.Follow(f.To, c.For, &f.Sender, c.Message)
		a.For.Ways, _ = n.personWays(d, candidates, mostWays)
	}
	for _, r := range a.Recipients {
		if r.Address == a.For.Address {
			a.For.Outcome, a.For.Why = r.Outcome, r.Why
		}
	}
	if a.For.Outcome == "" {
		a.For.Why = "no membership of theirs, and no way to one"
	}
}

// shut returns those of some people whose mailboxes accept no mail, with what is wrong.
func (n namer) shut(people []estate.ID) []string {
	var list []string
	for _, id := range people {
		if state := n.e.Person(id).Mailbox; state != estate.MailboxOpen {
			list = append(list, n.address(id))
		}
	}
	return list
}

// marked returns addresses, with those marked whose mailboxes accept no mail.
func (n namer) marked(people []estate.ID) []string {
	var list []string
	for _, id := range people {
		text := n.address(id)
		if state := n.e.Person(id).Mailbox; state != estate.MailboxOpen {
			text += " (" + mailboxWords[state] + ")"
		}
		list = append(list, text)
	}
	return list
}

// unspoken says why a message may not be written in the name of a group, or "".
func (a *Explanation) unspoken(n namer, group estate.ID, f *message.Fate) string {
	switch f.Reason {
	case message.NoSendAs:
		return a.From + " may not send as " + n.address(group)
	case message.NoProof:
		return a.From + " cannot show that the name of " + n.address(group) + " is theirs to use"
	}
	return ""
}

// suggest notes the addresses that are near to one that belongs to nobody.
func (a *Explanation) suggest(n namer, unknown string) {
	a.unknown = unknown
	a.Nearest = nearest.Words(unknown, n.e.Addresses, 3)
}

func (n namer) sender(s resolve.Sender) SenderTraits {
	attributes := SenderTraits{Is: "stranger", Inside: s.Inside}
	switch {
	case s.ID == estate.None:
	case n.e.IsGroup(s.ID):
		attributes.Is, attributes.Address, attributes.Name = "group", n.address(s.ID), n.e.Group(s.ID).Title
	default:
		attributes.Is, attributes.Address, attributes.Name = "person", n.address(s.ID), n.e.Person(s.ID).Name
	}
	return attributes
}

// sendAs notes whether a sender may write in a group's name.
func (a *Explanation) sendAs(n namer, group estate.ID, f *message.Fate) {
	a.SendAs = &SendAsDecision{
		As:     n.address(group),
		By:     a.From,
		SendAs: f.SendAs.String(),
		Rule:   f.SendAsRule,
		Proof:  f.Proof.String(),
	}
	if f.SendAsRule > 0 {
		written := n.e.Group(group).SendAs[f.SendAsRule-1]
		a.SendAs.Written, a.SendAs.Place = oneLine(written.Text), n.position(written.Place)
	}
	a.Sees.From = n.address(group)
	if f.SendAs == estate.ForGroup {
		a.Sees.SentBy = a.From
	}
}

func (a *Explanation) toPerson(n namer, f *message.Fate, m resolve.Message) {
	to := f.To
	a.Decision = Decision{Verdict: estate.Admit.String()}
	a.tryEdge(n, f.Sender, m)
	person := n.e.Person(to)
	if a.name = person.Name; !address.Same(n.address(to), a.To) {
		a.name = strings.TrimPrefix(a.name+", "+n.address(to), ", ")
	}
	recipient := Recipient{
		Address: n.address(to),
		Outcome: resolve.Inbox.String(),
		Via:     []string{},
		Why:     "it is their own address",
	}
	if person.Mailbox != estate.MailboxOpen {
		recipient.Outcome = resolve.Undeliverable.String()
		recipient.Why = mailboxWords[person.Mailbox]
	} else {
		a.Sees.Reaching = 1
	}
	recipient.cause.text = recipient.Why
	a.Recipients = append(a.Recipients, recipient)
	a.Sees.Sender = "is told nothing"
	if f.Edge > 0 {
		a.Decision = edgeDecision(n.e, resolve.Decision{Verdict: f.Verdict, Edge: f.Edge})
		a.Sees.Sender, a.Sees.Reaching = toldAtEdge(f, a.Decision), 0
	}
}

// tryEdge notes the rules of the edge that are asked.
func (a *Explanation) tryEdge(n namer, s resolve.Sender, m resolve.Message) {
	for _, tried := range n.r.TraceEdge(s, m) {
		step := n.tried(estate.None, n.e.Settings().Edge[tried.Rule-1], tried, s, m)
		step.Rule, step.Edge = 0, tried.Rule
		a.Tried = append(a.Tried, step)
	}
}

// tried tells of a rule that was asked.
func (n namer) tried(
	group estate.ID, rule estate.GateRule, tried resolve.Tried, s resolve.Sender, m resolve.Message,
) Tried {
	step := Tried{
		Rule:    tried.Rule,
		Written: oneLine(rule.Text),
		Place:   n.position(rule.Place),
		Matched: tried.Matched,
	}
	for _, answer := range tried.Answers {
		step.Because = append(step.Because, n.answer(group, answer, s, m))
	}
	return step
}

func (a *Explanation) toGroup(n namer, f *message.Fate, m resolve.Message) {
	group, s, decision := f.To, f.Sender, f.Gate
	g := n.e.Group(group)
	a.Group, a.name = n.address(group), groupName(g)
	a.tryEdge(n, s, m)
	if f.Edge == 0 {
		for _, tried := range n.r.Trace(group, s, m) {
			a.Tried = append(a.Tried, n.tried(group, g.Gate[tried.Rule-1], tried, s, m))
		}
	}
	a.Decision = newDecision(n.e, group, decision)
	a.gate = a.Decision
	if decision.Verdict == estate.Hold {
		var approvers []estate.ID
		approvers, a.owners = n.r.Approvers(group)
		a.Approvers, a.ApproversShut = n.addresses(approvers), n.shut(approvers)
		a.waiting = n.marked(approvers)
	}
	d := f.Delivery()
	for _, way := range d.Ways {
		a.Ways = append(a.Ways, n.way(d, way))
	}
	a.Recipients = n.recipients(d)
	for _, recipient := range d.Recipients {
		if recipient.Outcome <= resolve.Digest {
			a.Sees.Reaching++
		}
	}
	a.Sees.Sender = n.told(g, f, m, a.Decision)
	if decision.Verdict != estate.Admit && s.Inside && !m.Unproven {
		a.Sees.Before = n.foreseen(g, group, s)
	}
	a.Sees.Subject = g.SubjectTag
	a.Sees.ReplyTo = n.replyTo(group)
	a.Sees.Footer = g.Footer
	if f.AutoAnswered() {
		a.Sees.Answer = g.AutoAnswer
	}
}

// replyTo returns the Reply-To of a group's copies, or "" where there is none.
func (n namer) replyTo(group estate.ID) string {
	g := n.e.Group(group)
	switch {
	case g.RepliesToAt.IsValid():
		return g.RepliesToAt.String()
	case g.RepliesTo == estate.PartyGroup:
		return n.address(group)
	}
	return ""
}

// toldAtEdge tells what the sender learns of what the edge says.
func toldAtEdge(f *message.Fate, decision Decision) string {
	if f.Verdict == estate.Drop {
		return "is told nothing: the message is dropped"
	}
	if decision.Text == "" {
		return "is told: refused"
	}
	return `is told: refused, "` + decision.Text + `"`
}

func (n namer) way(d *resolve.Delivery, way resolve.Way) Way {
	w := Way{Group: n.address(way.Group), Kind: n.e.Group(way.Group).Kind.String(), State: way.State.String()}
	if before := d.Before(way); before != estate.None {
		w.From = n.address(before)
	}
	if way.Asked {
		decision := newDecision(n.e, way.Group, way.Decision)
		w.Decision = &decision
	}
	return w
}

// told tells what the sender learns of a verdict.
func (n namer) told(g *estate.Group, f *message.Fate, m resolve.Message, decision Decision) string {
	switch {
	case f.Edge > 0:
		return toldAtEdge(f, decision)
	case f.Gate.Verdict == estate.Admit && f.AutoAnswered():
		return "is told: an automatic answer"
	case f.Gate.Verdict == estate.Admit:
		return "is told nothing"
	case f.Gate.Verdict == estate.Drop:
		return "is told nothing: the message is dropped"
	case !f.Heard() && m.Unproven && f.Gate.Verdict == estate.Hold:
		return "is told nothing: not authenticated"
	case !f.Heard() && m.Automatic && f.Gate.Verdict == estate.Hold:
		return "is told nothing: a program gets no answer"
	case !f.Heard():
		return "is told nothing: tell-held is " + g.TellHeld.String() + n.at(g.Where("tell-held"))
	}
	words := map[estate.Verdict]string{estate.Hold: "is told: held for approval",
		estate.Refuse: "is told: refused"}[f.Gate.Verdict]
	if decision.Text != "" {
		words += `, "` + decision.Text + `"`
	}
	return words
}

// foreseen tells what a sender who is not let in could have known before writing.
func (n namer) foreseen(g *estate.Group, group estate.ID, s resolve.Sender) string {
	find := g.Access[estate.Find]
	switch {
	case !n.r.Eval(group, find.Selector, s, resolve.Message{}):
		return "No, they do not find the group (find is " + oneLine(find.Text) + ")." + n.at(find.Place)
	case g.Kind == estate.Roster:
		return "Yes, they find the group and see that it is a roster."
	case g.About != "":
		return "Yes, the description of the group says: " + g.About
	}
	return "Hardly, they find the group, but it has no description."
}

func (a *Explanations) writeText(p *Page) {
	for i, one := range a.Explanations {
		if i > 0 {
			p.Gap()
			p.Line(0, Span{Faint, strings.Repeat("-", min(p.options.Width, 60))})
			p.Gap()
		}
		one.writeText(p)
	}
}

func (a *Explanation) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	rule, waits := a.reason()
	p.LineAt(2, a.at(), Span{Plain, rule + waits})
	admitted := a.Verdict == estate.Admit.String()
	if admitted {
		if worst := worst(p, a.Recipients); worst.Style == Bad || worst.Style == Doubtful {
			p.Line(2, worst)
		}
	}
	if a.unknown != "" {
		meant := ""
		if len(a.Nearest) > 0 {
			meant = " Did you mean " + strings.Join(a.Nearest, " or ") + "?"
		}
		p.Line(2, Span{Doubtful, "! " + a.unknown + " does not exist."}, Span{Plain, meant})
	}
	p.Gap()
	p.message(a)
	if a.SendAs != nil {
		p.sendAs(a.SendAs)
	}
	switch {
	case a.Group != "":
		p.gate(a)
		if len(a.Ways) > 1 {
			p.ways(a.Ways)
		}
	case len(a.Recipients) == 0:
		return
	case len(a.Tried) > 0:
		p.gate(a)
	}
	switch {
	case a.For != nil:
		p.followed(a.For)
	case admitted || p.options.All:
		p.recipients(a.Recipients)
	}
	p.Gap()
	p.sees(a)
	if !admitted && len(a.Recipients) > 0 {
		condition := "If it were admitted: "
		if a.Verdict == estate.Hold.String() {
			condition = "If released: "
		}
		more := " (--all)"
		if p.options.All {
			more = ""
		}
		p.Line(2, Span{Plain, condition + howMany(a.Recipients) + more})
	}
}

// answer is the first line: true by itself.
func (a *Explanation) answer() string {
	words := map[string]string{"admit": "Admitted", "hold": "Held", "refuse": "Refused", "drop": "Dropped"}
	line := words[a.Verdict] + ": " + a.From
	if a.Sender.Name != "" && !a.Message.Unproven {
		line += " (" + a.Sender.Name + ")"
	}
	line += " to " + a.To
	if a.SendAs != nil {
		line += ", as " + a.SendAs.As
	}
	if a.Verdict == estate.Admit.String() {
		line += ", " + howMany(a.Recipients)
	}
	return line
}

// reason is why the message is admitted or not, and for whom it waits.
func (a *Explanation) reason() (rule, waits string) {
	rule = a.by()
	switch {
	case rule == "":
		rule = "mail to a person passes no gate"
	case a.Verdict == estate.Hold.String() && len(a.Approvers) == 0:
		waits = "; nobody can release it: there is no moderator or owner"
	case a.Verdict == estate.Hold.String():
		role := choose(len(a.Approvers), "moderator", "moderators")
		if a.owners {
			role = choose(len(a.Approvers), "owner", "owners")
		}
		waits = "; waits for " + strings.Join(a.waiting, ", ") + " (" + role + ")"
	}
	return rule, waits
}

// message writes what the message is.
func (p *Page) message(a *Explanation) {
	from := "not in the estate"
	if a.Sender.Is != "stranger" {
		from = a.Sender.Is
		if a.Sender.Name != "" {
			from = a.Sender.Name
		}
		if !address.Same(a.Sender.Address, a.From) {
			from += ", " + a.Sender.Address
		}
	}
	if a.Sender.Inside {
		from += ", inside"
	} else {
		from += ", outside"
	}
	to := a.name
	if a.Group != "" && !address.Same(a.Group, a.To) {
		to += ", " + a.Group
	}
	var traits []string
	for _, trait := range []struct {
		is   bool
		name string
	}{
		{a.Message.Unproven, "not authenticated"}, {a.Message.Suspect, "suspect"}, {a.Message.Automatic, "automatic"},
		{a.Message.Invitation, "an invitation"}, {a.Message.Size > 0, count(int(a.Message.Size), "byte", "bytes")},
	} {
		if trait.is {
			traits = append(traits, trait.name)
		}
	}
	if len(traits) == 0 {
		traits = []string{"an ordinary, authenticated message"}
	}
	p.Table([][]Span{
		{{Faint, "from"}, {Plain, a.From}, {Faint, from}},
		{{Faint, "to"}, {Plain, a.To}, {Faint, to}},
		{{Faint, "is"}, {Plain, strings.Join(traits, ", ")}, {}},
	})
}

func (p *Page) sendAs(v *SendAsDecision) {
	p.Gap()
	if v.Rule == 0 {
		p.Line(2, Span{Strong, "Send-as: "}, Span{Bad, "no"},
			Span{Plain, ", no rule lets " + v.By + " send as " + v.As + ". What follows is what would become of it."})
		return
	}
	p.LineAt(2, v.Place, Span{Strong, "Send-as: "}, Span{Plain, "yes, " + v.SendAs + " the group, by rule " +
		strconv.Itoa(v.Rule) + ": " + v.Written})
}

// gate writes the rules that were tried.
func (p *Page) gate(a *Explanation) {
	p.Gap()
	title := "Gate of " + a.Group
	switch {
	case a.Group == "":
		title = "Edge of the estate"
	case a.Edge > 0 || len(a.Tried) > 0 && a.Tried[0].Edge > 0:
		title = "Edge of the estate, gate of " + a.Group
	}
	p.Title(title)
	var rows [][]Span
	for _, tried := range a.Tried {
		answer := Span{Faint, "no"}
		if tried.Matched {
			answer = Span{Strong, "YES"}
		}
		rows = append(
			rows,
			[]Span{
				{Plain, tried.number()},
				{Plain, tried.Written},
				answer,
				{Faint, strings.Join(tried.Because, "; ")},
			},
		)
	}
	p.Table(rows)
	if a.Group != "" && a.gate.Rule == 0 && a.gate.Edge == 0 {
		p.Line(2, Span{Plain, "  " + a.gate.by() + ": "}, verdictSpan(a.gate))
	}
}

// followed writes what one recipient gets, and by which ways.
func (p *Page) followed(f *Followed) {
	p.Gap()
	if f.Outcome == "" {
		p.Line(2, Span{Bad, "! Nothing for " + f.Address}, Span{Plain, ": " + f.Why})
		return
	}
	p.Line(2, Span{outcomeStyle(f.Outcome), "For " + f.Address + ": " + f.Outcome}, Span{Plain, ", " + f.Why})
	for _, way := range f.Ways {
		mark := "also "
		if way.Decides {
			mark = "best "
		}
		text := mark + way.Outcome + ": " + way.reason
		if len(way.Via) > 1 {
			text += ", via " + shorten(way.Via[1:])
		}
		p.LineAt(4, way.place, Span{Plain, "  " + text})
	}
}

// number is the rule as it is called in a table.
func (t Tried) number() string {
	if t.Edge > 0 {
		return "edge " + strconv.Itoa(t.Edge)
	}
	return strconv.Itoa(t.Rule)
}

// ways writes the nested groups that the message comes to: those with trouble, and with
// --all the others.
func (p *Page) ways(ways []Way) {
	words := map[string]Span{
		resolve.WayOpen.String():    {Plain, "admits"},
		resolve.WayWaiting.String(): {Doubtful, "holds"},
		resolve.WayStopped.String(): {Bad, "refuses"},
	}
	rows := map[string][][]Span{}
	for _, w := range ways[1:] {
		why := "its own gate is not asked"
		if w.Decision != nil {
			why = w.Decision.by()
		}
		if w.From != ways[0].Group {
			why = "from " + w.From + "; " + why
		}
		rows[w.State] = append(rows[w.State], []Span{words[w.State], {Plain, w.Group}, {Faint, why}})
	}
	var counts []string
	var shown [][]Span
	for _, state := range []string{resolve.WayStopped.String(), resolve.WayWaiting.String(), resolve.WayOpen.String()} {
		n := len(rows[state])
		if n == 0 {
			continue
		}
		verb := words[state].Text
		if n > 1 {
			verb = strings.TrimSuffix(verb, "s")
		}
		counts = append(counts, strconv.Itoa(n)+" "+verb)
		if state != resolve.WayOpen.String() || p.options.All {
			shown = append(shown, rows[state]...)
		}
	}
	p.Gap()
	title := []Span{{Strong, "Nested groups: "}, {Plain, strings.Join(counts, ", ")}}
	if len(rows[resolve.WayOpen.String()]) > 0 && !p.options.All {
		title = append(title, Span{Faint, "   (--all lists them)"})
	}
	p.Line(2, title...)
	if !p.options.All && len(shown) > mostShown {
		p.Table(shown[:firstShown])
		p.Line(2, Span{Faint, "  and " + strconv.Itoa(len(shown)-firstShown) + " more (--all)"})
		return
	}
	p.Table(shown)
}

// sees writes what each side sees.
func (p *Page) sees(a *Explanation) {
	p.Line(2, Span{Plain, "Sender " + a.Sees.Sender})
	if a.Sees.Before != "" && p.options.All {
		p.Line(2, Span{Plain, "Could they have known? " + a.Sees.Before})
	}
	if a.Verdict != estate.Admit.String() || a.Sees.Reaching == 0 {
		return
	}
	view := "Readers see From: " + a.Sees.From
	if a.Sees.SentBy != "" {
		view += "; Sender: " + a.Sees.SentBy
	}
	if a.Sees.ReplyTo != "" {
		view += "; Reply-To: " + a.Sees.ReplyTo
	}
	if a.Sees.Subject != "" {
		view += "; Subject: " + a.Sees.Subject + " ..."
	}
	p.Line(2, Span{Plain, view})
	if a.Sees.Footer != "" {
		p.Line(2, Span{Plain, "Under each copy: " + oneLine(a.Sees.Footer)})
	}
	if a.Sees.Answer != "" {
		p.Line(2, Span{Plain, "The author gets back, once a day: " + oneLine(a.Sees.Answer)})
	}
}

func (a *Explanations) table() ([]string, iter.Seq[[]string]) {
	return []string{
			"from",
			"to",
			"group",
			"verdict",
			"rule",
			"text",
			"address",
			"outcome",
			"via",
			"why",
		}, func(yield func([]string) bool) {
			for _, one := range a.Explanations {
				head := []string{one.From, one.To, one.Group, one.Verdict, strconv.Itoa(one.Rule), one.Text}
				if len(one.Recipients) == 0 && !yield(append(head, "", "", "", "")) {
					return
				}
				for _, r := range one.Recipients {
					if !yield(append(head[:6:6], r.Address, r.Outcome, strings.Join(r.Via, " > "), r.Why)) {
						return
					}
				}
			}
		}
}
