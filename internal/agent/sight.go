package agent

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/store"
)

// What a message in a mailbox is to a case.
const (
	Copy     = "copy"     // the message itself
	Digest   = "digest"   // in a collection
	Bounce   = "bounce"   // word that it did not arrive, or not yet
	Notice   = "notice"   // a program's answer to it: it is held, or thanks
	Approval = "approval" // somebody is asked to release it
	Success  = "success"  // word that it arrived (RFC 3461)
	Answer   = "answer"   // somebody's answer to it
	Code     = "code"     // the code by which somebody proves that they may write it
)

// Details are what is kept of a message that was seen.
type Details struct {
	Role           mailbox.Role   `json:"in"`
	ID             string         `json:"id,omitempty"`
	From           []string       `json:"from,omitempty"`
	Sender         []string       `json:"sender,omitempty"`
	ReplyTo        []string       `json:"replyTo,omitempty"`
	To             []string       `json:"to,omitempty"`
	Cc             []string       `json:"cc,omitempty"`
	Subject        string         `json:"subject,omitempty"`
	Text           string         `json:"text,omitempty"` // how it begins
	ListID         string         `json:"listId,omitempty"`
	ListPost       string         `json:"listPost,omitempty"`
	Unsubscribe    string         `json:"unsubscribe,omitempty"`
	Authentication []string       `json:"authentication,omitempty"`
	Shown          []string       `json:"shown,omitempty"` // addresses in its header
	Auto           string         `json:"auto,omitempty"`
	Failed         []read.Failure `json:"failed,omitempty"` // of a bounce
	// Answer is where the answer to a request goes.
	Answer string `json:"answer,omitempty"`
	// Doubt says why a request to an approver is not believed, or is empty.
	Doubt string `json:"doubt,omitempty"`
}

// The bounds of what is kept of a message.
const (
	mostText  = 4 << 10 // bytes
	mostShown = 200     // addresses, and of each list
)

func detailsOf(m *read.Message, role mailbox.Role) Details {
	d := Details{Role: role, ID: m.ID, From: texts(m.From), Sender: texts(m.Sender), ReplyTo: texts(m.ReplyTo),
		To: texts(m.To), Cc: texts(m.Cc), Subject: m.Subject, Text: m.AllText(), ListID: m.ListID, ListPost: m.ListPost,
		Unsubscribe: m.ListUnsubscribe, Authentication: m.Authentication, Shown: m.Shown, Auto: m.Auto}
	d.Text = strings.ToValidUTF8(d.Text[:min(len(d.Text), mostText)], "")
	d.Shown = d.Shown[:min(len(d.Shown), mostShown)]
	d.Authentication = d.Authentication[:min(len(d.Authentication), mostShown)]
	return d
}

func texts(list []address.Address) []string {
	var words []string
	for _, a := range list[:min(len(list), mostShown)] {
		words = append(words, a.String())
	}
	return words
}

// wanted are the cases of a run that messages may be about.
type wanted struct {
	run     string
	domains []string  // that are inside, by the run
	began   time.Time // codes that were mailed before are not the run's
	cases   []wantedCase
}

// skew is how far the clocks of mail systems may be apart.
const skew = 2 * time.Minute

type wantedCase struct {
	id, tag, from string // from: the key of who wrote it
	by, code      string // keys of who submits it, and of who mails them a code
}

func wantedOf(run store.Run, cases []store.Case) *wanted {
	w := &wanted{run: run.Name, domains: run.Terms.Domains, began: run.Began}
	for _, c := range cases {
		var d Draft
		one := wantedCase{id: c.MessageID, tag: c.Tag}
		if !isMark(run.Name, c.Tag, c.MessageID) {
			one = wantedCase{} // nothing is about it
		} else if json.Unmarshal(c.Draft, &d) == nil {
			one.from, one.by, one.code = keyOf(d.From), keyOf(d.By), keyOf(d.Code)
		}
		w.cases = append(w.cases, one)
	}
	return w
}

// wants reports whether a message may be about this run, by its header: it is one of the
// run's, or something that a mail system writes, or an answer.
func (w *wanted) wants(m *read.Message) bool {
	if m.Tag != "" {
		return strings.HasPrefix(m.Tag, w.run+".")
	}
	for _, c := range w.cases {
		if c.tag == "" {
			continue
		}
		if m.ID == c.id || slices.Contains(m.Answers, c.id) || strings.Contains(m.Subject, c.tag) {
			return true
		}
	}
	return m.Auto != "" || strings.HasPrefix(m.Type, "multipart/") || strings.HasPrefix(m.Type, "message/") ||
		m.Failed() != nil || m.FromSystem()
}

// sighting is what a message is to a case.
type sighting struct {
	n       int
	what    string
	details Details
}

// sight returns what a message is to the cases of the run, now.
func (w *wanted) sight(item mailbox.Item, now time.Time) []sighting {
	m := item.Message
	var list []sighting
	for n, c := range w.cases {
		if c.tag == "" {
			continue
		}
		what := c.what(m, item.Account)
		if what == Code && m.Date.Before(later(w.began.Add(-skew), now.Add(-mostCode))) {
			continue
		}
		if what != "" {
			s := sighting{n, what, detailsOf(m, item.Role)}
			if what == Code { // it came: what it says is for anyone who may write
				s.details = Details{Role: item.Role, From: texts(m.From)}
			}
			if m.Bounce != nil {
				s.details.Failed = m.Bounce.Recipients
			}
			if what == Approval {
				s.details.Answer = answerTo(m)
			}
			list = append(list, s)
		}
	}
	return list
}

// what returns the part that a message in a mailbox plays for a case, or "" if it plays none.
func (c *wantedCase) what(m *read.Message, account string) string {
	inner := slices.IndexFunc(m.Inner, func(i read.Inner) bool { return i.ID == c.id || i.Tag == c.tag })
	switch {
	case m.Tag == c.tag || m.ID == c.id:
		return Copy
	case m.Bounce != nil && (m.About(c.id) || m.Bounce.EnvelopeID == c.tag || m.Mentions(c.tag) || inner >= 0):
		if isSuccess(m.Bounce.Recipients) {
			return Success
		}
		return Bounce
	case inner >= 0 && m.Inner[inner].Digest:
		return Digest
	case inner >= 0 && !c.wrote(m) && !slices.Contains(m.Answers, c.id):
		return Approval
	case (slices.Contains(m.Answers, c.id) || strings.Contains(m.Subject, c.tag)) && m.Auto != "":
		return Notice
	case slices.Contains(m.Answers, c.id) || strings.Contains(m.Subject, c.tag) || m.Mentions(c.tag):
		return Answer
	case c.code != "" && m.Auto != "" && len(m.From) == 1 && m.From[0].Key() == c.code && keyOf(account) == c.by:
		return Code
	}
	return ""
}

// wrote reports whether a message is from the author of the case.
func (c *wantedCase) wrote(m *read.Message) bool {
	return slices.ContainsFunc(m.From, func(a address.Address) bool { return a.Key() == c.from })
}

// isSuccess reports whether a notice of delivery reports no failure and no delay.
func isSuccess(list []read.Failure) bool {
	return len(list) > 0 && !slices.ContainsFunc(list, func(f read.Failure) bool {
		return f.Action == "failed" || f.Action == "" || f.Action == "delayed"
	})
}

// answerTo returns where an answer to a message goes, or "".
func answerTo(m *read.Message) string {
	for _, list := range [][]address.Address{m.ReplyTo, m.From} {
		if len(list) > 0 {
			return list[0].String()
		}
	}
	return ""
}
