package standin

import (
	"bytes"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// work does a job.
func (p *post) work(j job) {
	switch j.Kind {
	case groupJob:
		// The job is on disk until all its copies are where they belong.
		for _, c := range p.layOut(j) {
			if c.Due.IsZero() {
				p.hand(c)
			} else if err := p.queue.add(c); err != nil {
				p.line(&c, "lost", "to", c.To, "detail", err.Error())
			}
		}
	case copyJob:
		p.hand(j)
	}
}

// line writes a log line about a job.
func (p *post) line(j *job, step string, args ...any) {
	if !p.logs {
		return
	}
	p.log.Info(step, append([]any{"id", j.ID, "message", j.MessageID}, args...)...)
}

// layOut makes the copies of a message that a group has let in.
func (p *post) layOut(j job) []job {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	group, ok := p.group(j.To)
	sender, err := address.Parse(j.Sender)
	if !ok || err != nil {
		p.line(&j, "lost", "group", j.To, "detail", "the group is gone")
		return nil
	}
	l := &laying{post: p, job: j, group: group, from: p.r.Sender(sender), texts: map[estate.ID][]byte{}}
	if l.original = j.To; j.Original != "" {
		l.original = j.Original
	}
	l.d = p.r.Deliver(resolve.Query{Group: group, Sender: &l.from, Message: j.Traits})
	p.line(&j, "expanded", "group", j.To)
	l.archives()
	for _, recipient := range l.d.Recipients() {
		if !j.Nested || !p.hadBefore(&j, recipient.ID, &l.from) {
			l.copyFor(recipient)
		}
	}
	if j.Notify {
		p.tell(j, "expanded", []failure{{final: j.To, status: "2.0.0", text: "laid out to its members"}})
	}
	return l.all
}

// laying is a message that is being laid out.
type laying struct {
	*post
	job      job
	group    estate.ID // that it came to
	original string    // the group that it was sent to first
	from     resolve.Sender
	d        *resolve.Delivery
	texts    map[estate.ID][]byte // by the group whose members get it
	all      []job
}

// copyOf returns a copy that a group hands out, to an address.
func (l *laying) copyOf(path resolve.Path, to string) job {
	e := l.r.Estate()
	if l.texts[path.Group] == nil {
		l.texts[path.Group] = l.dress(l.job.Raw, e.Group(path.Group), e.Group(l.group))
	}
	return job{
		Kind:      copyJob,
		To:        to,
		Group:     e.Address(path.Group).String(),
		Original:  l.original,
		From:      l.job.From,
		Sender:    l.job.Sender,
		MessageID: l.job.MessageID,
		Raw:       l.texts[path.Group],
	}
}

// send readies a copy, with whatever fault befalls it.
func (l *laying) send(c job, step string) {
	c.ID = l.job.ID + "-" + strconv.Itoa(len(l.all)) // the same if it is done again after a crash
	l.line(&c, step, "to", c.To, "group", c.Group)
	l.all = append(l.all, l.befall(c)...)
}

// archives keeps the message with the groups that keep it, and holds it where a nested
// group does.
func (l *laying) archives() {
	e := l.r.Estate()
	asked := map[estate.ID]bool{}
	for _, path := range l.d.Paths {
		switch kind := e.Group(path.Group).Kind; {
		case path.State == resolve.PathOpen && (kind == estate.Forum || kind == estate.Mailbox):
			l.send(l.copyOf(path, e.Address(path.Group).String()), "archived")
		case path.State == resolve.PathWaiting:
			if at, decision, ok := l.d.Hindrance(path); ok && !asked[at] {
				asked[at] = true
				l.holdNested(l.job, at, decision, l.original)
			}
		}
	}
}

// copyFor readies what somebody gets.
func (l *laying) copyFor(recipient resolve.Recipient) {
	path := l.d.Path(recipient)
	c := l.copyOf(path, l.r.Estate().Address(recipient.ID).String())
	c.Traits, c.EnvelopeID = l.job.Traits, l.job.EnvelopeID
	switch recipient.Outcome {
	case resolve.Inbox, resolve.Undeliverable:
		after := l.r.Estate().Group(path.Group).PauseAfter
		if after > 0 && l.bounces[membership{c.To, c.Group}] >= after {
			l.line(&c, "paused", "to", c.To, "group", c.Group)
			return
		}
		l.send(c, "copied")
	case resolve.Digest:
		c.Kind, c.Member, c.To = digestJob, c.To, c.Group
		c.ID = l.job.ID + "-digest-" + strconv.Itoa(int(recipient.ID))
		if l.queue.add(c) == nil {
			l.line(&c, "collected", "to", c.Member, "group", c.Group)
		}
	}
}

// hadBefore reports whether somebody already got a message that now comes to them
// by a nested group that has released it.
func (p *post) hadBefore(j *job, person estate.ID, from *resolve.Sender) bool {
	top, ok := p.group(j.Original)
	if !ok {
		return false
	}
	for _, recipient := range p.r.Deliver(resolve.Query{Group: top, Sender: from, Message: j.Traits}).Recipients() {
		if recipient.ID == person {
			return recipient.Outcome != resolve.Waiting
		}
	}
	return false
}

func (p *post) group(text string) (estate.ID, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return 0, false
	}
	id, ok := p.r.Estate().Find(a)
	return id, ok && p.r.Estate().IsGroup(id)
}

// send readies a copy, with whatever fault befalls it.
func (p *post) send(c job, step string) {
	c.ID = newID()
	p.line(&c, step, "to", c.To, "group", c.Group)
	for _, one := range p.befall(c) {
		if err := p.queue.add(one); err != nil {
			p.line(&c, "lost", "to", c.To, "detail", err.Error())
		}
	}
}

// befall returns what becomes of a copy on its way.
func (p *post) befall(c job) []job {
	if p.faults.now("lose", c.To, c.Group) != nil {
		p.line(&c, "fault", "do", "lose", "to", c.To)
		return nil
	}
	if t := p.faults.now("delay", c.To, c.Group); t != nil {
		c.Due = clock.Now().Add(t.By)
		p.line(&c, "fault", "do", "delay", "to", c.To)
	}
	if p.faults.now("junk", c.To, c.Group) != nil {
		c.Folder = junkFolder
		p.line(&c, "fault", "do", "junk", "to", c.To)
	}
	if t := p.faults.now("rewrite", c.To, c.Group); t != nil {
		c.Raw = setField(c.Raw, t.Field, t.Value)
		p.line(&c, "fault", "do", "rewrite", "to", c.To)
	}
	if p.faults.now("duplicate", c.To, c.Group) != nil {
		p.line(&c, "fault", "do", "duplicate", "to", c.To)
		twin := c
		twin.ID = newID()
		return []job{c, twin}
	}
	return []job{c}
}

// hand puts a copy into a mailbox, or bounces it.
func (p *post) hand(j job) {
	p.mutex.Lock()
	to, person := j.To, estate.ID(estate.None)
	state := estate.MailboxOpen
	e := p.r.Estate()
	inside := false
	if a, err := address.Parse(j.To); err == nil {
		inside = e.InsideDomain(a.Domain())
		if id, ok := e.Find(a); ok {
			to, person = e.Address(id).String(), id
		}
		to = e.Key(address.MustParse(to))
	}
	if e.IsPerson(person) {
		state = e.Person(person).Mailbox
	} else if person == estate.None && inside {
		state = estate.MailboxNone
	}
	target, forwarded := p.faults.forward(j.To)
	p.mutex.Unlock()
	if forwarded && j.Hops < hopLimit {
		j.To, j.Hops, j.ID = target, j.Hops+1, newID()
		p.line(&j, "forwarded", "to", target)
		_ = p.queue.add(j)
		return
	}
	m := membership{j.To, j.Group}
	if state != estate.MailboxOpen {
		f := failure{
			final: j.To,
			status: map[estate.MailboxState]string{estate.MailboxFull: "5.2.2", estate.MailboxClosed: "5.2.1",
				estate.MailboxNone: "5.1.1"}[state],
			text: "the mailbox is " + state.String(),
		}
		p.line(&j, "bounced", "to", j.To, "group", j.Group, "status", f.status)
		p.mutex.Lock()
		p.bounces[m]++
		p.mutex.Unlock()
		p.report(j, "failed", []failure{f})
		return
	}
	if err := p.boxes.put(to, j.Folder, j.ID, j.Raw); err != nil {
		p.line(&j, "bounced", "to", j.To, "detail", err.Error())
		p.report(j, "failed", []failure{{final: j.To, status: "5.3.0", text: "the mailbox cannot be written"}})
		return
	}
	p.line(&j, "delivered", "to", j.To, "group", j.Group, "folder", folderName(j.Folder))
	p.mutex.Lock()
	delete(p.bounces, m)
	p.mutex.Unlock()
}

// dress gives a copy the header fields of the group that passes it on (RFC 2369,
// RFC 2919, RFC 8058). A nested group's take the place of the outer one's.
func (p *post) dress(raw []byte, g, sentTo *estate.Group) []byte {
	name := g.Address.String()
	local, domain, _ := strings.Cut(name, "@")
	fields := []headerEdit{
		{"Delivered-To", name, true},
		{"List-Id", quoteTitle(g.Title) + "<" + local + "." + domain + ">", false},
		{"List-Post", "<mailto:" + name + ">", false},
		{
			"List-Unsubscribe",
			"<https://lists." + domain + "/leave/" + local + ">, <mailto:" + local + "-leave@" + domain + ">",
			false,
		},
		{"List-Unsubscribe-Post", "List-Unsubscribe=One-Click", false},
		{"Precedence", "list", false},
	}
	switch {
	case g.RepliesToAt.IsValid():
		fields = append(fields, headerEdit{"Reply-To", "<" + g.RepliesToAt.String() + ">", false})
	case g.RepliesTo == estate.PartyGroup:
		fields = append(fields, headerEdit{"Reply-To", "<" + name + ">", false})
	}
	if tag := sentTo.SubjectTag; tag != "" {
		if subject := field(raw, "Subject"); !strings.Contains(subject, tag) {
			fields = append(fields, headerEdit{"Subject", strings.TrimSpace(tag + " " + subject), false})
		}
	}
	return withFooter(editHeader(raw, fields...), sentTo.Footer)
}

func quoteTitle(title string) string {
	clean := strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' || strings.ContainsRune(`"\<>`, r) {
			return -1
		}
		return r
	}, title)
	if clean == "" {
		return ""
	}
	return `"` + clean + `" `
}

// field returns the text of the first header field of a name.
func field(raw []byte, name string) string {
	head, _, _ := splitRaw(raw)
	for _, f := range head {
		if strings.EqualFold(fieldName(f), name) {
			_, value, _ := strings.Cut(string(f), ":")
			return strings.Join(strings.Fields(value), " ")
		}
	}
	return ""
}

// deliveredTo returns the groups that have passed a message on.
func deliveredTo(raw []byte) []string {
	if !bytes.Contains(raw, []byte("Delivered-To:")) {
		return nil
	}
	var list []string
	head, _, _ := splitRaw(raw)
	for _, f := range head {
		if strings.EqualFold(fieldName(f), "Delivered-To") {
			_, value, _ := strings.Cut(string(f), ":")
			list = append(list, strings.TrimSpace(value))
		}
	}
	return list
}

func fieldName(f []byte) string {
	name, _, _ := bytes.Cut(f, []byte(":"))
	return string(bytes.TrimSpace(name))
}

// splitRaw cuts a message into header fields, with their line ends, and the rest
// from the empty line on.
func splitRaw(raw []byte) (fields [][]byte, rest []byte, ok bool) {
	for len(raw) > 0 {
		end := bytes.IndexByte(raw, '\n') + 1
		if end == 0 {
			end = len(raw)
		}
		line := raw[:end]
		if len(bytes.TrimRight(line, "\r\n")) == 0 {
			return fields, raw, true
		}
		if (line[0] == ' ' || line[0] == '\t') && len(fields) > 0 {
			last := fields[len(fields)-1]
			fields[len(fields)-1] = append(last[:len(last):len(last)], line...)
		} else {
			fields = append(fields, line)
		}
		raw = raw[end:]
	}
	return fields, []byte("\r\n"), false
}

// headerEdit is a header field that is put in front, in place of those of the same
// name unless it is added to them. An empty value takes them out.
type headerEdit struct {
	name, value string
	add         bool
}

// editHeader changes header fields, in one go through the header.
func editHeader(raw []byte, edits ...headerEdit) []byte {
	b := make([]byte, 0, len(raw)+128*len(edits))
	for i := range edits {
		if edits[i].value != "" {
			b = append(b, edits[i].name...)
			b = append(b, ": "...)
			b = append(b, oneLine(edits[i].value)...)
			b = append(b, "\r\n"...)
		}
	}
	left, replaced := raw, false
	for len(left) > 0 {
		end := bytes.IndexByte(left, '\n') + 1
		if end == 0 {
			end = len(left)
		}
		line := left[:end]
		if line[0] == '\n' || line[0] == '\r' && len(line) == 2 {
			break
		}
		if line[0] != ' ' && line[0] != '\t' {
			replaced = replaces(edits, line)
		}
		if !replaced {
			b = append(b, line...)
		}
		left = left[end:]
	}
	if len(left) == 0 {
		return append(b, "\r\n"...)
	}
	return append(b, left...)
}

// replaces reports whether a header field is to be replaced.
func replaces(edits []headerEdit, line []byte) bool {
	colon := bytes.IndexByte(line, ':')
	if colon < 0 {
		return false
	}
	name := bytes.TrimRight(line[:colon], " \t")
	for i := range edits {
		if !edits[i].add && len(name) == len(edits[i].name) && strings.EqualFold(string(name), edits[i].name) {
			return true
		}
	}
	return false
}

// setField replaces all header fields of a name by one, or by none where value is
// empty.
func setField(raw []byte, name, value string) []byte {
	return editHeader(raw, headerEdit{name, value, false})
}
