package read

import (
	"bufio"
	"bytes"
	"net/textproto"
	"regexp"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
)

// readStatus reads message/delivery-status (RFC 3464, section 2.1): groups of
// fields, the first about the message and each further one about a recipient.
func (b *Bounce) readStatus(data []byte) {
	r := textproto.NewReader(bufio.NewReader(bytes.NewReader(append(bytes.TrimSpace(data), "\r\n\r\n"...))))
	for group := 0; group < maxParts; group++ {
		fields, err := r.ReadMIMEHeader()
		if len(fields) > 0 {
			if id := fields.Get("Original-Envelope-Id"); id != "" {
				b.EnvelopeID = id
			}
			if final := typed(fields.Get("Final-Recipient")); final != "" {
				status, _, _ := strings.Cut(fields.Get("Status"), " ") // a comment may follow
				b.Recipients = append(b.Recipients, Failure{
					Final:    final,
					Original: typed(fields.Get("Original-Recipient")),
					Action: strings.ToLower(
						strings.TrimSpace(fields.Get("Action")),
					),
					Status:     status,
					Diagnostic: typed(fields.Get("Diagnostic-Code")),
				})
			}
		}
		if err != nil {
			return
		}
	}
}

// typed returns what follows the type of a field, such as "rfc822;".
func typed(value string) string {
	if _, after, ok := strings.Cut(value, ";"); ok {
		value = after
	}
	return strings.ToLower(strings.Trim(strings.TrimSpace(value), "<>"))
}

// bounceSenders are the local parts that mail systems bounce from.
var bounceSenders = []string{"mailer-daemon", "postmaster", "mail-daemon"}

// recogniseBounce takes a message that a mail system sends about another for a
// bounce, where it does not keep to the standard.
func (m *Message) recogniseBounce() {
	if m.Bounce != nil {
		// Some systems name the group in the status, and who failed elsewhere.
		for _, failed := range m.Failed() {
			m.Bounce.Recipients = append(m.Bounce.Recipients, Failure{Final: failed, Action: "failed"})
		}
		for i := range m.Bounce.Recipients { // the status may be bare, and the text say more
			if f := &m.Bounce.Recipients[i]; f.Diagnostic == "" {
				f.Diagnostic = m.reasonOf(f.Final)
			}
		}
		return
	}
	if !m.FromSystem() || len(m.Failed()) == 0 && !m.saysUndelivered() {
		return
	}
	m.Bounce = &Bounce{}
	for _, failed := range m.Failed() {
		m.Bounce.Recipients = append(m.Bounce.Recipients, Failure{Final: failed, Action: "failed"})
	}
	if len(m.Bounce.Recipients) == 0 {
		m.Bounce.Recipients = m.failedByText()
	}
}

// mailbox is an address in the text of a bounce, status a code (RFC 3463).
var (
	mailbox = regexp.MustCompile(`[^\s<>()\[\]",;:]+@[A-Za-z0-9.-]+[A-Za-z0-9]`)
	status  = regexp.MustCompile(`\b[45]\.\d{1,3}\.\d{1,3}\b`)
)

// mostLines is how much of the text of a bounce is looked at.
const mostLines = 60

// failedByText returns who failed by the text of a bounce that says it in no other way: each
// address in a line of its own, before the message that it is about, with the line itself and
// the next as the reason.
func (m *Message) failedByText() []Failure {
	lines := strings.Split(m.Text, "\n")
	var list []Failure
	for i, line := range lines[:min(len(lines), mostLines)] {
		text := strings.TrimSpace(line)
		if quotesMessage(text) {
			break
		}
		if text == "" || len(strings.Fields(text)) > 12 {
			continue
		}
		found := strings.ToLower(mailbox.FindString(text))
		if found == "" || m.isParty(found) || slices.ContainsFunc(list, func(f Failure) bool { return f.Final == found }) {
			continue
		}
		reason := text
		if i+1 < len(lines) {
			reason += " " + strings.TrimSpace(lines[i+1])
		}
		list = append(list, Failure{Final: found, Action: "failed", Status: status.FindString(reason), Diagnostic: reason})
	}
	return list
}

// reasonOf returns what the text of a bounce says behind an address, up to an empty line or another
// address; "" where it does not name it.
func (m *Message) reasonOf(failed string) string {
	lines := strings.Split(m.Text, "\n")
	for i, line := range lines[:min(len(lines), mostLines)] {
		text := strings.TrimSpace(line)
		if quotesMessage(text) {
			break
		}
		at := strings.Index(strings.ToLower(text), failed)
		if at < 0 || len(strings.Fields(text)) > 12 {
			continue
		}
		parts := []string{strings.TrimLeft(text[at+len(failed):], ">: ")}
		for _, next := range lines[i+1 : min(len(lines), i+1+mostReason)] {
			next = strings.TrimSpace(next)
			if next == "" || quotesMessage(next) || mailbox.MatchString(next) && !strings.HasPrefix(next, "(") {
				break
			}
			if !strings.HasPrefix(next, "(") { // where it came from
				parts = append(parts, next)
			}
		}
		if reason := strings.TrimSpace(strings.Join(parts, " ")); reason != "" && !strings.HasPrefix(reason, "(") {
			return reason
		}
	}
	return ""
}

// Named returns the addresses in the text of a bounce, before the message that it is about.
func Named(text string) (list []string) {
	for line := range strings.Lines(text) {
		if quotesMessage(strings.TrimSpace(line)) {
			break
		}
		list = append(list, mailbox.FindAllString(line, -1)...)
	}
	return list
}

// mostReason is how many lines of a bounce are the reason for one address.
const mostReason = 4

// quotesMessage reports whether a line begins the message that a bounce is about.
func quotesMessage(line string) bool {
	for _, begin := range []string{"received:", "return-path:", "from:", "message-id:", "---", "___"} {
		if strings.HasPrefix(strings.ToLower(line), begin) {
			return true
		}
	}
	return false
}

// isParty reports whether an address is who writes the bounce, or who gets it.
func (m *Message) isParty(text string) bool {
	return slices.ContainsFunc(slices.Concat(m.From, m.To), func(a address.Address) bool {
		return strings.EqualFold(a.String(), text)
	})
}

// FromSystem reports whether the message is from an address that mail systems
// write from.
func (m *Message) FromSystem() bool {
	return slices.ContainsFunc(m.From, func(a address.Address) bool {
		local, _, _ := strings.Cut(strings.ToLower(a.String()), "@")
		return slices.Contains(bounceSenders, local)
	})
}

// undelivered are words with which mail systems say that a message failed.
var undelivered = []string{
	"undeliver",
	"not be delivered",
	"delivery failed",
	"delivery failure",
	"returned mail",
	"failure notice",
	"undelivered",
	"delivery has failed",
	"couldn't be delivered",
}

func (m *Message) saysUndelivered() bool {
	text := strings.ToLower(m.Subject + "\n" + m.Text)
	for _, word := range undelivered {
		if strings.Contains(text, word) {
			return true
		}
	}
	return false
}

// Failed returns the addresses in X-Failed-Recipients, which several mail systems
// write in their bounces.
func (m *Message) Failed() []string { return m.failed }
