package watch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/read"
)

// The bounds of what a server may say, and of how long it may take.
const (
	answerWait                = 20 * time.Second
	mostAnswer                = 1 << 20  // bytes of a simple answer
	mostList                  = 4 << 20  // of a list of folders
	mostFound                 = 16 << 20 // of a list of messages
	overhead                  = 16 << 10 // bytes that come with a message, besides what is asked for of it
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
	places  []Place
}

// open connects and logs in. The connection ends with ctx.
func open(ctx context.Context, a Account) (*session, error) {
	conn, err := a.Endpoint.Dial(ctx)
	if err != nil {
		return nil, &accountError{a.Name + ": " + endpoint.Reason(err), err}
	}
	s := &session{account: a, conn: conn, news: make(chan struct{}, 1)}
	s.stop = context.AfterFunc(ctx, func() { conn.Close() })
	if err := s.enter(); err != nil {
		s.stop()
		err = s.problem(err)
		conn.Close()
		return nil, err
	}
	return s, nil
}

// enter greets the server and logs in.
func (s *session) enter() error {
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
			return &boundError{err.Error()}
		}
		s.client = imapclient.New(s.conn, options)
		err = s.client.WaitGreeting()
	}
	if err != nil {
		return err
	}
	s.step(mostAnswer)
	return s.client.Authenticate(s.account.Login.Client())
}

// step begins the next step of the exchange, whose answer has so many bytes at most.
func (s *session) step(most int64) { s.conn.Step(s.patience(), most) }

// patience returns how long any one answer is waited for.
func (s *session) patience() time.Duration { return cmp.Or(s.account.Endpoint.Wait, answerWait) }

// problem says why an account cannot be looked into. What the server says is quoted.
func (s *session) problem(err error) error {
	var said *imap.Error
	var own *boundError
	reason := "the server does not speak IMAP as it should"
	switch failure := s.conn.Failure(); {
	case errors.As(err, &said):
		reason = "the server says " + said.Text
		if said.Code != "" {
			reason += " (" + string(said.Code) + ")"
		}
	case errors.As(err, &own):
		reason = own.text
	case failure != nil:
		reason = endpoint.Reason(failure)
	case errors.Is(err, net.ErrClosed):
		reason = endpoint.Reason(err)
	}
	return &accountError{s.account.Name + ": " + reason, err}
}

// boundError is why no more is looked at, in plain words.
type boundError struct{ text string }

func (e *boundError) Error() string { return e.text }

// accountError is why an account cannot be looked into, in plain words.
type accountError struct {
	text  string
	cause error
}

func (e *accountError) Error() string { return e.text }
func (e *accountError) Unwrap() error { return e.cause }

func (s *session) close() {
	const farewell = 2 * time.Second
	s.conn.Step(farewell, mostAnswer)
	_ = s.client.Logout().Wait()
	_ = s.client.Close()
	s.stop()
}

// wait waits for news in the inbox, or for a while. It reports false where the
// connection or ctx has ended.
func (s *session) wait(ctx context.Context, d time.Duration) bool {
	s.conn.Step(d+s.patience(), mostAnswer)
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
		return nil, &boundError{fmt.Sprintf("there are more than %d folders", mostFolders)}
	}
	for _, data := range list {
		if slices.Contains(data.Attrs, imap.MailboxAttrNoSelect) ||
			slices.Contains(data.Attrs, imap.MailboxAttrNonExistent) {
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

// selected opens a folder to look into it.
func (s *session) selected(folder string) (*imap.SelectData, error) {
	s.step(mostAnswer)
	return s.client.Select(folder, &imap.SelectOptions{ReadOnly: true}).Wait()
}

// marks returns the marks of the folders as they are now.
func (s *session) marks() ([]Mark, error) {
	places, err := s.folders()
	if err != nil {
		return nil, err
	}
	var marks []Mark
	for _, place := range places {
		data, err := s.selected(place.Folder)
		if err != nil {
			return nil, err
		}
		marks = append(marks, Mark{place, data.UIDValidity, uint32(data.UIDNext)})
	}
	return marks, nil
}

// look returns what has come since marks. A folder without a mark, or whose UIDs
// have changed since, is looked at from the beginning.
func (s *session) look(marks []Mark, wants func(*read.Message) bool) Report {
	r := Report{Account: s.account.Name, Marks: marks, Looked: time.Now()}
	places, err := s.folders()
	if err != nil {
		r.Err = s.problem(err)
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
			return Report{Account: r.Account, Marks: marks, Looked: r.Looked, Err: s.problem(err)}
		}
		r.Items = append(r.Items, items...)
		next = append(next, after)
	}
	r.Marks = next
	return r
}

func (s *session) lookInto(mark Mark, wants func(*read.Message) bool) ([]Item, Mark, error) {
	data, err := s.selected(mark.Folder)
	if err != nil {
		return nil, mark, err
	}
	if mark.Validity != data.UIDValidity {
		mark.Validity, mark.Next = data.UIDValidity, 1
	}
	if data.NumMessages == 0 || data.UIDNext != 0 && uint32(data.UIDNext) <= mark.Next {
		return nil, mark, nil
	}
	since, err := s.since(mark.Next)
	if err != nil {
		return nil, mark, err
	}
	wanted := map[imap.UID]int64{} // and their sizes
	for batch := range slices.Chunk(since, headsAtOnce) {
		if err := s.heads(batch, wants, wanted); err != nil {
			return nil, mark, err
		}
		mark.Next = max(mark.Next, uint32(batch[len(batch)-1])+1)
	}
	var items []Item
	for batch := range slices.Chunk(slices.Sorted(maps.Keys(wanted)), bodiesAtOnce) {
		found, err := s.bodies(batch, mark, wanted)
		if err != nil {
			return nil, mark, err
		}
		items = append(items, found...)
	}
	return items, mark, nil
}

// since returns the UIDs in the selected folder from one on, in order.
func (s *session) since(first uint32) ([]imap.UID, error) {
	s.step(mostFound)
	all := imap.UIDSet{imap.UIDRange{Start: imap.UID(first), Stop: 0}}
	found, err := s.client.UIDSearch(&imap.SearchCriteria{UID: []imap.UIDSet{all}}, nil).Wait()
	if err != nil {
		return nil, err
	}
	set, _ := found.All.(imap.UIDSet)
	var uids []imap.UID
	for _, r := range set {
		last := max(r.Start, r.Stop)
		// "n:*" always means the last one, too.
		for uid := uint64(max(uint32(min(r.Start, r.Stop)), first)); uid <= uint64(last); uid++ {
			if uids = append(uids, imap.UID(uid)); len(uids) > mostNew {
				return nil, &boundError{fmt.Sprintf("there are more than %d new messages in a folder", mostNew)}
			}
		}
	}
	slices.Sort(uids)
	return slices.Compact(uids), nil
}

// heads fetches the headers of messages, and adds those that are wanted, with their
// sizes.
func (s *session) heads(batch []imap.UID, wants func(*read.Message) bool, wanted map[imap.UID]int64) error {
	s.step(int64(len(batch)) * (maxHeader + overhead))
	header := &imap.FetchItemBodySection{
		Specifier: imap.PartSpecifierHeader,
		Peek:      true,
		Partial:   &imap.SectionPartial{Size: maxHeader},
	}
	options := &imap.FetchOptions{UID: true, RFC822Size: true, BodySection: []*imap.FetchItemBodySection{header}}
	found, err := s.client.Fetch(imap.UIDSetNum(batch...), options).Collect()
	if err != nil {
		return err
	}
	for _, head := range found {
		if m, err := read.Parse(section(head)); err == nil && slices.Contains(batch, head.UID) && wants(m) {
			wanted[head.UID] = head.RFC822Size
		}
	}
	return nil
}

// bodies fetches messages, as much of each as is read.
func (s *session) bodies(batch []imap.UID, mark Mark, sizes map[imap.UID]int64) ([]Item, error) {
	s.step(int64(len(batch)) * (maxMessage + overhead))
	whole := &imap.FetchItemBodySection{Peek: true, Partial: &imap.SectionPartial{Size: maxMessage}}
	options := &imap.FetchOptions{UID: true, BodySection: []*imap.FetchItemBodySection{whole}}
	found, err := s.client.Fetch(imap.UIDSetNum(batch...), options).Collect()
	if err != nil {
		return nil, err
	}
	var items []Item
	for _, one := range found {
		raw := section(one)
		if m, err := read.Parse(raw); err == nil && slices.Contains(batch, one.UID) {
			items = append(items, Item{mark.Place, mark.Validity, uint32(one.UID), sizes[one.UID], raw, m})
		}
	}
	return items, nil
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
	if err := s.remove(items); err != nil {
		return s.problem(err)
	}
	return nil
}

func (s *session) remove(items []Item) error {
	if !s.client.Caps().Has(imap.CapUIDPlus) && !s.client.Caps().Has(imap.CapIMAP4rev2) {
		return &boundError{"the server cannot remove single messages (UIDPLUS)"}
	}
	folders := map[string]imap.UIDSet{}
	validity := map[string]uint32{}
	for _, item := range items {
		set := folders[item.Folder]
		set.AddNum(imap.UID(item.UID))
		folders[item.Folder], validity[item.Folder] = set, item.Validity
	}
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		uids := folders[folder]
		s.step(mostAnswer)
		data, err := s.client.Select(folder, nil).Wait()
		if err != nil {
			return err
		}
		if data.UIDValidity != validity[folder] {
			return &boundError{fmt.Sprintf("the UIDs of %s have changed", folder)}
		}
		s.step(mostAnswer)
		deleted := &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true, Flags: []imap.Flag{imap.FlagDeleted}}
		if err := s.client.Store(uids, deleted, nil).Close(); err != nil {
			return err
		}
		s.step(mostAnswer)
		if err := s.client.UIDExpunge(uids).Close(); err != nil {
			return err
		}
	}
	return nil
}
