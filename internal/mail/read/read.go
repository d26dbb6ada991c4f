// Package read takes a message apart as its reader sees it, and recognises what
// mail systems send back: bounces, notices and digests.
//
// Messages come from anywhere: whatever is wrong with one, the rest of it is read.
package read

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"mime"
	"net/mail"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/textproto"

	"yorvet.example/yorvet/internal/core/address"
)

// The limits of what is read. What is beyond is left aside.
const (
	maxHeader = 256 << 10 // bytes
	maxParts  = 200
	maxDepth  = 8
	maxText   = 256 << 10 // bytes of a part that are looked at
)

// Tag is the header field that marks the messages of a run.
const Tag = "Yorvet-Probe"

// A Message is what a reader sees.
type Message struct {
	From, Sender, ReplyTo, To, Cc []address.Address
	Subject                       string
	Date                          time.Time // RFC 5322, section 3.6.1; zero if it does not say
	ID                            string    // Message-ID without angle brackets
	Answers                       []string  // In-Reply-To and References, likewise
	ListID                        string    // RFC 2919
	ListPost, ListUnsubscribe     string    // RFC 2369
	OneClick                      bool      // RFC 8058
	Authentication                []string  // Authentication-Results (RFC 8601), one a field
	Auto                          string    // Auto-Submitted (RFC 3834), or ""
	Flagged                       bool      // X-Spam-Flag says yes, as several filters write it
	Tag                           string    // the field Tag
	Type                          string    // media type
	Invitation                    bool      // a part is a calendar request (RFC 5546)
	Digest                        bool      // multipart/digest is in it
	Inner                         []Inner   // messages within it
	Bounce                        *Bounce   // it says that a message did not arrive
	Text                          string    // of the first text part
	Shown                         []string  // all addresses in its header fields, lower case

	texts  []string // of all text parts
	failed []string // see Failed
}

// Inner is a message within a message.
type Inner struct {
	ID, Tag string
	Digest  bool // it is part of a multipart/digest
	From    []address.Address
	Subject string
	Date    time.Time // zero if it does not say
	Size    int       // bytes, of what was read of it
}

// A Bounce says that a message did not arrive, or that it will be late.
type Bounce struct {
	Standard   bool // RFC 3464
	Recipients []Failure
	EnvelopeID string // RFC 3461, section 4.4
}

// A Failure is what a bounce says about one recipient.
type Failure struct {
	Final, Original string // addresses, lower case; "" if not said
	Action          string // failed, delayed, delivered, relayed, expanded
	Status          string // RFC 3463
	Diagnostic      string
}

// Parse takes a message apart. It returns an error only where there is no header
// at all.
func Parse(raw []byte) (*Message, error) {
	head, body, err := splitHeader(raw)
	if err != nil {
		return nil, err
	}
	m := &Message{}
	m.readHeader(&head)
	entity, err := message.New(message.Header{Header: head}, body)
	if entity != nil && (err == nil || message.IsUnknownCharset(err) || message.IsUnknownEncoding(err)) {
		parts := 0
		m.readPart(entity, 0, &parts, false)
	}
	m.recogniseBounce()
	return m, nil
}

// ParseLight is Parse for those who pass messages on: of a message in one part it
// reads only who it is from, its Message-ID and what kind of message it is.
func ParseLight(raw []byte) (*Message, error) {
	fields := map[string]string{
		"from":               "",
		"message-id":         "",
		"auto-submitted":     "",
		"x-spam-flag":        "",
		"content-type":       "",
		strings.ToLower(Tag): "",
	}
	if !scanFields(raw, fields) {
		return nil, errors.New("there is no header")
	}
	if media := strings.ToLower(fields["content-type"]); strings.HasPrefix(media, "multipart/") ||
		strings.HasPrefix(media, "message/") ||
		strings.HasPrefix(media, "text/calendar") {
		return Parse(raw)
	}
	m := &Message{}
	m.readIdentity(func(name string) string { return fields[strings.ToLower(name)] })
	return m, nil
}

// scanFields fills in the first header field of each name, lower case, and reports
// whether there is any field at all.
func scanFields(raw []byte, fields map[string]string) bool {
	lines := map[string][]string{} // of the fields
	defer func() {
		for name, list := range lines {
			fields[name] = strings.ToValidUTF8(strings.Join(list, " "), "?")
		}
	}()
	any, last := false, ""
	rest := raw[:min(len(raw), maxHeader)]
	for len(rest) > 0 {
		line, after, _ := bytes.Cut(rest, []byte("\n"))
		rest = after
		line = bytes.TrimRight(line, "\r")
		if len(line) == 0 {
			break
		}
		if line[0] == ' ' || line[0] == '\t' {
			if last != "" {
				lines[last] = append(lines[last], string(bytes.TrimSpace(line)))
			}
			continue
		}
		name, value, ok := bytes.Cut(line, []byte(":"))
		any, last = any || ok && len(name) > 0, ""
		if len(name) > 20 {
			continue
		}
		key := strings.ToLower(string(name))
		if _, wanted := fields[key]; wanted && ok && lines[key] == nil {
			lines[key], last = []string{string(bytes.TrimSpace(value))}, key
		}
	}
	return any
}

// splitHeader reads the header of a message, as far as it can be read.
func splitHeader(raw []byte) (textproto.Header, io.Reader, error) {
	limited := &io.LimitedReader{R: bytes.NewReader(raw), N: maxHeader}
	r := bufio.NewReader(limited)
	head, err := textproto.ReadHeader(r)
	if err != nil {
		// A line that is no field ends the header: keep what stands before it.
		head, body := salvage(raw)
		if head.Len() == 0 {
			return head, nil, errors.New("there is no header")
		}
		return head, bytes.NewReader(body), nil
	}
	if head.Len() == 0 {
		return head, nil, errors.New("there is no header")
	}
	limited.N = int64(len(raw))
	return head, r, nil
}

// salvage reads header fields line by line, skipping what is none.
func salvage(raw []byte) (textproto.Header, []byte) {
	var h textproto.Header
	var names []string
	var values [][]string // the lines of each
	rest := raw[:min(len(raw), maxHeader)]
	for len(rest) > 0 {
		line, after, _ := bytes.Cut(rest, []byte("\n"))
		rest = after
		text := strings.TrimRight(string(line), "\r")
		if text == "" {
			break
		}
		if text[0] == ' ' || text[0] == '\t' {
			if len(values) > 0 {
				values[len(values)-1] = append(values[len(values)-1], strings.TrimSpace(text))
			}
			continue
		}
		name, value, ok := strings.Cut(text, ":")
		if ok && name != "" && !strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r > '~' }) {
			names, values = append(names, name), append(values, []string{strings.TrimSpace(value)})
		}
	}
	for i := len(names) - 1; i >= 0; i-- {
		h.Add(names[i], strings.ToValidUTF8(strings.Join(values[i], " "), "?"))
	}
	return h, rest
}

// readIdentity reads who a message is from, and what kind of message it is.
func (m *Message) readIdentity(get func(name string) string) {
	m.From = addresses(get("From"))
	m.ID = bracketed(get("Message-ID"))
	if auto, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(get("Auto-Submitted"))), ";"); auto != "no" {
		m.Auto = strings.TrimSpace(auto)
	}
	m.Tag = strings.TrimSpace(get(Tag))
	m.Flagged = strings.EqualFold(strings.TrimSpace(get("X-Spam-Flag")), "yes")
}

// decoded returns the text of a field, with its encoded words read (RFC 2047).
func decoded(value string) string {
	value = strings.TrimSpace(value)
	if text, err := new(mime.WordDecoder).DecodeHeader(value); err == nil {
		value = text
	}
	return strings.ToValidUTF8(value, "?")
}

func dateOf(h *textproto.Header) time.Time {
	date, err := mail.ParseDate(h.Get("Date"))
	if err != nil {
		return time.Time{}
	}
	return date
}

func (m *Message) readHeader(h *textproto.Header) {
	m.readIdentity(h.Get)
	text := func(name string) string { return decoded(h.Get(name)) }
	m.Sender = addresses(h.Get("Sender"))
	m.ReplyTo, m.To, m.Cc = addresses(h.Get("Reply-To")), addresses(h.Get("To")), addresses(h.Get("Cc"))
	m.Subject, m.Date = text("Subject"), dateOf(h)
	var answers, failed, shown wordSet
	for _, name := range []string{"In-Reply-To", "References"} {
		for id := range strings.FieldsSeq(h.Get(name)) {
			answers.add(bracketed(id))
		}
	}
	m.Answers = answers.words
	m.ListID, m.ListPost, m.ListUnsubscribe = text("List-Id"), text("List-Post"), text("List-Unsubscribe")
	m.OneClick = strings.EqualFold(text("List-Unsubscribe-Post"), "List-Unsubscribe=One-Click")
	for fields := h.FieldsByKey("Authentication-Results"); fields.Next(); {
		m.Authentication = append(m.Authentication, strings.Join(strings.Fields(fields.Value()), " "))
	}
	failed.addAddresses(h.Get("X-Failed-Recipients"))
	m.failed = failed.words
	for fields := h.Fields(); fields.Next(); {
		if name := strings.ToLower(fields.Key()); name == "message-id" || name == "in-reply-to" ||
			name == "references" {
			continue
		}
		shown.addAddresses(fields.Value())
	}
	m.Shown = shown.words
}

// wordSet is words in the order in which they came, each once.
type wordSet struct {
	words []string
	there map[string]bool
}

// add adds a word, unless it is empty.
func (s *wordSet) add(word string) {
	if word == "" || s.there[word] {
		return
	}
	if s.there == nil {
		s.there = map[string]bool{}
	}
	s.there[word] = true
	s.words = append(s.words, word)
}

// addAddresses adds the addresses in a text, lower case.
func (s *wordSet) addAddresses(text string) {
	for word := range strings.FieldsFuncSeq(text, func(r rune) bool {
		return strings.ContainsRune(" \t\r\n<>,;:\"()[]",
			r)
	}) {
		word = strings.ToLower(strings.Trim(word, ".'"))
		if at := strings.LastIndexByte(word, '@'); at > 0 && at < len(word)-1 {
			s.add(word)
		}
	}
}

func addresses(value string) []address.Address {
	list, err := (&mail.AddressParser{WordDecoder: &mime.WordDecoder{CharsetReader: func(string, io.Reader) (io.Reader,
		error) {
		return strings.NewReader("?"), nil
	}}}).ParseList(value)
	var found []address.Address
	if err != nil {
		var texts wordSet
		texts.addAddresses(value)
		for _, text := range texts.words {
			if a, err := address.Parse(text); err == nil {
				found = append(found, a)
			}
		}
		return found
	}
	for _, one := range list {
		if a, err := address.Parse(one.Address); err == nil {
			found = append(found, a)
		}
	}
	return found
}

// bracketed returns what stands between angle brackets.
func bracketed(value string) string {
	_, after, ok := strings.Cut(value, "<")
	id, _, closed := strings.Cut(after, ">")
	if !ok || !closed {
		return strings.TrimSpace(value)
	}
	return strings.TrimSpace(id)
}

// readPart reads a part and those within it.
func (m *Message) readPart(e *message.Entity, depth int, parts *int, inDigest bool) {
	if *parts++; *parts > maxParts || depth > maxDepth {
		return
	}
	media, params, err := e.Header.ContentType()
	switch {
	case inDigest && e.Header.Get("Content-Type") == "":
		media = "message/rfc822" // RFC 2046, section 5.1.5
	case err != nil || media == "":
		media = "text/plain"
	}
	media = strings.ToLower(media)
	if depth == 0 {
		m.Type = media
		if media == "multipart/report" && strings.EqualFold(params["report-type"], "delivery-status") {
			m.Bounce = &Bounce{Standard: true}
		}
	}
	if multi := e.MultipartReader(); multi != nil {
		digest := media == "multipart/digest"
		m.Digest = m.Digest || digest
		for {
			part, err := multi.NextPart()
			if part == nil || err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
				return
			}
			m.readPart(part, depth+1, parts, digest)
		}
	}
	switch {
	case media == "message/rfc822" || media == "message/global" || media == "text/rfc822-headers" ||
		media == "message/rfc822-headers":
		data, _ := io.ReadAll(io.LimitReader(e.Body, maxText))
		m.readInner(data, depth, parts, inDigest)
	case media == "message/delivery-status":
		data, _ := io.ReadAll(io.LimitReader(e.Body, maxText))
		if m.Bounce == nil {
			m.Bounce = &Bounce{Standard: true}
		}
		m.Bounce.readStatus(data)
	case media == "text/calendar":
		m.Invitation = m.Invitation || strings.EqualFold(params["method"], "REQUEST")
	case strings.HasPrefix(media, "text/"):
		data, _ := io.ReadAll(io.LimitReader(e.Body, maxText))
		text := strings.ToValidUTF8(string(data), "?")
		if m.Text == "" {
			m.Text = text
		}
		m.texts = append(m.texts, text)
	}
}

// readInner reads a message within another, for its identity.
func (m *Message) readInner(data []byte, depth int, parts *int, digest bool) {
	head, body, err := splitHeader(data)
	if err != nil {
		return
	}
	m.Inner = append(
		m.Inner,
		Inner{
			ID: bracketed(head.Get("Message-ID")), Tag: strings.TrimSpace(head.Get(Tag)), Digest: digest,
			From: addresses(head.Get("From")), Subject: decoded(head.Get("Subject")), Date: dateOf(&head), Size: len(data),
		},
	)
	entity, err := message.New(message.Header{Header: head}, body)
	if err == nil && entity.MultipartReader() != nil {
		m.readPart(entity, depth+1, parts, digest)
	}
}

// AllText returns the text of all parts that are text, one after the other.
func (m *Message) AllText() string { return strings.Join(m.texts, "\n") }

// Mentions reports whether a text part of the message holds a text.
func (m *Message) Mentions(text string) bool {
	return text != "" && slices.ContainsFunc(m.texts, func(t string) bool { return strings.Contains(t, text) })
}

// About reports whether the message is, answers, holds or mentions the message
// with an ID.
func (m *Message) About(id string) bool {
	return m.ID == id || slices.Contains(m.Answers, id) || m.Mentions(id) ||
		slices.ContainsFunc(m.Inner, func(inner Inner) bool { return inner.ID == id })
}
