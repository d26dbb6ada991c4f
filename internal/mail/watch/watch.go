// Package watch looks into mailboxes over IMAP (RFC 9051, RFC 3501) for what has
// come since a mark. It changes nothing there unless it is told to remove what it
// found.
package watch

import (
	"context"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/endpoint"
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
