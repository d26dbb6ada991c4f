package mailbox

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

// The bounds of what a server may say, and of how long it may take.
const (
	answerWait                = 20 * time.Second
	mostAnswer                = 1 << 20  // bytes of a simple answer
	mostList                  = 4 << 20  // of a list of folders
	mostFound                 = 16 << 20 // of a list of messages
	overhead                  = 16 << 10 // bytes that come with a message, apart from what is asked for of it
	headsAtOnce, bodiesAtOnce = 100, 8
	mostFolders               = 10_000
	mostNew                   = 200_000 // messages in one folder that are new
)

// session is a connection to an account.
type session struct {
	account Account
	conn    *endpoint.Conn
	client  *imapclient.Client
	news    chan struct{}
	stop    func() bool
	places  []Place // the folders that mail comes to
	others  []Place
	entered bool // logged in
}

// openIMAP connects and logs in. The connection ends with ctx.
func openIMAP(ctx context.Context, a Account) (Box, error) {
	conn, err := a.Endpoint.Dial(ctx)
	if err != nil {
		return nil, &Error{a.Name + ": " + endpoint.Reason(err), endpoint.IsDistrust(err), err}
	}
	s := &session{account: a, conn: conn, news: make(chan struct{}, 1)}
	s.stop = context.AfterFunc(ctx, func() { conn.Close() })
	if err := s.enter(ctx); err != nil {
		s.stop()
		err = s.problem(err)
		conn.Close()
		return nil, err
	}
	s.entered = true
	return s, nil
}

// enter greets the server and logs in.
func (s *session) enter(ctx context.Context) error {
	options := &imapclient.Options{
		TLSConfig: s.account.Endpoint.Config(),
		UnilateralDataHandler: &imapclient.UnilateralDataHandler{
			Mailbox: func(data *imapclient.UnilateralDataMailbox) {
				if data.NumMessages != nil {
					select {
					case s.news <- struct{}{}:
					default:
					}
				}
			},
		},
	}
	s.step(mostAnswer)
	var err error
	switch s.account.Endpoint.TLS {
	case endpoint.StartTLS, endpoint.Unverified:
		s.client, err = imapclient.NewStartTLS(s.conn, options)
	default:
		if err := s.conn.MayShowLogin(); err != nil {
			return &boundError{err.Error(), true}
		}
		s.client = imapclient.New(s.conn, options)
		err = s.client.WaitGreeting()
	}
	if err != nil {
		return err
	}
	return s.login(ctx)
}

// login logs in by a mechanism that the server offers, or by the LOGIN command where it
// offers none (RFC 9051, section 6.2.3).
func (s *session) login(ctx context.Context) error {
	s.step(mostAnswer)
	caps := s.client.Caps()
	if caps == nil {
		return &boundError{text: "the server does not say what it can do"}
	}
	l := s.account.Login
	exchange, err := l.Client(ctx, caps.AuthMechanisms())
	byCommand := l.Mechanism == "" && !l.Bearer && l.Token == nil && l.As == "" && !caps.Has(imap.CapLoginDisabled)
	if len(caps.AuthMechanisms()) == 0 || errors.Is(err, endpoint.ErrNoMechanism) {
		if !byCommand {
			if err == nil {
				err = fmt.Errorf("%w: it offers none", endpoint.ErrNoMechanism)
			}
			return &boundError{err.Error(), true}
		}
		s.step(mostAnswer)
		return s.client.Login(l.User, l.Secret.Reveal()).Wait()
	}
	if err != nil {
		return &boundError{text: err.Error()}
	}
	s.step(mostAnswer)
	return s.client.Authenticate(exchange)
}

// step begins the next step of the exchange, whose answer has so many bytes at most.
func (s *session) step(most int64) { s.conn.Step(s.patience(), most) }

// patience returns how long any one answer is waited for.
func (s *session) patience() time.Duration { return cmp.Or(s.account.Endpoint.Wait, answerWait) }

// passing are words of answers to a login that another try may not get.
var passing = []string{"temporar", "unavailable", "try again", "too many", "limit", "maximum", "internal", "busy"}

// problem says why an account cannot be looked into. What the server says is quoted.
func (s *session) problem(err error) error {
	var said *imap.Error
	var own *boundError
	reason := "the server does not speak IMAP as it should"
	certain := false
	switch failure := s.conn.Failure(); {
	case errors.As(err, &said):
		reason = "the server says " + secret.Hide(said.Text)
		if said.Code != "" {
			reason += " (" + string(said.Code) + ")"
		}
		if !s.entered {
			reason = "the login fails: " + reason
			text := strings.ToLower(said.Text + " " + string(said.Code))
			certain = said.Type == imap.StatusResponseTypeNo && !slices.ContainsFunc(passing, func(word string) bool {
				return strings.Contains(text, word)
			})
		}
	case errors.As(err, &own):
		reason, certain = own.text, own.certain
	case failure != nil:
		reason, certain = endpoint.Reason(failure), endpoint.IsDistrust(failure)
	case endpoint.IsDistrust(err):
		reason, certain = endpoint.Reason(err), true
	case errors.Is(err, net.ErrClosed):
		reason = endpoint.Reason(err)
	}
	return &Error{s.account.Name + ": " + reason, certain, err}
}

// boundError is why no more is looked at, in plain words.
type boundError struct {
	text    string
	certain bool // another try gives the same result
}

func (e *boundError) Error() string { return e.text }

// Close ends the session.
func (s *session) Close() {
	const farewell = 2 * time.Second
	s.conn.Step(farewell, mostAnswer)
	_ = s.client.Logout().Wait()
	_ = s.client.Close()
	s.stop()
}

// Wait waits for news in the inbox, or for a while.
func (s *session) Wait(ctx context.Context, d time.Duration) bool {
	s.conn.Step(d+s.patience(), mostAnswer)
	if !s.client.Caps().Has(imap.CapIdle) {
		return clock.Sleep(ctx, d)
	}
	if _, err := s.client.Select("INBOX", &imap.SelectOptions{ReadOnly: true}).Wait(); err != nil {
		return false
	}
	idle, err := s.client.Idle()
	if err != nil {
		return false
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-s.client.Closed():
		return false
	case <-s.news:
	case <-timer.C:
	}
	s.step(mostAnswer)
	return idle.Close() == nil && idle.Wait() == nil
}

// folders returns the folders to look into: the inbox, and those for junk and for
// archived mail.
func (s *session) folders() ([]Place, error) {
	if s.places != nil {
		return s.places, nil
	}
	options := &imap.ListOptions{}
	if s.client.Caps().Has(imap.CapListExtended) && s.client.Caps().Has(imap.CapSpecialUse) {
		options.ReturnSpecialUse = true
	}
	s.step(mostList)
	list, err := s.client.List("", "*", options).Collect()
	if err != nil {
		return nil, err
	}
	if len(list) > mostFolders {
		return nil, &boundError{text: fmt.Sprintf("there are more than %d folders", mostFolders)}
	}
	for _, data := range list {
		if slices.Contains(data.Attrs, imap.MailboxAttrNoSelect) ||
			slices.Contains(data.Attrs, imap.MailboxAttrNonExistent) {
			continue
		}
		if role := roleOf(data); role != Other {
			s.places = append(s.places, Place{s.account.Name, data.Mailbox, role})
		} else {
			s.others = append(s.others, Place{s.account.Name, data.Mailbox, role})
		}
	}
	if len(s.places)+len(s.others) == 0 {
		return nil, &boundError{text: "the login works, and the server lists no folder: there is no mailbox"}
	}
	return s.places, nil
}

// roleOf returns what a folder is for.
func roleOf(data *imap.ListData) Role {
	switch {
	case strings.EqualFold(data.Mailbox, "INBOX"):
		return Inbox
	case slices.Contains(data.Attrs, imap.MailboxAttrJunk):
		return Junk
	case slices.Contains(data.Attrs, imap.MailboxAttrArchive):
		return Archive
	}
	name := data.Mailbox
	if data.Delim != 0 {
		name = name[strings.LastIndex(name, string(data.Delim))+1:]
	}
	switch strings.ToLower(name) {
	case "junk", "spam":
		return Junk
	case "archive":
		return Archive
	}
	return Other
}

// selected opens a folder to look into it.
func (s *session) selected(folder string) (*imap.SelectData, error) {
	s.step(mostAnswer)
	return s.client.Select(folder, &imap.SelectOptions{ReadOnly: true}).Wait()
}

// Marks returns the marks of the folders as they are now.
func (s *session) Marks() ([]Mark, error) {
	places, err := s.folders()
	if err != nil {
		return nil, s.problem(err)
	}
	var marks []Mark
	for _, place := range places {
		data, err := s.selected(place.Folder)
		if isGone(err) {
			continue
		}
		if err != nil {
			return nil, s.problem(err)
		}
		next := uint32(data.UIDNext)
		if next == 0 { // which RFC 3501 allows
			next = s.nextUID(place.Folder)
		}
		marks = append(marks, Mark{place, data.UIDValidity, next})
	}
	return marks, nil
}

// nextUID asks for the UID that comes next in a folder; 0 where the server does not say.
func (s *session) nextUID(folder string) uint32 {
	s.step(mostAnswer)
	data, err := s.client.Status(folder, &imap.StatusOptions{UIDNext: true}).Wait()
	if err != nil || data == nil {
		return 0
	}
	return uint32(data.UIDNext)
}

// isGone reports whether a folder is not there any more: a list may be older than it.
func isGone(err error) bool {
	var said *imap.Error
	return errors.As(err, &said) && said.Type == imap.StatusResponseTypeNo && said.Code == imap.ResponseCodeNonExistent
}

// Look returns what has come since marks.
func (s *session) Look(q Query) Report {
	r := Report{Account: s.account.Name, Marks: q.Marks}
	if q.Through {
		s.places, s.others = nil, nil // folders come and go
	}
	places, err := s.folders()
	if err != nil {
		r.Err = s.problem(err)
		return r
	}
	var next []Mark
	for _, place := range places {
		mark := Mark{Place: place}
		from := q.Marks
		if q.Through {
			from = q.First
		}
		if i := slices.IndexFunc(from, func(m Mark) bool { return m.Folder == place.Folder }); i >= 0 {
			mark = from[i]
		}
		items, after, err := s.lookInto(mark, q)
		r.Items = append(r.Items, items...)
		if isGone(err) {
			continue
		}
		if err != nil {
			r.Err = s.problem(err)
			return r
		}
		next = append(next, after)
	}
	if q.Through {
		for _, place := range s.others {
			items, err := s.searchIn(place, q)
			r.Items = append(r.Items, items...)
			if err != nil && !isGone(err) {
				r.Err = s.problem(err)
				return r
			}
		}
	}
	r.Marks = next
	return r
}

// lookInto looks into one folder: at what has come since its mark, or else at what came
// since a day.
func (s *session) lookInto(mark Mark, q Query) ([]Item, Mark, error) {
	data, err := s.selected(mark.Folder)
	if err != nil {
		return nil, mark, err
	}
	marked := mark.Validity == data.UIDValidity && mark.Next > 0
	if q.Through && uint32(data.UIDNext) < mark.Next {
		marked = false // UIDs were given again, and nobody says so
	}
	if !marked {
		mark.Validity = data.UIDValidity
	}
	if data.NumMessages == 0 || marked && data.UIDNext != 0 && uint32(data.UIDNext) <= mark.Next {
		mark.Next = max(mark.Next, uint32(data.UIDNext))
		return nil, mark, nil
	}
	criteria := &imap.SearchCriteria{Since: q.Since}
	first := uint32(1)
	if marked {
		first = mark.Next
		criteria = &imap.SearchCriteria{UID: []imap.UIDSet{{imap.UIDRange{Start: imap.UID(first), Stop: 0}}}}
	} else {
		mark.Next = uint32(data.UIDNext)
	}
	since, err := s.search(criteria, first)
	if err != nil {
		return nil, mark, err
	}
	items, err := s.fetch(since, &mark, q.Wants)
	return items, mark, err
}
