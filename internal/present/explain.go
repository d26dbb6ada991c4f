package present

import (
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
	Unsent     bool        `json:"unsent,omitempty"`    // their own mail service does not take it, as Text says
	Approvers  []string    `json:"approvers,omitempty"` // who can release it, if it is held
	Ways       []Path      `json:"ways"`
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

// Path is a group that the message reaches, and what has become of it there.
type Path struct {
	Group    string    `json:"group"`
	Kind     string    `json:"kind"`
	From     string    `json:"from,omitempty"` // the group that it comes from
	State    string    `json:"state"`          // open, waiting or stopped
	Decision *Decision `json:"gate,omitempty"` // of the group's own gate, where it is asked
}

// Sees is what each side sees.
type Sees struct {
	Sender   string `json:"sender"`            // what the sender hears
	Before   string `json:"before,omitempty"`  // what an inside sender who is not let in could have known
	From     string `json:"from"`              // RFC 5322 From of the copies
	SentBy   string `json:"sentBy,omitempty"`  // Sender, where it differs
	ReplyTo  string `json:"replyTo,omitempty"` // Reply-To, if there is one
	Subject  string `json:"subject,omitempty"` // what the subject begins with
	Footer   string `json:"footer,omitempty"`  // what stands under each copy
	Answer   string `json:"answer,omitempty"`  // what the author gets back by itself (RFC 3834)
	Reaching int    `json:"reaching"`          // how many get it in their inbox or a digest
}

// Followed is one recipient, and every path by which the message comes to them.
type Followed struct {
	Address string       `json:"address"`
	Outcome string       `json:"outcome"` // "" where nothing is for them
	Why     string       `json:"why"`
	Paths   []PersonPath `json:"ways"`
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
		Tried:   []Tried{}, Ways: []Path{}, Recipients: []Recipient{},
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
		a.Unsent = true
		a.Sees.Sender = "is refused by their own mail service: " + a.Text
	} else if f.Sender.ID == estate.None && f.Sender.Inside && a.unknown == "" {
		a.suggest(n, a.From)
	}
	return a
}

// follow notes every path by which the message comes to one person.
func (a *Explanation) follow(n namer, f *message.Fate, c Case) {
	a.For = &Followed{Address: n.address(c.For), Paths: []PersonPath{}}
	if n.e.IsGroup(f.To) {
		d := n.r.Deliver(resolve.Query{Group: f.To, Sender: &f.Sender, Message: c.Message})
		a.For.Paths, _ = n.personPaths(d, d.To(c.For), mostPaths)
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
	recipient.cause = &cause{text: recipient.Why}
	a.Recipients = append(a.Recipients, recipient)
	a.Sees.Sender = "is told nothing"
	if f.Edge > 0 {
		a.Decision = edgeDecision(n.e, resolve.Decision{Verdict: f.Verdict, Edge: f.Edge})
		a.Sees.Sender, a.Sees.Reaching = toldAtEdge(f, a.Decision), 0
	}
}

// tryEdge notes the rules of the edge that are asked.
func (a *Explanation) tryEdge(n namer, s resolve.Sender, m resolve.Message) {
	for _, tried := range n.r.Gate(estate.None).Trace(s, m) {
		step := n.tried(estate.None, n.e.Settings().Edge[tried.Rule-1], tried, s, m)
		step.Rule, step.Edge = 0, tried.Rule
		a.Tried = append(a.Tried, step)
	}
}

// tried reports a rule that was asked.
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
		for _, tried := range n.r.Gate(group).Trace(s, m) {
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
	for _, path := range d.Paths {
		a.Ways = append(a.Ways, n.path(d, path))
	}
	a.Recipients = n.recipients(d)
	for _, recipient := range d.Recipients() {
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

// replyTo returns the Reply-To of a group's copies, or "" if there is none.
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

func (n namer) path(d *resolve.Delivery, path resolve.Path) Path {
	w := Path{Group: n.address(path.Group), Kind: n.e.Group(path.Group).Kind.String(), State: path.State.String()}
	if before := d.Before(path); before != estate.None {
		w.From = n.address(before)
	}
	if path.Asked {
		decision := newDecision(n.e, path.Group, path.Decision)
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
		return "is told nothing: notify-sender is " + oneLine(g.NotifySender.Text) + n.at(g.Where("notify-sender"))
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
