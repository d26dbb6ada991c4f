package standin

import (
	"crypto/rand"
	"encoding/hex"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/read"
)

// post is the office: it judges what comes in, and hands it out.
type post struct {
	options Options
	faults  *faults
	log     *slog.Logger
	logs    bool // somebody reads the log
	boxes   *boxes
	queue   *queue
	logins  logins

	mutex   sync.Mutex // guards what follows
	r       *resolve.Resolver
	bounces map[membership]int  // since the last copy that arrived
	proven  map[membership]bool // who has shown that a group's name is theirs to use
	codes   map[string]membership
	// answered is when a group last answered an outside author by itself.
	answered map[membership]time.Time
}

// membership is somebody in a group, by their main addresses.
type membership struct{ person, group string }

func newPost(options Options, log *slog.Logger) (*post, error) {
	p := &post{
		options: options, faults: newFaults(options.Faults), log: log, logs: options.Log != nil,
		r:       resolve.New(options.Estate, estate.DayOf(options.Now())),
		bounces: map[membership]int{}, proven: map[membership]bool{}, codes: map[string]membership{},
		answered: map[membership]time.Time{},
	}
	mail, err := options.folder("mail")
	if err != nil {
		return nil, err
	}
	if p.boxes, err = newBoxes(mail); err != nil {
		return nil, err
	}
	waiting, err := options.folder("queue")
	if err != nil {
		return nil, err
	}
	if p.queue, err = newQueue(waiting); err != nil {
		return nil, err
	}
	e := options.Estate
	for id := range estate.ID(e.Groups()) {
		p.boxes.open(e.Key(e.Address(id)))
	}
	for i := range e.People() {
		if id := e.PersonID(i); e.Person(id).Mailbox != estate.MailboxNone {
			p.boxes.open(e.Key(e.Address(id)))
		}
	}
	return p, nil
}

func (p *post) start() {
	p.queue.run(p.work)
	p.queue.done.Go(func() {
		tick := time.NewTicker(p.options.DigestEvery)
		defer tick.Stop()
		for {
			select {
			case <-p.queue.quit:
				return
			case <-tick.C:
				p.flushDigests()
			}
		}
	})
}

func (p *post) stop() { p.queue.stop() }

func (p *post) settle(d time.Duration) bool { return p.queue.settle(d) }

// reload takes another estate, and welcomes new members.
func (p *post) reload(e *estate.Estate) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	old := p.r
	p.r = resolve.New(e, estate.DayOf(p.options.Now()))
	for id := range estate.ID(e.Groups()) {
		g := e.Group(id)
		if g.NoWelcome {
			continue
		}
		before := map[string]bool{}
		if was, ok := old.Estate().Find(g.Address); ok && old.Estate().IsGroup(was) {
			old.EachMembership(was, func(person estate.ID, _ resolve.Wish, _ estate.Place) {
				before[old.Estate().Key(old.Estate().Address(person))] = true
			})
		}
		p.r.EachMembership(id, func(person estate.ID, _ resolve.Wish, _ estate.Place) {
			if !before[e.Key(e.Address(person))] {
				p.welcome(g, e.Address(person))
			}
		})
	}
}

// An arrival is a message as it comes in.
type arrival struct {
	id      string          // of the service
	login   address.Address // who has logged in, or the zero Address
	from    string          // return path
	raw     []byte
	message *read.Message
	sender  address.Address // who it claims to be from
	traits  resolve.Message
	notify  bool   // the sender wants to hear of success, too
	envID   string // envelope identifier
}

// refusal is an answer that turns a message away.
func refusal(code int, status smtp.EnhancedCode, text string) error {
	return &smtp.SMTPError{Code: code, EnhancedCode: status, Message: text}
}

// newID returns an identifier that nobody can guess.
func newID() string {
	var b [12]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// The local parts of addresses that the service itself answers to, before a
// hyphen and an identifier.
const (
	heldPart = "held-"
	codePart = "code-"
)

// special returns what follows the local part of an address of the service's own.
func (p *post) special(a address.Address, part string) (string, bool) {
	local, domain, _ := strings.Cut(strings.ToLower(a.String()), "@")
	if !strings.HasPrefix(local, part) || !p.r.Estate().InsideDomain(domain) {
		return "", false
	}
	return local[len(part):], true
}

// ownAddress returns an address of the service's own.
func (p *post) ownAddress(part, id string) address.Address {
	a, err := address.Parse(part + id + "@" + p.r.Estate().Settings().Domains[0].Name)
	if err != nil {
		panic("standin: " + err.Error())
	}
	return a
}

// mayTake says whether anybody is at an address, before the message is seen.
func (p *post) mayTake(to address.Address, login bool) error {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	e := p.r.Estate()
	id, known := e.Find(to)
	switch {
	case known && e.IsGroup(id):
		if !p.faults.works(e.Address(id).String()) {
			return refusal(550, smtp.EnhancedCode{5, 1, 1}, "no such address here, or not yet")
		}
		return nil
	case known && e.Inside(id):
		return mailboxRefusal(e.Person(id).Mailbox)
	case e.InsideDomain(to.Domain()):
		_, held := p.special(to, heldPart)
		if _, code := p.special(to, codePart); held || code {
			return nil
		}
		return refusal(550, smtp.EnhancedCode{5, 1, 1}, "no such address here")
	case !login:
		return refusal(550, smtp.EnhancedCode{5, 7, 1}, "relaying denied")
	}
	return nil
}

func mailboxRefusal(state estate.MailboxState) error {
	switch state {
	case estate.MailboxFull:
		return refusal(552, smtp.EnhancedCode{5, 2, 2}, "the mailbox is full")
	case estate.MailboxClosed:
		return refusal(550, smtp.EnhancedCode{5, 2, 1}, "the mailbox is closed")
	case estate.MailboxNone:
		return refusal(550, smtp.EnhancedCode{5, 1, 1}, "no such address here")
	}
	return nil
}

// take judges a message for one recipient, and takes it over unless it returns an
// error.
func (p *post) take(a *arrival, to address.Address) error {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if token, ok := p.special(to, heldPart); ok {
		return p.answerHeld(a, token)
	}
	if code, ok := p.special(to, codePart); ok {
		return p.proveSendAs(a, code)
	}
	fate := message.Of(p.r, message.Envelope{From: a.sender, To: to, Message: a.traits})
	switch {
	case fate.Reason == message.ByEdge:
		return p.stopAtEdge(a, to, fate)
	case fate.Reason != message.ByGate:
		p.note(a, "taken", "to", to.String())
		return p.queue.add(
			job{Kind: copyJob, ID: newID(), To: to.String(), From: a.from, Raw: a.raw, MessageID: a.message.ID},
		)
	}
	return p.takeForGroup(a, fate)
}

// stopAtEdge refuses or drops what the edge of the estate does not let in.
func (p *post) stopAtEdge(a *arrival, to address.Address, fate *message.Fate) error {
	p.note(a, "judged", "to", to.String(), "verdict", fate.Verdict.String(), "edge", fate.Edge)
	if fate.Verdict == estate.Drop {
		p.note(a, "dropped", "to", to.String())
		return nil
	}
	text := fate.Because()
	if text == "" {
		text = "this message is not taken here"
	}
	return refusal(550, smtp.EnhancedCode{5, 7, 1}, oneLine(text))
}

// takeForGroup takes over a message for a group, as its gate says.
func (p *post) takeForGroup(a *arrival, fate *message.Fate) error {
	g := p.r.Estate().Group(fate.To)
	if p.passedBy(a.raw, g) {
		p.note(a, "loop", "group", g.Address.String())
		return refusal(554, smtp.EnhancedCode{5, 4, 6}, "this message has been here before")
	}
	p.note(a, "judged", "group", g.Address.String(), "verdict", fate.Verdict.String(), "rule", fate.Rule,
		"login", a.login.String(), "size", len(a.raw))
	j := job{
		Kind:       groupJob,
		ID:         newID(),
		To:         g.Address.String(),
		From:       a.from,
		Sender:     a.sender.String(),
		Traits:     a.traits,
		Raw:        a.raw,
		MessageID:  a.message.ID,
		Notify:     a.notify,
		EnvelopeID: a.envID,
	}
	switch fate.Verdict {
	case estate.Admit:
		if err := p.queue.add(j); err != nil {
			return err
		}
		p.answerAuthor(a, fate)
		return nil
	case estate.Hold:
		j.Kind, j.Because = heldJob, fate.Because()
		if err := p.queue.add(j); err != nil {
			return err
		}
		p.askApprovers(&j, fate.To)
		if fate.Heard() {
			p.tellHeld(a, g, j.Because)
		}
		return nil
	case estate.Drop:
		p.note(a, "dropped", "group", g.Address.String())
		return nil
	}
	text := fate.Because()
	if text == "" || !fate.Heard() {
		text = "the group does not take this message"
	}
	return refusal(550, smtp.EnhancedCode{5, 7, 1}, oneLine(text))
}

// note writes a line about a message.
func (p *post) note(a *arrival, step string, args ...any) {
	if !p.logs {
		return
	}
	p.log.Info(step, append([]any{"id", a.id, "message", a.message.ID, "from", a.sender.String()}, args...)...)
}

// oneLine returns a text without line ends and needless spaces.
func oneLine(s string) string {
	if !strings.ContainsAny(s, "\r\n\t") && !strings.Contains(s, "  ") {
		return s
	}
	return strings.Join(strings.Fields(s), " ")
}

// passedBy reports whether a group has passed a message on already.
func (p *post) passedBy(raw []byte, g *estate.Group) bool {
	e := p.r.Estate()
	return slices.ContainsFunc(deliveredTo(raw), func(text string) bool {
		a, err := address.Parse(text)
		return err == nil && e.Key(a) == e.Key(g.Address)
	})
}
