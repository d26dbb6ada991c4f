// Package mailbox looks into mailboxes, over IMAP (RFC 9051, RFC 3501) or JMAP (RFC 8620,
// RFC 8621), for what has come since a mark. It changes nothing there unless it is told to
// remove what it found.
package mailbox

import (
	"context"
	"errors"
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
	Other   Role = "other" // looked into only when everything is gone through
)

// An Account is a mailbox to look into.
type Account struct {
	Name     string // the address that it belongs to
	Endpoint endpoint.Endpoint
	Login    endpoint.Login
	JMAP     string // the URL of the session resource (RFC 8620, section 2); "": it is IMAP
}

// A Place is a folder of an account.
type Place struct {
	Account string `json:"account"`
	Folder  string `json:"folder"`
	Role    Role   `json:"role"`
}

// A Mark is a point in a folder: what has come since then has a UID of Next or more. Where
// the server tells no UID that comes next, Next is 0.
type Mark struct {
	Place
	Validity uint32 `json:"validity"` // UIDVALIDITY
	Next     uint32 `json:"next"`     // UID
}

// An Item is a message in a folder. Over JMAP, what stands for its UID is made of its id.
type Item struct {
	Place
	Validity, UID uint32
	Size          int64
	Raw           []byte // as much as was fetched
	Message       *read.Message
}

// A Query says what is looked for.
type Query struct {
	// Marks are where to go on from. A folder without one, or whose UIDs have changed, is
	// searched for what came since Since.
	Marks []Mark
	Since time.Time
	// Through has all folders gone through, whatever Marks say: those for incoming mail
	// message by message, from First on where that still holds, others by a search for the
	// header field read.Tag with Tag in it.
	Through bool
	First   []Mark // from before anything was sent
	Tag     string
	// Wants reports whether a message is fetched whole, by its header. Others are left alone.
	Wants func(*read.Message) bool
}

// A Report is what one look into an account brought: what has come, and the marks to go on
// from. What was found before an error is in it, too.
type Report struct {
	Account string
	Items   []Item
	Marks   []Mark
	Err     error // why not all of it was looked at; nil where it was
}

// A Box is an open mailbox. It is for one goroutine at a time.
type Box interface {
	// Marks returns the marks of all folders that mail comes to, as they are now.
	Marks() ([]Mark, error)
	Look(Query) Report
	// Wait waits for news, or for a while. It reports false where the connection or ctx
	// has ended.
	Wait(ctx context.Context, d time.Duration) bool
	// Fetch fetches messages again that were found before, those that are still there.
	Fetch(items []Item) ([]Item, error)
	// Remove removes messages, those named and no others, and returns how many were there. Where the
	// server removes no single messages, it fails with ErrSingly unless expunge is set: then they are
	// marked, and all that is marked is removed, if nothing else is.
	Remove(items []Item, expunge bool) (int, error)
	Close()
}

// Open opens a mailbox. The connection ends with ctx.
func Open(ctx context.Context, a Account) (Box, error) {
	if a.JMAP != "" {
		return openJMAP(ctx, a)
	}
	return openIMAP(ctx, a)
}

// Look opens a mailbox, looks, and closes it.
func Look(ctx context.Context, a Account, q Query) Report {
	b, err := Open(ctx, a)
	if err != nil {
		return Report{Account: a.Name, Marks: q.Marks, Err: err}
	}
	defer b.Close()
	return b.Look(q)
}

// Remove opens a mailbox and removes messages from it, as Box.Remove does.
func Remove(ctx context.Context, a Account, items []Item, expunge bool) (int, error) {
	b, err := Open(ctx, a)
	if err != nil {
		return 0, err
	}
	defer b.Close()
	return b.Remove(items, expunge)
}

// ErrSingly says that a server cannot remove single messages: it lacks UIDPLUS (RFC 4315).
var ErrSingly error = &boundError{text: "the server cannot remove single messages (UIDPLUS)"}

// Error is why a mailbox cannot be looked into, in plain words.
type Error struct {
	Text string
	// Certain is set where another try gives the same result: a login that is refused, or a
	// certificate that is not trusted.
	Certain bool
	cause   error
}

func (e *Error) Error() string { return e.Text }
func (e *Error) Unwrap() error { return e.cause }

// IsCertain reports whether another try gives the same result.
func IsCertain(err error) bool {
	e, ok := errors.AsType[*Error](err)
	return ok && e.Certain
}
