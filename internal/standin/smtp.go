package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/read"
)

// backend makes the sessions of a port: of the world outside, or of those who log
// in.
func (p *post) backend(login bool) smtp.Backend {
	return smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) {
		if login {
			return &submission{session{post: p, submits: true}}, nil
		}
		return &session{post: p}, nil
	})
}

// session is a connection that mail comes in by.
type session struct {
	post    *post
	submits bool
	login   address.Address
	from    string
	envID   string
	to      []address.Address
	notify  bool
}

// buffers are those that messages are read into.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// submission is a session of somebody who logs in.
type submission struct{ session }

func (s *submission) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *submission) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(identity, user, password string) error {
		who, err := s.post.authenticate(identity, user, password)
		if err == nil {
			s.login = who
			return nil
		}
		return smtp.ErrAuthFailed
	}), nil
}

func (s *session) Reset() { s.from, s.envID, s.to, s.notify = "", "", nil, false }

func (s *session) Logout() error { return nil }

func (s *session) Mail(from string, options *smtp.MailOptions) error {
	if s.submits && !s.login.IsValid() {
		return smtp.ErrAuthRequired
	}
	if from != "" {
		if _, err := address.Parse(from); err != nil {
			return refusal(501, smtp.EnhancedCode{5, 1, 7}, "this is no address")
		}
	}
	s.from, s.envID = from, options.EnvelopeID
	if s.submits && from != "" && !s.post.isTheirs(s.login, from) {
		return refusal(
			553,
			smtp.EnhancedCode{5, 7, 1},
			"this is not your address, nor a group's that you may write for",
		)
	}
	return nil
}

func (s *session) Rcpt(to string, options *smtp.RcptOptions) error {
	a, err := address.Parse(to)
	if err != nil {
		return refusal(501, smtp.EnhancedCode{5, 1, 3}, "this is no address")
	}
	if err := s.post.mayTake(a, s.submits); err != nil {
		s.post.log.Info("refused", "from", s.from, "to", a.String(), "detail", err.Error())
		return err
	}
	if s.post.faults.comesTooEarly(s.from, a.String()) {
		s.post.log.Info("fault", "do", "later", "from", s.from, "to", a.String())
		return refusal(451, smtp.EnhancedCode{4, 7, 1}, "come again a little later")
	}
	if f := s.post.faults.now("refuse", a.String()); f != nil {
		s.post.log.Info("fault", "do", "refuse", "from", s.from, "to", a.String())
		return f.refusal()
	}
	for _, notify := range options.Notify {
		s.notify = s.notify || notify == smtp.DSNNotifySuccess
	}
	s.to = append(s.to, a)
	return nil
}

func (s *session) Data(r io.Reader) error {
	buffer := buffers.Get().(*bytes.Buffer)
	defer buffers.Put(buffer) // what goes on is a copy
	buffer.Reset()
	if _, err := buffer.ReadFrom(io.LimitReader(r, maxMessage+1)); err != nil {
		return err
	}
	raw := buffer.Bytes()
	parsed, err := read.ParseLight(raw)
	if err == nil && s.post.isForService(s.to) {
		parsed, err = read.Parse(raw)
	}
	if err != nil {
		return refusal(554, smtp.EnhancedCode{5, 6, 0}, "the message has no header")
	}
	a := &arrival{id: newID(), login: s.login, from: s.from, message: parsed, notify: s.notify, envID: s.envID}
	if a.raw, err = s.identify(a, raw); err != nil {
		return err
	}
	return s.post.takeAll(a, s.to)
}

// takeAll takes a message over for all recipients. Where only some are refused,
// the sender hears of those by mail.
func (p *post) takeAll(a *arrival, to []address.Address) error {
	var first error
	var failed []failure
	for _, one := range to {
		if err := p.take(a, one); err != nil {
			if first == nil {
				first = err
			}
			f := failure{final: one.String(), status: "5.7.1", text: err.Error()}
			said := f.text
			var answer *smtp.SMTPError
			if errors.As(err, &answer) {
				code := answer.EnhancedCode
				f.text = answer.Message
				said = fmt.Sprintf("%d %d.%d.%d %s", answer.Code, code[0], code[1], code[2], answer.Message)
			}
			p.note(a, "refused", "to", one.String(), "detail", said)
			failed = append(failed, f)
		}
	}
	if len(failed) == len(to) {
		return first
	}
	if len(failed) > 0 && mayAnswer(a) {
		p.report(
			job{From: a.from, MessageID: a.message.ID, EnvelopeID: a.envID, Raw: a.raw, Traits: a.traits},
			"failed",
			failed,
		)
	}
	return nil
}

// identify works out who a message is from and what it is like, and returns it as
// it goes on. Who logs in may write from their own addresses, and in a group's
// name where they may.
func (s *session) identify(a *arrival, raw []byte) ([]byte, error) {
	p := s.post
	p.mutex.Lock()
	defer p.mutex.Unlock()
	e := p.r.Estate()
	switch {
	case len(a.message.From) == 1:
		a.sender = a.message.From[0]
	case a.from != "":
		a.sender, _ = address.Parse(a.from)
	default:
		a.sender = p.ownAddress("nobody-", "known")
	}
	received := headerEdit{
		"Received",
		"by " + e.Settings().Domains[0].Name + " (stand-in) id " + a.id + "; " + p.options.Now().Format(time.RFC1123Z),
		true,
	}
	a.traits = resolve.Message{
		Suspect: a.message.Flagged, Automatic: a.message.Auto != "" || a.from == "",
		Invitation: a.message.Invitation, Size: int64(len(raw)),
	}
	if !s.submits {
		a.traits.Unproven = e.InsideDomain(a.sender.Domain())
		result := "pass"
		if a.traits.Unproven {
			result = "fail"
		}
		return editHeader(
			raw,
			received,
			headerEdit{
				"Authentication-Results",
				e.Settings().Domains[0].Name + "; spf=" + result + " smtp.mailfrom=" + a.from,
				false,
			},
		), nil
	}
	by := p.r.Sender(s.login)
	from := p.r.Sender(a.sender)
	if from.ID == by.ID && by.ID != estate.None || e.Key(a.sender) == e.Key(s.login) {
		return editHeader(raw, received), nil
	}
	return p.sendAs(a, editHeader(raw, received), by)
}

// sendAs lets somebody write in a group's name, where they may.
func (p *post) sendAs(a *arrival, raw []byte, by resolve.Sender) ([]byte, error) {
	fate := message.Of(p.r, message.Envelope{From: a.sender, By: by.Address, To: a.sender, Message: a.traits})
	switch fate.Reason {
	case message.NoGroup:
		return nil, refusal(553, smtp.EnhancedCode{5, 7, 1}, "this is not your address")
	case message.NoSendAs:
		text := "you may not send as " + p.r.Estate().Address(fate.Sender.ID).String()
		return nil, refusal(553, smtp.EnhancedCode{5, 7, 1}, text)
	}
	group := fate.Sender.ID
	g := p.r.Estate().Group(group)
	m := membership{p.mainAddress(by.Address), g.Address.String()}
	if g.SendAsProof == estate.ProofMailedCode && !p.proven[m] {
		p.mailCode(m, group)
		return nil, refusal(
			553,
			smtp.EnhancedCode{5, 7, 1},
			"show first that you receive the mail of "+g.Address.String()+": a code has been mailed to it",
		)
	}
	if fate.SendAs == estate.ForGroup {
		return setField(raw, "Sender", "<"+by.Address.String()+">"), nil
	}
	return setField(raw, "Sender", ""), nil
}

// isTheirs reports whether a return path belongs to somebody, or to a group.
func (p *post) isTheirs(login address.Address, from string) bool {
	a, err := address.Parse(from)
	if err != nil {
		return false
	}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	e := p.r.Estate()
	id, known := e.Find(a)
	own, _ := e.Find(login)
	return e.Key(a) == e.Key(login) || known && (id == own || e.IsGroup(id))
}

// authenticate returns who logs in: a person by an address of their own, or anyone who
// the keeper names.
func (p *post) authenticate(identity, user, password string) (address.Address, error) {
	if !p.knows(context.Background(), password) {
		return address.Address{}, errWrongLogin
	}
	name := user
	if user == Master {
		name = identity
	} else if identity != "" && !address.Same(identity, user) {
		return address.Address{}, errWrongLogin
	}
	a, err := address.Parse(name)
	if err != nil {
		return address.Address{}, errWrongLogin
	}
	return a, nil
}
