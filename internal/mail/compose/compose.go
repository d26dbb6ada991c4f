// Package compose writes mail messages (RFC 5322, RFC 2045).
//
// Nothing that is put into a header field can begin another one: control
// characters are refused.
package compose

import (
	"bytes"
	"fmt"
	"io"
	"mime"
	"strings"
	"time"
	"unicode"

	"github.com/emersion/go-message"

	"yorvet.example/yorvet/internal/core/address"
)

// A Message is what a message says. From, To and ID are needed.
type Message struct {
	From    address.Address
	Sender  address.Address // who writes, where it is not From (RFC 5322, section 3.6.2)
	To      address.Address
	ReplyTo address.Address
	Subject string
	Date    time.Time
	ID      string // Message-ID without angle brackets
	// InReplyTo is the Message-ID that this answers, or "".
	InReplyTo string
	// Auto is what Auto-Submitted says (RFC 3834), or "" for a person's message.
	Auto  string
	Extra []Field // further header fields
	Text  string
	// Parts follow the text: attachments, or what a report holds. There is at most
	// one level of parts.
	Parts []Part
	// Report is the report-type of a multipart/report (RFC 6522), or "".
	Report string
	// Digest makes a multipart/digest of the parts (RFC 2046, section 5.1.5).
	Digest bool
}

// A Field is a header field.
type Field struct{ Name, Value string }

// A Part is a part of a message.
type Part struct {
	Type   string // media type, such as text/calendar
	Params map[string]string
	Name   string // file name of an attachment, or ""
	Data   []byte
}

// Bytes returns the message with CRLF line ends.
func (d Message) Bytes() ([]byte, error) {
	var h message.Header
	fields := []Field{{"From", "<" + d.From.String() + ">"}}
	if d.Sender.IsValid() {
		fields = append(fields, Field{"Sender", "<" + d.Sender.String() + ">"})
	}
	fields = append(fields, Field{"To", "<" + d.To.String() + ">"})
	if d.ReplyTo.IsValid() {
		fields = append(fields, Field{"Reply-To", "<" + d.ReplyTo.String() + ">"})
	}
	fields = append(fields, Field{"Subject", mime.QEncoding.Encode("utf-8", d.Subject)},
		Field{"Date", d.Date.Format(time.RFC1123Z)}, Field{"Message-ID", "<" + d.ID + ">"})
	if d.InReplyTo != "" {
		fields = append(
			fields,
			Field{"In-Reply-To", "<" + d.InReplyTo + ">"},
			Field{"References", "<" + d.InReplyTo + ">"},
		)
	}
	if d.Auto != "" {
		fields = append(fields, Field{"Auto-Submitted", d.Auto})
	}
	fields = append(append(fields, d.Extra...), Field{"MIME-Version", "1.0"})
	if strings.ContainsFunc(d.Subject, unicode.IsControl) {
		return nil, fmt.Errorf("the subject %q has a control character", d.Subject)
	}
	for i := len(fields) - 1; i >= 0; i-- { // the last added stands first
		if err := checkField(fields[i]); err != nil {
			return nil, err
		}
		h.Add(fields[i].Name, fields[i].Value)
	}
	return d.write(h)
}

func checkField(f Field) error {
	if f.Name == "" || strings.ContainsFunc(f.Name, func(r rune) bool { return r <= ' ' || r == ':' || r > '~' }) {
		return fmt.Errorf("%q is no name of a header field", f.Name)
	}
	if strings.ContainsFunc(f.Value, func(r rune) bool { return unicode.IsControl(r) && r != '\t' }) {
		return fmt.Errorf("the header field %s has a control character", f.Name)
	}
	return nil
}

func (d Message) write(h message.Header) ([]byte, error) {
	var b bytes.Buffer
	text := func(create func(message.Header) (*message.Writer, error), h message.Header) error {
		h.SetContentType("text/plain", map[string]string{"charset": "utf-8"})
		h.Set("Content-Transfer-Encoding", "quoted-printable")
		w, err := create(h)
		if err != nil {
			return err
		}
		_, err = io.WriteString(w, toCRLF(d.Text))
		return closing(w, err)
	}
	if len(d.Parts) == 0 && d.Report == "" && !d.Digest {
		err := text(func(h message.Header) (*message.Writer, error) { return message.CreateWriter(&b, h) }, h)
		return b.Bytes(), err
	}
	switch {
	case d.Report != "":
		h.SetContentType("multipart/report", map[string]string{"report-type": d.Report})
	case d.Digest:
		h.SetContentType("multipart/digest", nil)
	default:
		h.SetContentType("multipart/mixed", nil)
	}
	w, err := message.CreateWriter(&b, h)
	if err != nil {
		return nil, err
	}
	if !d.Digest {
		err = text(w.CreatePart, message.Header{})
	}
	for _, part := range d.Parts {
		if err == nil {
			err = writePart(w, part)
		}
	}
	err = closing(w, err)
	return b.Bytes(), err
}

func writePart(w *message.Writer, part Part) error {
	var h message.Header
	h.SetContentType(part.Type, part.Params)
	if part.Name != "" {
		h.SetContentDisposition("attachment", map[string]string{"filename": part.Name})
	}
	// Messages within messages and reports are never encoded (RFC 2046, section 5.2.1).
	if !strings.HasPrefix(part.Type, "message/") && part.Type != "text/rfc822-headers" {
		h.Set("Content-Transfer-Encoding", "base64")
	}
	body, err := w.CreatePart(h)
	if err != nil {
		return err
	}
	_, err = body.Write(part.Data)
	return closing(body, err)
}

func closing(w io.Closer, err error) error {
	if err2 := w.Close(); err == nil {
		err = err2
	}
	return err
}

func toCRLF(text string) string {
	return strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\n", "\r\n")
}

// Invitation returns a calendar request (RFC 5546, METHOD:REQUEST) for an hour
// from a time on.
func Invitation(uid string, organizer, attendee address.Address, summary string, from time.Time) Part {
	const form = "20060102T150405Z"
	lines := []string{
		"BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Yorvet//Probe//EN", "METHOD:REQUEST", "BEGIN:VEVENT",
		"UID:" + uid, "DTSTAMP:" + from.UTC().Format(form), "DTSTART:" + from.UTC().Format(form), "DTEND:" +
			from.UTC().Add(time.Hour).Format(form),
		"SUMMARY:" + escapeText(summary), "ORGANIZER:mailto:" + organizer.String(), "ATTENDEE;RSVP=FALSE:mailto:" +
			attendee.String(),
		"TRANSP:TRANSPARENT", "END:VEVENT", "END:VCALENDAR",
	}
	return Part{
		Type:   "text/calendar",
		Params: map[string]string{"method": "REQUEST", "charset": "utf-8"},
		Data:   []byte(foldLines(lines)),
	}
}

// escapeText escapes a text value (RFC 5545, section 3.3.11).
func escapeText(s string) string {
	return strings.NewReplacer(`\`, `\\`, ";", `\;`, ",", `\,`, "\n", `\n`, "\r", "").Replace(s)
}

// foldLines ends lines with CRLF and folds them at 75 octets (RFC 5545, section
// 3.1).
func foldLines(lines []string) string {
	var b strings.Builder
	for _, line := range lines {
		for limit := 75; len(line) > limit; limit = 74 {
			cut := limit
			for cut > 0 && line[cut]&0xC0 == 0x80 { // not within a character
				cut--
			}
			b.WriteString(line[:cut] + "\r\n ")
			line = line[cut:]
		}
		b.WriteString(line + "\r\n")
	}
	return b.String()
}
