package watch_test

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"

	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/watch"
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
	if _, err := b.user.Append(folder, literal{bytes.NewReader(raw)}, &imap.AppendOptions{}); err != nil {
		b.t.Fatal(err)
	}
}

func (b *box) account() watch.Account {
	return watch.Account{Name: "ada@kelp.example", Endpoint: endpoint.Endpoint{Server: b.at, TLS: endpoint.Plain, Wait: time.Second}, Login: endpoint.Login{User: "ada", Secret: secret.New("hush-42")}}
}

func all(*read.Message) bool { return true }

// What has come since a mark is seen once, in the folders that matter, as soon as
// it comes.
func TestRun(t *testing.T) {
	b := serve(t, imap.CapUIDPlus)
	b.put("INBOX", "before@x")
	w := &watch.Watch{Accounts: []watch.Account{b.account()}, Connections: 1, Every: 200 * time.Millisecond, Wants: all}
	marks, problems := w.Mark(context.Background())
	if len(problems) > 0 || len(marks) != 3 {
		t.Fatalf("%v, %v", marks, problems)
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	var mutex sync.Mutex
	var got []string
	var items []watch.Item
	go func() {
		for i := range 3 {
			time.Sleep(100 * time.Millisecond)
			b.put([]string{"INBOX", "Spam", "Work"}[i], fmt.Sprintf("%d@x", i))
		}
		b.put("Old/Archive", "3@x")
	}()
	w.Run(ctx, marks, func(r watch.Report) {
		mutex.Lock()
		defer mutex.Unlock()
		if r.Err != nil {
			t.Error(r.Err)
		}
		for _, item := range r.Items {
			got = append(got, string(item.Role)+" "+item.Message.ID)
			items = append(items, item)
		}
		if len(got) == 3 {
			stop()
		}
	})
	slices.Sort(got)
	if want := []string{"archive 3@x", "inbox 0@x", "junk 1@x"}; !slices.Equal(got, want) {
		t.Fatalf("seen %v, want %v", got, want)
	}
	slices.SortFunc(items, func(a, b watch.Item) int { return strings.Compare(a.Message.ID, b.Message.ID) })
	if err := watch.Remove(context.Background(), b.account(), items[:1]); err != nil {
		t.Fatal(err)
	}
	if status, err := b.user.Status("INBOX", &imap.StatusOptions{NumMessages: true}); err != nil || *status.NumMessages != 1 {
		t.Errorf("%v, %+v", err, status)
	}
	items[1].Validity++
	if err := watch.Remove(context.Background(), b.account(), items[1:2]); err == nil {
		t.Error("a message is removed by a UID that may be another's")
	}
}

// Where UIDs have been given anew, a folder is looked at from the beginning.
func TestUIDsGivenAnew(t *testing.T) {
	b := serve(t)
	b.put("INBOX", "one@x")
	marks := []watch.Mark{{Place: watch.Place{Account: "ada@kelp.example", Folder: "INBOX", Role: watch.Inbox}, Validity: 999, Next: 50}}
	w := &watch.Watch{Accounts: []watch.Account{b.account()}, Connections: 1, Every: time.Hour, Wants: all}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	w.Run(ctx, marks, func(r watch.Report) {
		if len(r.Items) != 1 || r.Items[0].Message.ID != "one@x" {
			t.Errorf("%+v", r)
		}
		stop()
	})
	if err := watch.Remove(context.Background(), b.account(), []watch.Item{{Place: marks[0].Place, UID: 1}}); err == nil {
		t.Error("messages are removed from a server that cannot remove single ones")
	}
}

// More accounts than connections are looked into in turn, and one that cannot be
// opened does not keep the others.
func TestTurns(t *testing.T) {
	b := serve(t)
	w := &watch.Watch{Connections: 2, Every: 50 * time.Millisecond, Wants: all}
	for i := range 7 {
		a := b.account()
		a.Name = fmt.Sprintf("%d@kelp.example", i)
		if i == 3 {
			a.Login.Secret = secret.New("wrong")
		}
		w.Accounts = append(w.Accounts, a)
	}
	if _, problems := w.Mark(context.Background()); len(problems) != 1 || problems["3@kelp.example"] == nil {
		t.Errorf("%v", problems)
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	looks, failed := map[string]int{}, 0
	w.Run(ctx, nil, func(r watch.Report) {
		looks[r.Account]++
		if r.Err != nil {
			failed++
		}
		if len(looks) == 7 && looks["0@kelp.example"] > 1 {
			stop()
		}
	})
	if len(looks) != 7 || failed == 0 {
		t.Errorf("%v, %d failed", looks, failed)
	}
}
