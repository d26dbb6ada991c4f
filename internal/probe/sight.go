package probe

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/watch"
)

// What a message in a mailbox is to a case.
const (
	sawCopy     = "copy"     // the message itself
	sawDigest   = "digest"   // in a collection
	sawBounce   = "bounce"   // word that it did not arrive
	sawNotice   = "notice"   // a program's answer to it: it is held, or refused
	sawApproval = "approval" // somebody is asked to release it
	sawSuccess  = "success"  // word that it arrived (RFC 3461)
)

// A Sighting is something about a case that was seen in a mailbox.
type Sighting struct {
	watch.Place
	Validity uint32         `json:"validity"`
	UID      uint32         `json:"uid"`
	Case     int            `json:"case"`
	What     string         `json:"what"`
	Failed   []read.Failure `json:"failed,omitempty"` // of a bounce
	Groups   []string       `json:"groups,omitempty"` // of an approval: the groups that it names
	Answer   string         `json:"answer,omitempty"` // of an approval: where the answer goes
	AnswerID string         `json:"answerId,omitempty"`
	View     *View          `json:"view,omitempty"` // of a copy
	Seconds  float64        `json:"seconds"`        // after it was sent
}

// A View is what the reader of a copy sees.
type View struct {
	From           []string `json:"from"`
	Sender         []string `json:"sender,omitempty"`
	ReplyTo        []string `json:"replyTo,omitempty"`
	Subject        string   `json:"subject"`
	ListID         string   `json:"listId,omitempty"`
	Unsubscribe    string   `json:"listUnsubscribe,omitempty"`
	Authentication []string `json:"authentication,omitempty"`
	// Answer is where an answer goes, and AnswerAll where one to all does, besides.
	Answer    []string `json:"answer"`
	AnswerAll []string `json:"answerAll"`
	// Shows are inside addresses that stand in the header, besides the group's, the
	// sender's and the reader's own.
	Shows []string `json:"shows,omitempty"`
}

// wants reports whether a message may be about this run, by its header: it is one
// of the run's, or something that a mail system writes.
func (p *Plan) wants(m *read.Message) bool {
	if m.Tag != "" {
		return strings.HasPrefix(m.Tag, p.Run+".")
	}
	for i := range p.Cases {
		if m.ID == p.Cases[i].ID || slices.Contains(m.Answers, p.Cases[i].ID) {
			return true
		}
	}
	return m.Auto != "" || strings.HasPrefix(m.Type, "multipart/") || strings.HasPrefix(m.Type, "message/") ||
		m.Failed() != nil ||
		m.FromSystem()
}

// sight returns what a message is to the cases of the run.
func (p *Plan) sight(item watch.Item) []Sighting {
	m := item.Message
	var list []Sighting
	for i := range p.Cases {
		c := &p.Cases[i]
		s := Sighting{Place: item.Place, Validity: item.Validity, UID: item.UID, Case: i}
		inner := slices.IndexFunc(
			m.Inner,
			func(inner read.Inner) bool { return inner.ID == c.ID || inner.Tag == c.Tag },
		)
		switch {
		case m.Tag == c.Tag || m.ID == c.ID:
			s.What, s.View = sawCopy, p.view(c, m, item.Account)
		case m.Bounce != nil && (m.About(c.ID) || m.Bounce.EnvelopeID == c.Tag):
			s.What, s.Failed = sawBounce, m.Bounce.Recipients
			if !slices.ContainsFunc(
				s.Failed,
				func(f read.Failure) bool { return f.Action == "failed" || f.Action == "" || f.Action == "delayed" },
			) &&
				len(s.Failed) > 0 {
				s.What = sawSuccess
			}
		case inner >= 0 && m.Inner[inner].Digest:
			s.What = sawDigest
		case inner >= 0 && !sameAddress(m.From, c.From) && !slices.Contains(m.Answers, c.ID):
			s.What, s.Groups = sawApproval, p.named(m)
			s.Answer, s.AnswerID = answerTo(m), m.ID
		case slices.Contains(m.Answers, c.ID) && m.Auto != "":
			s.What, s.Groups = sawNotice, p.named(m)
		default:
			continue
		}
		list = append(list, s)
	}
	return list
}

func sameAddress(list []address.Address, a address.Address) bool {
	return slices.ContainsFunc(list, func(one address.Address) bool { return one.Key() == a.Key() })
}

func answerTo(m *read.Message) string {
	for _, list := range [][]address.Address{m.ReplyTo, m.From} {
		if len(list) > 0 {
			return list[0].String()
		}
	}
	return ""
}

// named returns the addresses of groups that a message names in its header or
// text, of those that a case can come to.
func (p *Plan) named(m *read.Message) []string {
	text := strings.ToLower(m.Subject + "\n" + m.Text)
	var groups []string
	for _, name := range p.groupNames() {
		if strings.Contains(text, name) || slices.Contains(m.Shown, name) {
			groups = append(groups, name)
		}
	}
	return groups
}

// groupNames returns the addresses of the groups that the cases can come to, lower
// case.
func (p *Plan) groupNames() []string {
	if p.names != nil {
		return p.names
	}
	e := p.resolver.Estate()
	add := func(id estate.ID) {
		if name := strings.ToLower(e.Address(id).String()); !slices.Contains(p.names, name) {
			p.names = append(p.names, name)
		}
	}
	for i := range p.Cases {
		add(p.Cases[i].Group)
		for it := p.resolver.Members(p.Cases[i].Group).Iterator(); it.HasNext(); {
			id := estate.ID(it.Next())
			if !e.IsGroup(id) {
				break // groups come first
			}
			add(id)
		}
	}
	return p.names
}

// key returns what a mailbox is known by, however its address is written: the key of
// the address in the estate.
func (p *Plan) key(text string) string {
	a, err := address.Parse(text)
	if err != nil {
		return strings.ToLower(text)
	}
	return p.resolver.Estate().Key(a)
}

// view returns what the reader of a copy sees.
func (p *Plan) view(c *Case, m *read.Message, reader string) *View {
	v := &View{From: texts(m.From), Sender: texts(m.Sender), ReplyTo: texts(m.ReplyTo), Subject: m.Subject,
		ListID: m.ListID, Unsubscribe: m.ListUnsubscribe, Authentication: m.Authentication}
	v.Answer = v.From
	if len(v.ReplyTo) > 0 {
		v.Answer = v.ReplyTo
	}
	v.AnswerAll = []string{}
	for _, a := range append(m.To, m.Cc...) {
		if text := a.String(); !slices.Contains(v.Answer, text) && p.resolver.Estate().Key(a) != p.key(reader) {
			v.AnswerAll = append(v.AnswerAll, text)
		}
	}
	e := p.resolver.Estate()
	for _, shown := range m.Shown {
		a, err := address.Parse(shown)
		if err != nil {
			continue
		}
		id, ok := e.Find(a)
		if ok && e.IsPerson(id) && e.Inside(id) && e.Key(a) != e.Key(c.From) && e.Key(a) != p.key(reader) {
			v.Shows = append(v.Shows, shown)
		}
	}
	return v
}

func texts(list []address.Address) []string {
	var words []string
	for _, a := range list {
		words = append(words, a.String())
	}
	return words
}
