package standin

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/emersion/go-smtp"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/read"
)

// mail writes a message of the service's own and readies it. Nobody answers it
// (RFC 3834).
func (p *post) mail(d compose.Message) {
	d.ID = newID() + "@" + p.r.Estate().Settings().Domains[0].Name
	d.Date = p.options.Now()
	raw, err := d.Bytes()
	if err != nil {
		p.log.Error("notice", "detail", err.Error())
		return
	}
	p.send(job{Kind: copyJob, To: d.To.String(), MessageID: d.ID, Raw: raw}, "notice")
}

// holdNested holds a message at a nested group.
func (p *post) holdNested(j job, group estate.ID, decision resolve.Decision, original string) {
	e := p.r.Estate()
	h := j
	h.Kind, h.ID, h.To, h.Nested, h.Original, h.Notify = heldJob, newID(), e.Address(group).String(), true, original, false
	h.Because = p.r.Gate(group).Because(decision)
	if p.queue.add(h) == nil {
		p.askApprovers(&h, group)
	}
}

// askApprovers asks those who can release a held message.
func (p *post) askApprovers(j *job, group estate.ID) {
	e := p.r.Estate()
	g := e.Group(group)
	approvers, _ := p.r.Approvers(group)
	p.line(j, "held", "group", j.To, "approvers", len(approvers))
	for _, person := range approvers {
		p.mail(compose.Message{
			From: p.ownAddress(heldPart, j.ID), To: e.Address(person), Auto: "auto-generated",
			Subject: "Waits for you: a message to " + g.Address.String(),
			Text: claimed(j) + " to " + g.Address.String() + " is held.\n\n" + described(j) + because(j.Because) +
				"Answer this message with the word ADMIT or REFUSE in the first line.\n",
			Parts: []compose.Part{{Type: "message/rfc822", Data: j.Raw}},
		})
	}
}

// claimed says who a held message is from, and whether that is known.
func claimed(j *job) string {
	if j.Traits.Unproven {
		return "A message that claims to be from " + j.Sender + ", NOT authenticated,"
	}
	return "A message from " + j.Sender
}

// described says what approvers want to know of a message: its subject, date and size.
func described(j *job) string {
	text := ""
	if m, err := read.Parse(j.Raw); err == nil {
		text = "Subject: " + oneLine(m.Subject) + "\n"
		if !m.Date.IsZero() {
			text += "Date: " + m.Date.UTC().Format(time.RFC1123Z) + "\n"
		}
	}
	return text + "Size: " + strconv.Itoa(len(j.Raw)) + " bytes\n\n"
}

func because(text string) string {
	if text == "" {
		return ""
	}
	return "Why it is held: " + oneLine(text) + "\n\n"
}

// isForService reports whether a message is for an address of the service's own:
// what it says matters then.
func (p *post) isForService(to []address.Address) bool {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	for _, a := range to {
		_, held := p.special(a, heldPart)
		if _, code := p.special(a, codePart); held || code {
			return true
		}
	}
	return false
}

// mayAnswer reports whether a message may be answered by a program: it comes from
// somebody who is there, is no automatic message itself and no forgery.
func mayAnswer(a *arrival) bool {
	return a.from != "" && !a.traits.Automatic && !a.traits.Unproven
}

// tellHeld tells a sender that their message is held.
func (p *post) tellHeld(a *arrival, g *estate.Group, reason string) {
	if !mayAnswer(a) {
		return
	}
	to, err := address.Parse(a.from)
	if err != nil {
		return
	}
	p.mail(compose.Message{
		From: g.Address, To: to, Auto: "auto-replied", InReplyTo: a.message.ID,
		Subject: "Your message to " + g.Address.String() + " is held for approval",
		Text:    "Your message to " + g.Address.String() + " is held for approval.\n\n" + because(reason),
	})
}

// answerHeld takes the answer of an approver.
func (p *post) answerHeld(a *arrival, token string) error {
	waiting := p.queue.waiting(heldJob)
	for _, j := range waiting {
		if j.ID != token {
			continue
		}
		group, ok := p.group(j.To)
		if !ok || !p.approves(group, a) {
			return refusal(550, smtp.EnhancedCode{5, 7, 1}, "only those who were asked may answer")
		}
		word := strings.ToLower(firstWord(a.message))
		if word != "admit" && word != "refuse" {
			return refusal(550, smtp.EnhancedCode{5, 6, 0}, "answer ADMIT or REFUSE in the first line")
		}
		if j, ok = p.queue.take(token); !ok {
			return nil
		}
		p.line(&j, "released", "group", j.To, "by", a.sender.String(), "answer", word)
		if word == "admit" {
			j.Kind = groupJob
			return p.queue.add(j)
		}
		p.queue.forget(token)
		if to, err := address.Parse(j.From); err == nil && !j.Traits.Automatic && !j.Traits.Unproven {
			p.mail(
				compose.Message{From: p.r.Estate().Address(group), To: to, Auto: "auto-replied", InReplyTo: j.MessageID,
					Subject: "Your message to " + j.To + " is refused", Text: "A moderator of " + j.To +
						" has refused your message.\n"},
			)
		}
		return nil
	}
	return refusal(550, smtp.EnhancedCode{5, 1, 1}, "nothing waits there any more")
}

func (p *post) approves(group estate.ID, a *arrival) bool {
	if a.traits.Unproven || !a.login.IsValid() {
		return false
	}
	people, _ := p.r.Approvers(group)
	by := p.r.Sender(a.login).ID
	for _, person := range people {
		if person == by {
			return true
		}
	}
	return false
}

// firstWord returns the first word of an answer: of its text, or else of its
// subject.
func firstWord(m *read.Message) string {
	for _, text := range []string{m.Text, m.Subject} {
		for _, word := range strings.Fields(text) {
			if !strings.HasSuffix(word, ":") {
				return strings.Trim(word, ".,!")
			}
		}
	}
	return ""
}

// welcome tells somebody that they are a member now.
func (p *post) welcome(g *estate.Group, to address.Address) {
	p.mail(
		compose.Message{
			From:    g.Address,
			To:      to,
			Auto:    "auto-generated",
			Subject: "You are now a member of " + g.Address.String(),
			Text:    "You have been added to " + g.Address.String() + ".\n",
		},
	)
}

// mailCode mails a code to a group, for somebody who wants to write in its name.
func (p *post) mailCode(m membership, group estate.ID) {
	e := p.r.Estate()
	from := e.Settings().CodeSender
	if !from.IsValid() {
		return
	}
	code := newID()[:10]
	p.codes[code] = m
	d := compose.Message{
		From:    from,
		To:      e.Address(group),
		Auto:    "auto-generated",
		ID:      newID() + "@" + from.Domain(),
		Date:    p.options.Now(),
		Subject: "Code for writing in the name of " + m.group,
		Text: "To show that you receive the mail of this group, write to " + p.ownAddress(
			codePart,
			code,
		).String() + " from the address that is to write in its name.\n",
	}
	raw, err := d.Bytes()
	if err != nil {
		return
	}
	a := &arrival{
		id:     newID(),
		from:   from.String(),
		raw:    raw,
		sender: from,
		traits: resolve.Message{Automatic: true, Size: int64(len(raw))},
	}
	a.message, _ = read.Parse(raw)
	fate := message.Of(p.r, message.Envelope{From: a.sender, To: e.Address(group), Message: a.traits})
	if err := p.takeForGroup(a, fate); err != nil {
		p.note(a, "refused", "group", m.group, "detail", err.Error())
	}
}

// proveSendAs takes a code that comes back.
func (p *post) proveSendAs(a *arrival, code string) error {
	m, ok := p.codes[code]
	if !ok || !a.login.IsValid() || !address.Same(m.person, p.mainAddress(a.login)) {
		return refusal(550, smtp.EnhancedCode{5, 7, 1}, "this code is not yours")
	}
	delete(p.codes, code)
	p.proven[m] = true
	p.note(a, "proven", "group", m.group)
	return nil
}

func (p *post) mainAddress(a address.Address) string {
	if id, ok := p.r.Estate().Find(a); ok {
		return p.r.Estate().Address(id).String()
	}
	return a.String()
}

// failure is what a report says about one recipient.
type failure struct{ final, status, text string }

// report sends a delivery status notification (RFC 3464) to the return path of a
// message. Who is not proven or is outside learns of the group only, not of its
// members.
func (p *post) report(j job, action string, failures []failure) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.tell(j, action, failures)
}

// tell is report for anyone who holds the mutex.
func (p *post) tell(j job, action string, failures []failure) {
	to, err := address.Parse(j.From)
	if err != nil || j.Traits.Unproven {
		return // no return path, or not theirs: nobody is notified (RFC 5321, section 6.1)
	}
	e := p.r.Estate()
	domain := e.Settings().Domains[0].Name
	var status, text strings.Builder
	fmt.Fprintf(&status, "Reporting-MTA: dns; %s\r\n", domain)
	if j.EnvelopeID != "" {
		fmt.Fprintf(&status, "Original-Envelope-Id: %s\r\n", oneLine(j.EnvelopeID))
	}
	fmt.Fprintf(&status, "Arrival-Date: %s\r\n", p.options.Now().Format(time.RFC1123Z))
	for _, f := range failures {
		final := f.final
		if j.Original != "" && !e.InsideDomain(to.Domain()) {
			final = j.Original
		}
		status.WriteString("\r\n")
		if j.Original != "" {
			fmt.Fprintf(&status, "Original-Recipient: rfc822; %s\r\n", j.Original)
		}
		fmt.Fprintf(
			&status,
			"Final-Recipient: rfc822; %s\r\nAction: %s\r\nStatus: %s\r\nDiagnostic-Code: smtp; %s %s\r\n",
			final,
			action,
			f.status,
			map[bool]string{true: "250", false: "550"}[action == "expanded"],
			f.text,
		)
		fmt.Fprintf(&text, "%s: %s (%s)\n", final, f.text, f.status)
	}
	subject := "Undelivered: your message"
	if action == "expanded" {
		subject = "Delivered: your message"
	}
	head, _, _ := splitRaw(j.Raw)
	var original []byte
	for _, f := range head {
		original = append(original, f...)
	}
	postmaster, err := address.Parse("postmaster@" + domain)
	if err != nil {
		return
	}
	p.mail(compose.Message{
		From: postmaster, To: to, Auto: "auto-replied", InReplyTo: j.MessageID, Subject: subject, Report: "delivery-status",
		Text: "This is about the message that you have sent.\n\n" + text.String(),
		Parts: []compose.Part{
			{Type: "message/delivery-status", Data: []byte(status.String())},
			{Type: "text/rfc822-headers", Data: original},
		},
	})
}

// flushDigests sends what has been collected for digests (RFC 2046, section
// 5.1.5), one message for each member and group.
func (p *post) flushDigests() {
	type key struct{ member, group string }
	p.mutex.Lock()
	defer p.mutex.Unlock()
	collected := map[key][]job{}
	for _, j := range p.queue.waiting(digestJob) {
		if j, ok := p.queue.take(j.ID); ok {
			collected[key{j.Member, j.Group}] = append(collected[key{j.Member, j.Group}], j)
		}
	}
	for k, jobs := range collected {
		group, ok := p.group(k.group)
		to, err := address.Parse(k.member)
		if !ok || err != nil {
			continue
		}
		d := compose.Message{
			From:    p.r.Estate().Address(group),
			To:      to,
			Auto:    "auto-generated",
			Subject: "Digest of " + k.group,
			Digest:  true,
			Extra:   []compose.Field{{Name: "List-Id", Value: "<" + strings.Replace(k.group, "@", ".", 1) + ">"}},
		}
		for _, j := range jobs {
			d.Parts = append(d.Parts, compose.Part{Type: "message/rfc822", Data: j.Raw})
		}
		p.mail(d)
		for _, j := range jobs {
			p.queue.forget(j.ID)
		}
	}
}
