// Package send submits messages over SMTP (RFC 5321) and reports what the server
// answers, word for word.
package send

import (
	"context"
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-smtp"

	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

// An Envelope is what goes with a message.
type Envelope struct {
	From string // return path, "" for none
	To   string
	ID   string // envelope identifier (RFC 3461, section 4.4), where the server knows it
	// Notify asks to be told of success, too (RFC 3461, section 4.1), where the
	// server offers that.
	Notify bool
	// Plain is a mailbox that From may write to, about which the server is asked where it
	// refuses To; "": it is not asked.
	Plain string
}

// A Reply is the last answer of a server to a message.
type Reply struct {
	Stage string // connect, greeting, login, from, to, message
	Code  int    // 0 where the connection failed
	// Status is the enhanced status code (RFC 3463), or "".
	Status string
	Text   string
	Rcpt   string `json:",omitempty"` // the recipient, as it was written
	// Certain is set where another try gives the same result: a certificate that is not
	// trusted, or no mechanism to log in with.
	Certain bool `json:",omitempty"`
	// KnownAfter is for how many seconds the server did not know the recipient, before it took the message.
	KnownAfter float64 `json:",omitempty"`
	// Plain is what the server says to the same sender about Envelope.Plain; nil: nobody asked.
	Plain *Reply `json:",omitempty"`
}

// Accepted reports whether the server accepted the message.
func (r Reply) Accepted() bool { return r.Code >= 200 && r.Code < 300 }

// Later reports whether the server asked to try again, or could not be reached
// before it can have taken the message over.
func (r Reply) Later() bool {
	return r.Code >= 400 && r.Code < 500 || r.Code == 0 && r.Stage != "message"
}

// sessional are words of answers that are about the connection rather than the message: who
// is connected, how much was sent, who may relay. Servers give them at any stage.
var sessional = []string{
	"too many", "rate limit", "limit exceeded", "client host", "helo command", "relay", "authentication required",
	"must authenticate", "not authenticated", "authentication is required", "blocked using", "blocklist", "blacklist",
	"blocked by", "listed at", "reverse dns", "ptr record", "try again later", "access denied", "service unavailable",
	"not logged in", "login first", "starttls first", "policy of the session",
}

// Permanent reports whether the answer refuses an address or a message for good.
func (r Reply) Permanent() bool { return r.Code >= 500 && (r.Stage == "to" || r.Stage == "message") }

// Refusal reports whether the answer is the group's: it was given to its address or to the
// message, and is not about the sender or the connection. A login, a greeting, a rate limit or a
// relay that is denied says nothing of a gate. What the server says to the same sender about a plain
// mailbox decides; without that, what the answer is about.
func (r Reply) Refusal() bool {
	switch {
	case !r.Permanent() || r.IsForAll():
		return false
	case r.Stage == "to" && r.Plain != nil && r.Plain.Accepted():
		return true
	}
	return r.isAboutGroup()
}

// IsForAll reports whether the same sender is refused a plain mailbox in the same words.
func (r Reply) IsForAll() bool {
	if r.Plain == nil || r.Code != r.Plain.Code || r.Status != r.Plain.Status || slices.Contains(unknown, r.Status) {
		return false
	}
	return r.words() == r.Plain.words()
}

// TooLarge reports whether the server refuses a message for its size (RFC 1870, section 6.1).
func (r Reply) TooLarge() bool {
	return r.Code == 552 && (r.Status == "" || r.Status == "5.3.4" || r.Status == "5.2.3")
}

// UnknownAddress reports whether the server knows nobody by the address.
func (r Reply) UnknownAddress() bool {
	if !r.Permanent() || r.IsForAll() {
		return false
	}
	text := strings.ToLower(r.Text)
	return slices.Contains(unknown, r.Status) || r.Status == "5.1.10" ||
		slices.ContainsFunc(unknownWords, func(words string) bool { return strings.Contains(text, words) })
}

// unknownWords are words with which servers say that they know nobody by an address.
var unknownWords = []string{
	"user unknown", "unknown user", "unknown recipient", "no such", "does not exist", "unrouteable", "no mailbox here",
	"invalid recipient", "mailbox not found", "recipient not found", "address unknown", "unknown address",
}

// unknown are codes of addresses that nobody has (RFC 3463, section 3.2).
var unknown = []string{"5.1.1", "5.1.2", "5.1.3", "5.1.6"}

// words are what the server says, without the addresses in it.
func (r Reply) words() string { return addresses.ReplaceAllString(strings.ToLower(r.Text), "") }

var addresses = regexp.MustCompile(`[^\s<>]+@[^\s<>]+`)

// isAboutGroup reports whether a permanent answer speaks of the group, by its code and words.
func (r Reply) isAboutGroup() bool {
	switch r.Code {
	case 500, 502, 503, 504, 530, 534, 535, 538:
		return false // about commands and logins (RFC 5321, section 4.2.2; RFC 4954, section 6)
	}
	if strings.HasPrefix(r.Status, "5.7.8") || strings.HasPrefix(r.Status, "5.5.") || strings.HasPrefix(r.Status, "5.4.") ||
		strings.HasPrefix(r.Status, "5.3.") {
		return false // about logins, the network, the protocol or the system (RFC 3463, section 3)
	}
	text := strings.ToLower(r.Text)
	if r.Rcpt != "" && strings.Contains(text, strings.ToLower(r.Rcpt)) && !strings.Contains(text, "relay") {
		return true // it names the recipient
	}
	return !slices.ContainsFunc(sessional, func(words string) bool { return strings.Contains(text, words) })
}

// Temporary reports whether the message can be sent again later: the server put it off, could
// not be reached, or refused the connection for a while.
func (r Reply) Temporary() bool {
	if r.Accepted() || r.Refusal() || r.Unknown() {
		return false
	}
	if r.Later() {
		return !r.Certain
	}
	text := strings.ToLower(r.Text)
	return r.Stage != "login" && (strings.Contains(text, "too many") || strings.Contains(text, "rate limit") ||
		strings.Contains(text, "try again later") || strings.Contains(text, "limit exceeded"))
}

// Unknown reports whether nobody can know if the server accepted the message:
// the connection broke after the last line of it.
func (r Reply) Unknown() bool { return r.Code == 0 && r.Stage == "message" }

func (r Reply) String() string {
	if r.Code == 0 {
		return r.Stage + ": " + r.Text
	}
	words := []string{fmt.Sprint(r.Code)}
	if r.Status != "" {
		words = append(words, r.Status)
	}
	return strings.Join(append(words, r.Text), " ")
}

// A Route is a way to send.
type Route struct {
	endpoint.Endpoint
	Hello string          // what this machine calls itself
	Login *endpoint.Login // nil: nobody logs in
	Wait  time.Duration   // for any one answer
}

// A Session is a connection over which messages go one after the other. It is
// opened at the first message, and again where it broke.
type Session struct {
	route   Route
	conn    *endpoint.Conn
	client  *smtp.Client
	refused int // messages over this connection
}

const (
	mostReply = 256 << 10       // bytes of a server's answer
	usualWait = time.Minute     // for any one answer
	farewell  = 2 * time.Second // for the answer to QUIT
	slowest   = 32 << 10        // bytes a second that a server takes at least

	mostRefused = 4 // messages over one connection: servers slow down, or hang up, soon after
)

// NewSession returns a session of a route.
func NewSession(route Route) *Session {
	if route.Wait <= 0 {
		route.Wait = usualWait
	}
	return &Session{route: route}
}

// Close ends the session.
func (s *Session) Close() {
	if s.client != nil {
		s.conn.Step(farewell, mostReply)
		_ = s.client.Quit()
		s.drop()
	}
}

// Open connects and logs in, and says why it cannot: the zero Reply where it can.
func (s *Session) Open(ctx context.Context) Reply {
	if s.client != nil {
		return Reply{}
	}
	s.refused = 0
	return s.open(ctx)
}

// drop ends the connection without a word.
func (s *Session) drop() {
	_ = s.client.Close()
	s.client = nil
}

// step begins the next step of the exchange.
func (s *Session) step() { s.conn.Step(s.route.Wait, mostReply) }

// Send sends one message, and returns what the server says of it. When ctx ends, so
// does the connection.
func (s *Session) Send(ctx context.Context, e Envelope, message []byte) Reply {
	used := s.client != nil
	if reply := s.Open(ctx); reply.Code != 0 || reply.Text != "" {
		return reply
	}
	conn := s.conn
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	reply := s.transact(e, message)
	if reply.Permanent() && e.Plain != "" {
		reply.Plain = s.compare(ctx, e, len(message))
	}
	switch {
	case s.client == nil: // gone while it was asked
	case used && reply.Code == 503 && reply.Stage == "from": // some take no second EHLO after RSET
		s.Close()
		return s.Send(ctx, e, message)
	case reply.Code == 0 || reply.Code == 421:
		s.drop()
	case reply.Accepted():
	case reply.Refusal() && s.refused < mostRefused:
		s.refused++
		s.step()
		if s.client.Reset() != nil {
			s.drop()
		}
	default:
		s.Close() // the next one, and every try again, has a connection of its own
	}
	return reply
}

// compare asks what the server says to the same sender about a plain mailbox. Nothing is sent.
func (s *Session) compare(ctx context.Context, e Envelope, size int) *Reply {
	for range 2 { // some take nothing more on a connection where they have refused something
		s.step()
		if s.client != nil && s.client.Reset() != nil {
			s.drop()
		}
		if s.client == nil {
			if reply := s.open(ctx); reply != (Reply{}) {
				return nil
			}
		}
		stop := context.AfterFunc(ctx, func() { s.conn.Close() })
		reply := s.address(Envelope{From: e.From, To: e.Plain, ID: e.ID}, size)
		stop()
		if reply.Code != 0 && reply.Code != 421 && reply.Code != 503 {
			return &reply
		}
		s.drop()
	}
	return nil
}

// open connects and logs in. It returns the zero Reply where that went well.
func (s *Session) open(ctx context.Context) Reply {
	conn, err := s.route.Dial(ctx)
	if err != nil {
		return Reply{Stage: "connect", Text: endpoint.Reason(err), Certain: endpoint.IsDistrust(err)}
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	s.conn = conn
	if s.route.Login != nil && s.route.TLS == endpoint.Plain {
		if err := conn.MayShowLogin(); err != nil {
			conn.Close()
			return s.failure("login", err)
		}
	}
	s.step()
	client, err := s.start(conn)
	if err != nil {
		conn.Close()
		return s.failure("greeting", err)
	}
	if s.route.Login != nil {
		if err := s.login(ctx, client); err != nil {
			client.Close()
			return s.failure("login", err)
		}
	}
	s.client = client
	return Reply{}
}

// login logs in by a mechanism that the server offers.
func (s *Session) login(ctx context.Context, client *smtp.Client) error {
	_, offered := client.Extension("AUTH")
	mechanisms := strings.Fields(strings.ReplaceAll(offered, "=", " "))
	if len(mechanisms) == 0 {
		return fmt.Errorf("%w: it offers none", endpoint.ErrNoMechanism)
	}
	exchange, err := s.route.Login.Client(ctx, mechanisms)
	if err != nil {
		return err
	}
	s.step()
	return client.Auth(exchange)
}

func (s *Session) start(conn net.Conn) (*smtp.Client, error) {
	var client *smtp.Client
	var err error
	switch s.route.TLS {
	case endpoint.StartTLS, endpoint.Unverified:
		// The greeting is exchanged again after the upgrade.
		client, err = smtp.NewClientStartTLS(conn, s.route.Config())
	default:
		client = smtp.NewClient(conn)
	}
	if err != nil {
		return nil, err
	}
	client.CommandTimeout, client.SubmissionTimeout = s.route.Wait, s.route.Wait
	if s.route.Hello != "" {
		err = client.Hello(s.route.Hello)
	} else {
		err = client.Noop()
	}
	return client, err
}

// address says who a message of a size is from and for, and returns what the server says.
func (s *Session) address(e Envelope, size int) Reply {
	mail, rcpt := &smtp.MailOptions{}, &smtp.RcptOptions{}
	if ok, _ := s.client.Extension("SIZE"); ok {
		mail.Size = int64(size)
	}
	if ok, _ := s.client.Extension("DSN"); ok {
		mail.EnvelopeID, mail.Return = e.ID, smtp.DSNReturnFull
		rcpt.Notify = []smtp.DSNNotify{smtp.DSNNotifyFailure, smtp.DSNNotifyDelayed}
		if e.Notify {
			rcpt.Notify = append(rcpt.Notify, smtp.DSNNotifySuccess)
		}
	}
	s.step()
	if err := s.client.Mail(e.From, mail); err != nil {
		return s.failure("from", err)
	}
	s.step()
	if err := s.client.Rcpt(e.To, rcpt); err != nil {
		return s.failure("to", err).to(e.To)
	}
	return Reply{Stage: "to", Code: 250, Rcpt: e.To}
}

func (s *Session) transact(e Envelope, message []byte) Reply {
	if reply := s.address(e, len(message)); !reply.Accepted() {
		return reply
	}
	s.step()
	w, err := s.client.Data()
	if err != nil {
		return s.failure("to", err).to(e.To)
	}
	s.conn.Step(s.route.Wait+time.Duration(len(message)/slowest)*time.Second, mostReply)
	if _, err := w.Write(message); err != nil {
		return s.failure("message", err).to(e.To)
	}
	s.step()
	response, err := w.CloseWithResponse()
	if err != nil {
		return s.failure("message", err).to(e.To)
	}
	return Reply{Stage: "message", Code: 250, Text: secret.Hide(strings.TrimSpace(response.StatusText)), Rcpt: e.To}
}

// to returns a reply about a recipient.
func (r Reply) to(recipient string) Reply {
	r.Rcpt = recipient
	return r
}

// failure turns an error into a reply.
func (s *Session) failure(stage string, err error) Reply {
	var answer *smtp.SMTPError
	if errors.As(err, &answer) && answer.Code < 400 {
		// It goes on where it should not: that is no word on the message.
		return Reply{Stage: stage, Text: fmt.Sprintf("the server answers %d, which is no answer there", answer.Code)}
	}
	if errors.As(err, &answer) {
		r := Reply{Stage: stage, Code: answer.Code, Text: secret.Hide(strings.Join(strings.Fields(answer.Message), " "))}
		if answer.EnhancedCode != smtp.NoEnhancedCode && answer.EnhancedCode != smtp.EnhancedCodeNotSet {
			r.Status = fmt.Sprintf("%d.%d.%d", answer.EnhancedCode[0], answer.EnhancedCode[1], answer.EnhancedCode[2])
		}
		return r
	}
	if cause := s.conn.Failure(); cause != nil {
		err = cause
	}
	certain := endpoint.IsDistrust(err) || errors.Is(err, endpoint.ErrNoMechanism)
	return Reply{Stage: stage, Text: endpoint.Reason(err), Certain: certain}
}
