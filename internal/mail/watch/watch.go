// Package watch looks into mailboxes over IMAP (RFC 9051, RFC 3501) for what has
// come since a mark. It changes nothing there unless it is told to remove what it
// found.
package watch

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"yorvet.example/yorvet/internal/mail/endpoint"
	"yorvet.example/yorvet/internal/mail/read"
)

// The limits of what is fetched of one message. The rest is left on the server.
const (
	maxHeader  = 64 << 10 // bytes
	maxMessage = 1 << 20
)

// A Role is what a folder is for (RFC 6154).
type Role string

// The roles of folders.
const (
	Inbox   Role = "inbox"
	Junk    Role = "junk"
	Archive Role = "archive"
)

// An Account is a mailbox to look into.
type Account struct {
	Name     string // the address that it belongs to
	Endpoint endpoint.Endpoint
	Login    endpoint.Login
}

// A Place is a folder of an account.
type Place struct {
	Account string `json:"account"`
	Folder  string `json:"folder"`
	Role    Role   `json:"role"`
}

// A Mark is a point in a folder: what has come since then has a UID of Next or
// more.
type Mark struct {
	Place
	Validity uint32 `json:"validity"` // UIDVALIDITY
	Next     uint32 `json:"next"`     // UID
}

// An Item is a message in a folder.
type Item struct {
	Place
	Validity, UID uint32
	Size          int64
	Raw           []byte // as much as was fetched
	Message       *read.Message
}

// A Watch looks into accounts.
type Watch struct {
	Accounts []Account
	// Connections is how many there are at once, at most.
	Connections int
	// Every is how long to wait before looking into an account again.
	Every time.Duration
	// Wants reports whether a message is fetched whole, by its header. Others are
	// left alone.
	Wants func(*read.Message) bool
}

// Mark returns the marks of all folders as they are now, and what went wrong by
// account.
func (w *Watch) Mark(ctx context.Context) ([]Mark, map[string]error) {
	var mutex sync.Mutex
	var marks []Mark
	problems := map[string]error{}
	w.each(func(a Account) {
		found, err := w.markOne(ctx, a)
		mutex.Lock()
		defer mutex.Unlock()
		if err != nil {
			problems[a.Name] = err
			return
		}
		marks = append(marks, found...)
	})
	return marks, problems
}

// each calls visit with every account, so many at once.
func (w *Watch) each(visit func(Account)) {
	slots := make(chan struct{}, max(1, w.Connections))
	var done sync.WaitGroup
	for _, a := range w.Accounts {
		slots <- struct{}{}
		done.Go(func() {
			defer func() { <-slots }()
			visit(a)
		})
	}
	done.Wait()
}

func (w *Watch) markOne(ctx context.Context, a Account) ([]Mark, error) {
	s, err := open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer s.close()
	return s.marks()
}

// A Report is what one look into an account brought: what has come, and the marks
// to go on from.
type Report struct {
	Account string
	Items   []Item
	Marks   []Mark
	Looked  time.Time // when the look began
	Err     error
}

// Run looks into all accounts again and again from marks on, until ctx ends, and
// calls visit after each look, one call at a time. Where there are connections for
// all accounts, each is told of news by the server (IDLE, RFC 2177).
func (w *Watch) Run(ctx context.Context, marks []Mark, visit func(Report)) {
	from := map[string][]Mark{}
	for _, m := range marks {
		from[m.Account] = append(from[m.Account], m)
	}
	var mutex sync.Mutex
	report := func(r Report) {
		mutex.Lock()
		defer mutex.Unlock()
		if ctx.Err() == nil {
			visit(r)
		}
	}
	var done sync.WaitGroup
	defer done.Wait()
	if len(w.Accounts) <= w.Connections {
		for _, a := range w.Accounts {
			done.Go(func() { w.stay(ctx, a, from[a.Name], report) })
		}
		return
	}
	type turn struct {
		account Account
		marks   []Mark
		due     time.Time
	}
	turns := make(chan turn, len(w.Accounts))
	for _, a := range w.Accounts {
		turns <- turn{account: a, marks: from[a.Name]}
	}
	for range max(1, w.Connections) {
		done.Go(func() {
			for {
				select {
				case <-ctx.Done():
					return
				case t := <-turns:
					if !sleep(ctx, time.Until(t.due)) {
						return
					}
					r := w.lookOnce(ctx, t.account, t.marks)
					report(r)
					turns <- turn{t.account, r.Marks, time.Now().Add(w.Every)}
				}
			}
		})
	}
}

// sleep waits, and reports false where ctx has ended.
func sleep(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(max(0, d))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
		return true
	}
}

// stay keeps a connection to an account, and looks when there is news.
func (w *Watch) stay(ctx context.Context, a Account, marks []Mark, report func(Report)) {
	for ctx.Err() == nil {
		s, err := open(ctx, a)
		if err != nil {
			report(Report{Account: a.Name, Marks: marks, Looked: time.Now(), Err: err})
			if !sleep(ctx, w.Every) {
				return
			}
			continue
		}
		for {
			r := s.look(marks, w.Wants)
			marks = r.Marks
			report(r)
			if r.Err != nil || !s.wait(ctx, w.Every) {
				break
			}
		}
		s.close()
		if ctx.Err() == nil && !sleep(ctx, min(w.Every, time.Second)) {
			return
		}
	}
}

func (w *Watch) lookOnce(ctx context.Context, a Account, marks []Mark) Report {
	s, err := open(ctx, a)
	if err != nil {
		return Report{Account: a.Name, Marks: marks, Looked: time.Now(), Err: err}
	}
	defer s.close()
	return s.look(marks, w.Wants)
}

// session is a connection to an account.
type session struct {
	account Account
	client  *imapclient.Client
	news    chan struct{}
	stop    func() bool
	places  []Place
}

// open connects and logs in.
func open(ctx context.Context, a Account) (*session, error) {
	conn, err := a.Endpoint.Dial(ctx)
	if err != nil {
		return nil, err
	}
	s := &session{account: a, news: make(chan struct{}, 1)}
	options := &imapclient.Options{TLSConfig: a.Endpoint.Config(), UnilateralDataHandler: &imapclient.UnilateralDataHandler{
		Mailbox: func(data *imapclient.UnilateralDataMailbox) {
			if data.NumMessages != nil {
				select {
				case s.news <- struct{}{}:
				default:
				}
			}
		},
	}}
	s.stop = context.AfterFunc(ctx, func() { conn.Close() })
	if a.Endpoint.TLS == endpoint.StartTLS || a.Endpoint.TLS == endpoint.Unverified {
		s.client, err = imapclient.NewStartTLS(conn, options)
	} else {
		s.client = imapclient.New(conn, options)
		err = s.client.WaitGreeting()
	}
	if err == nil {
		err = s.client.Authenticate(a.Login.Client())
	}
	if err != nil {
		s.stop()
		conn.Close()
		return nil, fmt.Errorf("%s: %w", a.Name, err)
	}
	return s, nil
}

func (s *session) close() {
	_ = s.client.Logout().Wait()
	_ = s.client.Close()
	s.stop()
}

// wait waits for news in the inbox, or for a while. It reports false where the
// connection or ctx has ended.
func (s *session) wait(ctx context.Context, d time.Duration) bool {
	if !s.client.Caps().Has(imap.CapIdle) {
		return sleep(ctx, d)
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
	list, err := s.client.List("", "*", options).Collect()
	if err != nil {
		return nil, err
	}
	for _, data := range list {
		if slices.Contains(data.Attrs, imap.MailboxAttrNoSelect) || slices.Contains(data.Attrs, imap.MailboxAttrNonExistent) {
			continue
		}
		if role := roleOf(data); role != "" {
			s.places = append(s.places, Place{s.account.Name, data.Mailbox, role})
		}
	}
	return s.places, nil
}

// roleOf returns what a folder is for, or "" where it is for nothing that matters.
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
	return ""
}

// marks returns the marks of the folders as they are now.
func (s *session) marks() ([]Mark, error) {
	places, err := s.folders()
	if err != nil {
		return nil, err
	}
	var marks []Mark
	for _, place := range places {
		data, err := s.client.Select(place.Folder, &imap.SelectOptions{ReadOnly: true}).Wait()
		if err != nil {
			return nil, err
		}
		marks = append(marks, Mark{place, data.UIDValidity, uint32(data.UIDNext)})
	}
	return marks, nil
}

// look returns what has come since marks. A folder without a mark, or whose UIDs
// have been given anew since, is looked at from the beginning.
func (s *session) look(marks []Mark, wants func(*read.Message) bool) Report {
	r := Report{Account: s.account.Name, Marks: marks, Looked: time.Now()}
	places, err := s.folders()
	if err != nil {
		r.Err = err
		return r
	}
	var next []Mark
	for _, place := range places {
		mark := Mark{Place: place, Next: 1}
		if i := slices.IndexFunc(marks, func(m Mark) bool { return m.Folder == place.Folder }); i >= 0 {
			mark = marks[i]
		}
		items, after, err := s.lookInto(mark, wants)
		if err != nil {
			r.Err = err
			return Report{Account: r.Account, Marks: marks, Looked: r.Looked, Err: err}
		}
		r.Items = append(r.Items, items...)
		next = append(next, after)
	}
	r.Marks = next
	return r
}

func (s *session) lookInto(mark Mark, wants func(*read.Message) bool) ([]Item, Mark, error) {
	data, err := s.client.Select(mark.Folder, &imap.SelectOptions{ReadOnly: true}).Wait()
	if err != nil {
		return nil, mark, err
	}
	if mark.Validity != data.UIDValidity {
		mark.Validity, mark.Next = data.UIDValidity, 1
	}
	if data.NumMessages == 0 || data.UIDNext != 0 && uint32(data.UIDNext) <= mark.Next {
		return nil, mark, nil
	}
	all := imap.UIDSet{imap.UIDRange{Start: imap.UID(mark.Next), Stop: 0}}
	header := &imap.FetchItemBodySection{Specifier: imap.PartSpecifierHeader, Peek: true, Partial: &imap.SectionPartial{Size: maxHeader}}
	heads, err := s.client.Fetch(all, &imap.FetchOptions{UID: true, RFC822Size: true, BodySection: []*imap.FetchItemBodySection{header}}).Collect()
	if err != nil {
		return nil, mark, err
	}
	var wanted imap.UIDSet
	sizes := map[imap.UID]int64{}
	next := mark.Next
	for _, head := range heads {
		if uint32(head.UID) < mark.Next {
			continue // "n:*" always means the last one, too
		}
		next = max(next, uint32(head.UID)+1)
		m, err := read.Parse(section(head))
		if err == nil && wants(m) {
			wanted.AddNum(head.UID)
			sizes[head.UID] = head.RFC822Size
		}
	}
	var items []Item
	if len(sizes) > 0 {
		whole := &imap.FetchItemBodySection{Peek: true, Partial: &imap.SectionPartial{Size: maxMessage}}
		found, err := s.client.Fetch(wanted, &imap.FetchOptions{UID: true, BodySection: []*imap.FetchItemBodySection{whole}}).Collect()
		if err != nil {
			return nil, mark, err
		}
		for _, one := range found {
			raw := section(one)
			if m, err := read.Parse(raw); err == nil {
				items = append(items, Item{mark.Place, mark.Validity, uint32(one.UID), sizes[one.UID], raw, m})
			}
		}
	}
	mark.Next = next
	return items, mark, nil
}

// section returns the only body section of a fetched message.
func section(m *imapclient.FetchMessageBuffer) []byte {
	if len(m.BodySection) == 0 {
		return nil
	}
	return m.BodySection[0].Bytes
}

// Remove removes messages from one account, those named and no others. It needs
// UIDPLUS (RFC 4315), as without it more might go.
func Remove(ctx context.Context, a Account, items []Item) error {
	s, err := open(ctx, a)
	if err != nil {
		return err
	}
	defer s.close()
	if !s.client.Caps().Has(imap.CapUIDPlus) && !s.client.Caps().Has(imap.CapIMAP4rev2) {
		return errors.New("the server cannot remove single messages (UIDPLUS)")
	}
	folders := map[string]imap.UIDSet{}
	validity := map[string]uint32{}
	for _, item := range items {
		set := folders[item.Folder]
		set.AddNum(imap.UID(item.UID))
		folders[item.Folder], validity[item.Folder] = set, item.Validity
	}
	for folder, uids := range folders {
		data, err := s.client.Select(folder, nil).Wait()
		if err != nil {
			return err
		}
		if data.UIDValidity != validity[folder] {
			return fmt.Errorf("the UIDs of %s have been given anew", folder)
		}
		if err := s.client.Store(uids, &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true, Flags: []imap.Flag{imap.FlagDeleted}}, nil).Close(); err != nil {
			return err
		}
		if err := s.client.UIDExpunge(uids).Close(); err != nil {
			return err
		}
	}
	return nil
}
