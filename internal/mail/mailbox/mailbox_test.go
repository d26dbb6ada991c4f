package mailbox_test

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/secret"
)

// box is a mailbox behind an IMAP server.
type box struct {
	t    *testing.T
	user *imapmemserver.User
	at   string
}

// serve starts a server with some capabilities.
func serve(t *testing.T, caps ...imap.Cap) *box {
	t.Helper()
	b := &box{t: t, user: imapmemserver.NewUser("ada", "hush-42")}
	for _, name := range []string{"INBOX", "Spam", "Old/Archive", "Work"} {
		if err := b.user.Create(name, nil); err != nil {
			t.Fatal(err)
		}
	}
	server := imapmemserver.New()
	server.AddUser(b.user)
	set := imap.CapSet{imap.CapIMAP4rev1: {}}
	for _, c := range caps {
		set[c] = struct{}{}
	}
	s := imapserver.New(&imapserver.Options{Caps: set, InsecureAuth: true, Logger: silence{}, NewSession: func(*imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
		return server.NewSession(), nil, nil
	}})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { s.Close() })
	b.at = l.Addr().String()
	return b
}

// silence takes what the server says about connections that end.
type silence struct{}

func (silence) Printf(string, ...any) {}

type literal struct{ *bytes.Reader }

func (l literal) Size() int64 { return l.Reader.Size() }

// put puts a message with a Message-ID into a folder.
func (b *box) put(folder, id string) {
	b.t.Helper()
	raw := fmt.Appendf(nil, "From: a@far.example\r\nMessage-ID: <%s>\r\n\r\ntext\r\n", id)
	if _, err := b.user.Append(folder, literal{bytes.NewReader(raw)}, &imap.AppendOptions{Time: clock.Now()}); err != nil {
		b.t.Fatal(err)
	}
}

// tagged puts a message of a run into a folder.
func (b *box) tagged(folder, id, tag string) {
	b.t.Helper()
	raw := fmt.Appendf(nil, "From: a@far.example\r\nMessage-ID: <%s>\r\n%s: %s\r\n\r\ntext\r\n", id, read.Tag, tag)
	if _, err := b.user.Append(folder, literal{bytes.NewReader(raw)}, &imap.AppendOptions{Time: clock.Now()}); err != nil {
		b.t.Fatal(err)
	}
}

// dated puts a message that came at a time into a folder.
func (b *box) dated(folder, id string, came time.Time) {
	b.t.Helper()
	raw := fmt.Appendf(nil, "Message-ID: <%s>\r\n\r\ntext\r\n", id)
	if _, err := b.user.Append(folder, literal{bytes.NewReader(raw)}, &imap.AppendOptions{Time: came}); err != nil {
		b.t.Fatal(err)
	}
}

func (b *box) account() mailbox.Account {
	return mailbox.Account{Name: "ada@kelp.example", Endpoint: endpoint.Endpoint{Server: b.at, TLS: endpoint.Plain, Wait: time.Second}, Login: endpoint.Login{User: "ada", Secret: secret.New("hush-42")}}
}

func all(*read.Message) bool { return true }

// What has come since a mark is seen once, in the folders that matter, as soon as it comes;
// elsewhere only when everything is gone through.
func TestLook(t *testing.T) {
	b := serve(t, imap.CapUIDPlus)
	b.put("INBOX", "before@x")
	box, err := mailbox.Open(t.Context(), b.account())
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	q := mailbox.Query{Since: clock.Now().Add(-48 * time.Hour), Wants: all}
	if q.Marks, err = box.Marks(); err != nil || len(q.Marks) != 3 {
		t.Fatalf("%v, %v", q.Marks, err)
	}
	go func() {
		for i, folder := range []string{"INBOX", "Spam", "Work", "Old/Archive"} {
			<-time.After(50 * time.Millisecond) // so that it comes while it is waited for
			b.put(folder, fmt.Sprintf("%d@x", i))
		}
	}()
	var got []string
	var items []mailbox.Item
	for len(got) < 3 {
		r := box.Look(q)
		if r.Err != nil {
			t.Fatal(r.Err)
		}
		for _, item := range r.Items {
			got = append(got, string(item.Role)+" "+item.Message.ID)
			items = append(items, item)
		}
		q.Marks = r.Marks
		if !box.Wait(t.Context(), 100*time.Millisecond) {
			t.Fatal("the connection has ended")
		}
	}
	slices.Sort(got)
	if want := []string{"archive 3@x", "inbox 0@x", "junk 1@x"}; !slices.Equal(got, want) {
		t.Fatalf("seen %v, want %v", got, want)
	}
	slices.SortFunc(items, func(a, b mailbox.Item) int { return strings.Compare(a.Message.ID, b.Message.ID) })
	again, err := box.Fetch(append(items, mailbox.Item{Place: items[0].Place, Validity: items[0].Validity, UID: 99},
		mailbox.Item{Place: items[0].Place, Validity: items[0].Validity + 1, UID: items[0].UID}))
	if err != nil || len(again) != 3 || !bytes.Equal(again[0].Raw, items[0].Raw) {
		t.Errorf("fetched again are %d, %v", len(again), err)
	}
	if n, err := mailbox.Remove(t.Context(), b.account(), items[:1], false); err != nil || n != 1 {
		t.Fatal(n, err)
	}
	if n, err := mailbox.Remove(t.Context(), b.account(), items[:1], false); err != nil || n != 0 {
		t.Errorf("what is gone is removed again: %d, %v", n, err)
	}
	if status, err := b.user.Status("INBOX", &imap.StatusOptions{NumMessages: true}); err != nil || *status.NumMessages != 1 {
		t.Errorf("%v, %+v", err, status)
	}
	items[1].Validity++
	if _, err := mailbox.Remove(t.Context(), b.account(), items[1:2], false); err == nil {
		t.Error("a message is removed by a UID that may be another's")
	}
}

// Everything is gone through, whatever the marks say.
func TestThrough(t *testing.T) {
	b := serve(t)
	b.put("INBOX", "in@x")
	b.put("Work", "filed@x")
	b.tagged("Work", "tagged@x", "run7.a")
	b.tagged("Work", "other@x", "run8.a")
	box, err := mailbox.Open(t.Context(), b.account())
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	marks, err := box.Marks()
	if err != nil {
		t.Fatal(err)
	}
	r := box.Look(mailbox.Query{Marks: marks, Through: true, Since: clock.Now().Add(-48 * time.Hour), Tag: "run7.", Wants: all})
	var got []string
	for _, item := range r.Items {
		got = append(got, string(item.Role)+" "+item.Folder+" "+item.Message.ID)
	}
	if want := "[inbox INBOX in@x other Work tagged@x]"; r.Err != nil || fmt.Sprint(got) != want {
		t.Errorf("seen %v, %v, want %s", got, r.Err, want)
	}
	if r = box.Look(mailbox.Query{Marks: r.Marks, Wants: all}); len(r.Items) != 0 || r.Err != nil {
		t.Errorf("after that, %d are new, %v", len(r.Items), r.Err)
	}
}

// Where there is no mark, or UIDs have been given anew, what came since a day is looked at.
func TestUIDsGivenAnew(t *testing.T) {
	b := serve(t)
	b.put("INBOX", "one@x")
	b.dated("INBOX", "old@x", clock.Now().Add(-9*24*time.Hour))
	place := mailbox.Place{Account: "ada@kelp.example", Folder: "INBOX", Role: mailbox.Inbox}
	for _, marks := range [][]mailbox.Mark{nil, {{Place: place, Validity: 999, Next: 50}}, {{Place: place, Validity: 1}}} {
		r := mailbox.Look(t.Context(), b.account(), mailbox.Query{Marks: marks, Since: clock.Now().Add(-48 * time.Hour), Wants: all})
		if len(r.Items) != 1 || r.Items[0].Message.ID != "one@x" || r.Err != nil {
			t.Errorf("with %v: %+v", marks, r)
		}
	}
	found := mailbox.Look(t.Context(), b.account(), mailbox.Query{Since: clock.Now().Add(-48 * time.Hour), Wants: all}).Items
	if n, err := mailbox.Remove(t.Context(), b.account(), found, false); !errors.Is(err, mailbox.ErrSingly) || n != 0 {
		t.Errorf("from a server that cannot remove single messages: %d, %v", n, err)
	}
	// Then all that is marked goes, where nothing else is marked.
	client := b.login(t)
	if err := client.Store(imap.SeqSetNum(2), &imap.StoreFlags{Op: imap.StoreFlagsAdd, Flags: []imap.Flag{imap.FlagDeleted}}, nil).Close(); err != nil {
		t.Fatal(err)
	}
	if n, err := mailbox.Remove(t.Context(), b.account(), found, true); err == nil || n != 0 {
		t.Errorf("with another that is marked: %d, %v", n, err)
	}
	if err := client.Store(imap.SeqSetNum(2), &imap.StoreFlags{Op: imap.StoreFlagsDel, Flags: []imap.Flag{imap.FlagDeleted}}, nil).Close(); err != nil {
		t.Fatal(err)
	}
	if n, err := mailbox.Remove(t.Context(), b.account(), found, true); err != nil || n != 1 {
		t.Errorf("removed are %d, %v", n, err)
	}
	if status, err := b.user.Status("INBOX", &imap.StatusOptions{NumMessages: true}); err != nil || *status.NumMessages != 1 {
		t.Errorf("%v, %+v", err, status)
	}
}

// login logs in to the server, and opens the inbox.
func (b *box) login(t *testing.T) *imapclient.Client {
	t.Helper()
	client, err := imapclient.DialInsecure(b.at, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { client.Close() })
	if err := client.Login("ada", "hush-42").Wait(); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Select("INBOX", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	return client
}

// A login that is refused is certain, a server that is not there is not.
func TestCertain(t *testing.T) {
	b := serve(t)
	wrong := b.account()
	wrong.Login.Secret = secret.New("ebb-42")
	_, err := mailbox.Open(t.Context(), wrong)
	if err == nil || !mailbox.IsCertain(err) || strings.Contains(err.Error(), "ebb-42") || !strings.Contains(err.Error(), "the login fails") {
		t.Errorf("a wrong password: %v", err)
	}
	token := b.account()
	token.Login.Bearer = true
	if _, err := mailbox.Open(t.Context(), token); err == nil || !mailbox.IsCertain(err) {
		t.Errorf("a token where none is taken: %v", err)
	}
	away := b.account()
	away.Endpoint.Server = "127.0.0.1:1"
	if _, err := mailbox.Open(t.Context(), away); err == nil || mailbox.IsCertain(err) {
		t.Errorf("nobody there: %v", err)
	}
}
