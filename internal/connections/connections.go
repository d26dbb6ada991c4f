// Package connections reads a connections file: how to send, for which senders, and how to look into
// mailboxes.
package connections

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/yamlfile"
)

// Connections are the connections to send and to look.
type Connections struct {
	Outgoing  []Connection
	Mailboxes []Mailboxes
	Strangers []address.Address // outside addresses that probes may come from
	// Requests are addresses and @domains outside that requests to approvers may come from,
	// apart from those inside.
	Requests []string
	Limits   Limits

	path   string
	locked []locked
	asked  []*oauth // which may ask a person to log in
}

// locked is a secret that has not been fetched.
type locked struct {
	from  *secret.From
	into  *secret.Text
	place string // file:line:column of what it is for
}

// Limits keep a run from doing harm.
type Limits struct {
	Pace        float64       // messages a second
	People      int           // who may find a test message in their mailbox, at most
	Connections int           // to one server at once
	Patience    time.Duration // how long to look for what is expected
	LookEvery   time.Duration
	Settle      time.Duration // how long to look on when all that is expected has come
	Quiet       time.Duration // how long to look on when nothing comes any more; Patience at most
}

// A Connection sends messages.
type Connection struct {
	Name string
	// From are addresses and domains, as @domain, that may be sent from; "inside" stands
	// for all of the estate, "anyone" for all.
	From    []string
	Claims  bool // it may be used to claim addresses that are not one's own: for forged senders
	reach   send.Route
	without bool // nobody logs in
	login
	away bool // another machine has it
}

// Mailboxes say how to open mailboxes.
type Mailboxes struct {
	Name  string
	For   []string // as Outgoing.From
	reach endpoint.Endpoint
	jmap  string
	login
	away bool // another machine has it
}

// login says who logs in, with places for the address that it is for.
type login struct {
	user, as  string
	mechanism string
	bearer    bool
	secret    *secret.Text
	oauth     *oauth // gives the tokens; nil: nothing does
}

// defaults are the limits where the file says nothing.
var defaults = Limits{
	Pace:        2,
	People:      50,
	Connections: 8,
	Patience:    2 * time.Minute,
	LookEvery:   5 * time.Second,
	Settle:      3 * time.Second,
}

// None returns connections of a machine that has none: others of a store have some.
func None() *Connections {
	l := &Connections{Limits: defaults}
	(&reader{}).limits(&l.Limits, fileLimits{})
	return l
}

// Load reads a connections file. It fetches no secrets: that is for Unlock.
func Load(ctx context.Context, path string) (*Connections, error) {
	var f file
	data, err := yamlfile.Read(ctx, path, &f)
	if err != nil {
		return nil, err
	}
	if f.Version != 1 {
		return nil, fmt.Errorf("%s:1:1: the format version is missing, expected \"yorvet-connections: 1\"", path)
	}
	r := &reader{path: path, ctx: ctx, data: data}
	l := &Connections{Limits: defaults, path: path}
	for i, connection := range f.Send {
		l.Outgoing = append(l.Outgoing, r.connection(i, connection))
	}
	for i, look := range f.Look {
		l.Mailboxes = append(l.Mailboxes, r.mailboxes(i, look))
	}
	for _, text := range f.Strangers {
		a, err := address.Parse(text)
		if err != nil {
			r.fail("strangers", 0, "%v", err)
		}
		l.Strangers = append(l.Strangers, a)
	}
	if l.Requests = f.Requests; len(f.Requests) > 0 {
		r.owners("requests-from", 0, f.Requests)
	}
	r.names(l)
	r.limits(&l.Limits, f.Limits)
	l.waits()
	if len(l.Outgoing)+len(l.Mailboxes) == 0 {
		r.fail("send", 0, "there is neither a way to send nor a mailbox to look into")
	}
	l.locked, l.asked = r.locked, r.asked
	return l, errors.Join(r.errs...)
}

// The least and the most that any one answer of a server is waited for.
const (
	leastWait = 2 * time.Second
	mostWait  = time.Minute

	connectWait = 20 * time.Second // for a connection at most, and for each answer of a mailbox
)

// waits has nobody wait longer for an answer than half of all patience.
func (l *Connections) waits() {
	wait := min(max(l.Limits.Patience/2, leastWait), mostWait)
	for i := range l.Outgoing {
		l.Outgoing[i].reach.Wait = wait
		l.Outgoing[i].reach.Endpoint.Wait = min(wait, connectWait)
	}
	for i := range l.Mailboxes {
		l.Mailboxes[i].reach.Wait = min(wait, connectWait)
	}
}

// Unlock fetches the secrets, from environment variables, files that only their
// owner may read, or the output of commands. It is to be called before anything is
// sent or looked at. commands says that commands may be run: not where the file was
// found rather than named, as anyone who made the folder would choose them. tell gets what a
// person has to do who is to log in.
func (l *Connections) Unlock(ctx context.Context, commands bool, tell func(text string)) error {
	var errs []error
	for _, one := range l.locked {
		if one.from.Command != nil && !commands {
			errs = append(
				errs,
				fmt.Errorf(
					"%s: a command gives the secret, and is run only where the file is named: --connections %s",
					one.place,
					l.path,
				),
			)
			continue
		}
		text, err := one.from.Fetch(ctx, l.path)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", one.place, err))
		}
		*one.into = text
	}
	if len(errs) > 0 {
		return errors.Join(errs...)
	}
	for _, one := range l.asked {
		if err := one.ask(ctx, tell); err != nil {
			return err
		}
	}
	return nil
}

// covers reports whether a list of addresses, @domains, inside and anyone covers
// an address. inside tells whether it is in a domain of the estate.
func covers(list []string, a address.Address, inside bool) bool {
	return slices.ContainsFunc(list, func(text string) bool {
		switch domain, isDomain := strings.CutPrefix(text, "@"); {
		case text == "anyone":
			return true
		case text == "inside":
			return inside
		case isDomain:
			domain, err := address.ParseDomain(domain)
			return err == nil && domain == a.Domain()
		}
		known, err := address.Parse(text)
		return err == nil && known.Key() == a.Key()
	})
}

// Sender returns the connection by which somebody can send as themselves, or, with
// claims, by which their address can be claimed.
func (l *Connections) Sender(a address.Address, inside, claims bool) (*Connection, bool) {
	for i := range l.Outgoing {
		if w := &l.Outgoing[i]; w.Claims == claims && covers(w.From, a, inside) || claims && w.Claims {
			return w, true
		}
	}
	return nil, false
}

// For reports whether a connection is for a sender; inside says whether their domain is one of the estate's.
func (w *Connection) For(a address.Address, inside bool) bool {
	return w.Claims || covers(w.From, a, inside)
}

// Opens reports whether a connection opens somebody's mailbox, likewise.
func (m *Mailboxes) Opens(a address.Address, inside bool) bool { return covers(m.For, a, inside) }

// As returns the connection as it is for one sender.
func (w *Connection) As(a address.Address) send.Route {
	route := w.reach
	if !w.without {
		route.Login = w.login.of(a)
	}
	return route
}

// Mailbox returns how somebody's mailbox is opened.
func (l *Connections) Mailbox(a address.Address, inside bool) (*Mailboxes, bool) {
	for i := range l.Mailboxes {
		if m := &l.Mailboxes[i]; covers(m.For, a, inside) {
			return m, true
		}
	}
	return nil, false
}

// Account returns how to look into somebody's mailbox from this machine.
func (l *Connections) Account(a address.Address, inside bool) (mailbox.Account, bool) {
	m, ok := l.Mailbox(a, inside)
	if !ok || m.away {
		return mailbox.Account{}, false
	}
	return m.Account(a), true
}

// Account returns how to look into somebody's mailbox.
func (m *Mailboxes) Account(a address.Address) mailbox.Account {
	return mailbox.Account{Name: a.String(), Endpoint: m.reach, Login: *m.login.of(a), JMAP: m.jmap}
}

// of returns who logs in for an address.
func (l *login) of(a address.Address) *endpoint.Login {
	one := &endpoint.Login{User: fill(l.user, a), As: fill(l.as, a), Mechanism: l.mechanism, Bearer: l.bearer,
		Secret: *l.secret}
	if l.oauth != nil {
		one.Token = func(ctx context.Context) (secret.Text, error) { return l.oauth.token(ctx, a) }
	}
	return one
}

// fill puts an address into the places of a login that stand for it.
func fill(text string, a address.Address) string {
	local, _, _ := strings.Cut(a.String(), "@")
	return strings.NewReplacer("{address}", a.String(), "{local}", local).Replace(text)
}
