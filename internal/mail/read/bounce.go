package read

import (
	"bufio"
	"bytes"
	"net/textproto"
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
		return
	}
	if !m.FromSystem() || len(m.Failed()) == 0 && !m.saysUndelivered() {
		return
	}
	m.Bounce = &Bounce{}
	for _, failed := range m.Failed() {
		m.Bounce.Recipients = append(m.Bounce.Recipients, Failure{Final: failed, Action: "failed"})
	}
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
