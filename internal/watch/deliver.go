package watch

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// A Sender sends alarms.
type Sender struct {
	Plan    *Plan
	Version string
	OnError func(text string)

	client *http.Client
}

// The bounds of one delivery.
const (
	connectWithin = 10 * time.Second
	postWithin    = 30 * time.Second
	mailWithin    = 2 * time.Minute
	mostReply     = 64 << 10 // bytes
)

// NewSender returns a Sender for the channels of a plan.
func NewSender(p *Plan, version string, trouble func(string)) *Sender {
	dialer := &net.Dialer{Timeout: connectWithin}
	return &Sender{Plan: p, Version: version, OnError: trouble, client: &http.Client{
		Timeout: postWithin,
		Transport: &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: connectWithin,
			MaxResponseHeaderBytes: mostReply,
			TLSClientConfig:        &tls.Config{MinVersion: tls.VersionTLS12}, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("it redirects, which is not followed")
		},
	}}
}

// Send sends a batch by a channel.
func (s *Sender) Send(ctx context.Context, channel *Channel, b *store.Batch) error {
	events, err := eventsOf(b)
	if err != nil {
		return err
	}
	for _, e := range events {
		e.Changed = s.author(ctx, e)
	}
	if channel.Mail != nil {
		return s.mail(ctx, channel.Mail, b, events)
	}
	return s.post(ctx, channel.Post, b, events)
}

// author returns who changed the group of the worst of what is new, and when: since the day before
// it was found.
func (s *Sender) author(ctx context.Context, e *present.WatchEvent) string {
	f, _ := e.Worst()
	who, err := address.Parse(f.Group)
	at, bad := time.Parse(time.RFC3339, e.At)
	if err != nil || bad != nil {
		return ""
	}
	change, ok := history.LastChange(ctx, e.Estate, who, at.Add(-24*time.Hour), at)
	if !ok {
		return ""
	}
	return change.Who + " " + strings.TrimSuffix(strings.Replace(change.When, "T", " ", 1), "Z")
}

func eventsOf(b *store.Batch) ([]*present.WatchEvent, error) {
	var list []*present.WatchEvent
	for _, a := range b.Alarms {
		e := &present.WatchEvent{}
		if err := json.Unmarshal([]byte(a.Body), e); err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	return list, nil
}

// BatchText says in words what a batch tells, headlines first.
func BatchText(events []*present.WatchEvent) (subject, text string) {
	var b strings.Builder
	fresh, over, broken := 0, 0, 0
	for _, e := range events {
		fresh, over = fresh+len(e.New)+e.MoreNew, over+len(e.Resolved)+e.MoreOver
		if e.Breaks {
			broken++
		}
		b.WriteString(strings.ReplaceAll(e.At, "T", " ") + "\n")
		for _, line := range e.Lines() {
			b.WriteString(line + "\n")
		}
		b.WriteString("  yorvet history show " + e.Run + "\n\n")
	}
	if len(events) == 1 {
		return present.Clean(events[0].Subject()), b.String()
	}
	worst, bad := events[0], -1
	for _, e := range events {
		f, ok := e.Worst()
		if at := slices.Index([]string{"", "low", "medium", "high"}, f.Severity); ok && at > bad {
			worst, bad = e, at
		}
	}
	if bad >= 0 {
		return present.Clean(worst.Subject()) + "; " + present.Count(len(events)-1, "more answer", "more answers"), b.String()
	}
	var parts []string
	for _, part := range []struct {
		n    int
		word string
	}{{fresh, "new"}, {over, "resolved"}, {broken, "cannot be answered"}} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", part.n, part.word))
		}
	}
	return present.Count(len(events), "answer", "answers") + ": " + strings.Join(parts, ", "), b.String()
}

// mail sends a batch as one message to every address, with a Message-ID that depends on the batch:
// a message that goes out again is the same one.
func (s *Sender) mail(ctx context.Context, m *MailChannel, b *store.Batch, events []*present.WatchEvent) error {
	ctx, cancel := context.WithTimeout(ctx, mailWithin)
	defer cancel()
	l, err := connections.Load(ctx, m.Connections)
	if err != nil {
		return err
	}
	if err := l.Unlock(ctx, true, s.OnError); err != nil {
		return err
	}
	connection, ok := l.Sender(m.From, true, false)
	if !ok {
		return fmt.Errorf("no connection of %s sends as %s", m.Connections, m.From)
	}
	session := send.NewSession(connection.As(m.From))
	defer session.Close()
	subject, text := BatchText(events)
	var problems []string
	for i, to := range m.To {
		raw, err := compose.Message{
			From: m.From, To: to, ID: fmt.Sprintf("%s.%d@%s", b.ID, i, m.From.Domain()), Date: b.Alarms[len(b.Alarms)-1].At,
			Auto: "auto-generated", Subject: "[" + present.Clean(s.Plan.Name) + "] " + subject, Text: text,
		}.Bytes()
		if err != nil {
			return err
		}
		if reply := session.Send(ctx, send.Envelope{From: m.From.String(), To: to.String()}, raw); !reply.Accepted() {
			problems = append(problems, refusal(to, reply))
		}
	}
	if len(problems) > 0 {
		return errors.New(strings.Join(problems, "; "))
	}
	return nil
}

func refusal(to address.Address, reply send.Reply) string { return to.String() + ": " + reply.String() }

// Posted is what is posted: alarms, as JSON.
type Posted struct {
	Batch  string                `json:"batch"` // the same where it is posted again
	Plan   string                `json:"plan"`
	Says   string                `json:"says"`
	Alarms []*present.WatchEvent `json:"alarms"`
}

// post posts a batch. What is posted again has the same Idempotency-Key. With a secret it is signed
// after RFC 9421 (hmac-sha256), over the method, the URL, that key and the digest of the body
// (Content-Digest, RFC 9530).
func (s *Sender) post(ctx context.Context, p *PostChannel, b *store.Batch, events []*present.WatchEvent) error {
	says, _ := BatchText(events)
	body, err := json.Marshal(Posted{b.ID, s.Plan.Name, says, events})
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, p.URL, bytes.NewReader(body))
	if err != nil {
		return errors.New("the URL cannot be used")
	}
	sum := sha256.Sum256(body)
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("User-Agent", "yorvet/"+s.Version)
	request.Header.Set("Idempotency-Key", `"`+b.ID+`"`)
	request.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	if p.Secret != nil {
		key, err := p.Secret.Fetch(ctx, s.Plan.Path)
		if err != nil {
			return err
		}
		Sign(request, []byte(key.Reveal()), clock.Now())
	}
	response, err := s.client.Do(request)
	if err != nil {
		return errors.New(withoutURL(err))
	}
	defer response.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(response.Body, mostReply))
	if response.StatusCode < 200 || response.StatusCode > 299 {
		return fmt.Errorf("the answer is %s", response.Status)
	}
	return nil
}

// withoutURL returns what went wrong with a request: a URL may be as good as a secret.
func withoutURL(err error) string {
	for inner := errors.Unwrap(err); inner != nil; inner = errors.Unwrap(inner) {
		err = inner
	}
	return err.Error()
}

// Sign signs a request after RFC 9421, section 3.3.3.
func Sign(r *http.Request, key []byte, at time.Time) {
	const covered = `("@method" "@target-uri" "content-digest" "idempotency-key")`
	parameters := fmt.Sprintf(`%s;created=%d;keyid="yorvet";alg="hmac-sha256"`, covered, at.Unix())
	base := strings.Join([]string{
		`"@method": ` + r.Method,
		`"@target-uri": ` + r.URL.String(),
		`"content-digest": ` + r.Header.Get("Content-Digest"),
		`"idempotency-key": ` + r.Header.Get("Idempotency-Key"),
		`"@signature-params": ` + parameters,
	}, "\n")
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(base))
	r.Header.Set("Signature-Input", "yorvet="+parameters)
	r.Header.Set("Signature", "yorvet=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
