// Package connections reads a connections file: how to send, for which senders, and how to look into
// mailboxes.
package connections

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/localfile"
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

// The form of the file.
type file struct {
	Version   int        `yaml:"yorvet-connections"`
	Send      []fileWay  `yaml:"send"`
	Look      []fileLook `yaml:"look"`
	Strangers []string   `yaml:"strangers"`
	Requests  []string   `yaml:"requests-from"`
	Limits    fileLimits `yaml:"limits"`
}

type fileWay struct {
	Name   string     `yaml:"name"`
	Server string     `yaml:"server"`
	TLS    string     `yaml:"tls"`
	CA     string     `yaml:"authority"`
	Bind   string     `yaml:"bind"`
	Hello  string     `yaml:"hello"`
	From   []string   `yaml:"from"`
	Claims bool       `yaml:"claims"`
	Login  *fileLogin `yaml:"login"`
}

type fileLook struct {
	Name   string     `yaml:"name"`
	JMAP   string     `yaml:"jmap"`
	Server string     `yaml:"server"`
	TLS    string     `yaml:"tls"`
	CA     string     `yaml:"authority"`
	For    []string   `yaml:"for"`
	Login  *fileLogin `yaml:"login"`
}

type fileLogin struct {
	User     string       `yaml:"user"`
	As       string       `yaml:"as"`
	How      string       `yaml:"mechanism"`
	Password *secret.From `yaml:"password"`
	Token    *secret.From `yaml:"token"`
	OAuth    *fileOAuth   `yaml:"oauth"`
}

type fileLimits struct {
	Pace        float64       `yaml:"pace"`
	People      int           `yaml:"people"`
	Connections int           `yaml:"connections"`
	Patience    time.Duration `yaml:"patience"`
	LookEvery   time.Duration `yaml:"look-every"`
	Settle      time.Duration `yaml:"settle"`
	Quiet       time.Duration `yaml:"quiet"`
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

// mostCertificates is the size in bytes of a file of certificates that is read.
const mostCertificates = 1 << 20

// reader turns the form of the file into connections.
type reader struct {
	path string
	ctx  context.Context
	data []byte
	errs []error

	locked []locked
	asked  []*oauth
}

// fail notes what is wrong in the item of a list with an index.
func (r *reader) fail(list string, index int, format string, args ...any) {
	r.errs = append(r.errs, fmt.Errorf("%s: "+format, append([]any{r.place(list, index)}, args...)...))
}

// place returns where the item of a list stands, as file:line:column.
func (r *reader) place(list string, index int) string {
	line, column := yamlfile.Find(r.data, list, index)
	return fmt.Sprintf("%s:%d:%d", r.path, line, column)
}

func (r *reader) connection(i int, f fileWay) Connection {
	w := Connection{Name: f.Name, From: f.From, Claims: f.Claims, without: f.Login == nil}
	if w.Name == "" {
		r.fail("send", i, "this way to send has no name")
	}
	w.reach = send.Route{Endpoint: r.endpoint("send", i, f.Server, f.TLS, f.CA), Hello: f.Hello}
	if f.Bind != "" {
		if w.reach.Endpoint.From = net.ParseIP(f.Bind); w.reach.Endpoint.From == nil {
			r.fail("send", i, "bind is %q, expected an IP address", f.Bind)
		}
	}
	r.owners("send", i, f.From)
	w.login = r.login("send", i, f.Login)
	if f.Login != nil && w.reach.TLS == endpoint.Plain && !endpoint.IsLoopback(f.Server) {
		r.fail(
			"send",
			i,
			"a login over a connection without TLS would show the password; only this machine itself may be reached so",
		)
	}
	return w
}

func (r *reader) mailboxes(i int, f fileLook) Mailboxes {
	m := Mailboxes{Name: f.Name, For: f.For, jmap: f.JMAP}
	server := f.Server
	if f.JMAP != "" {
		server = r.jmap(i, f)
	}
	if m.Name == "" {
		m.Name = server
	}
	m.reach = r.endpoint("look", i, server, f.TLS, f.CA)
	r.owners("look", i, f.For)
	if f.Login == nil {
		r.fail("look", i, "there is no login")
	}
	m.login = r.login("look", i, f.Login)
	if m.reach.TLS == endpoint.Plain && !endpoint.IsLoopback(server) {
		r.fail(
			"look",
			i,
			"a login over a connection without TLS would show the password; only this machine itself may be reached so",
		)
	}
	return m
}

func (r *reader) endpoint(list string, i int, server, tls, ca string) endpoint.Endpoint {
	e := endpoint.Endpoint{Server: server}
	if _, _, err := net.SplitHostPort(server); err != nil {
		r.fail(list, i, "server is %q, expected HOST:PORT", server)
	}
	if tls != "" {
		mode := slices.Index(endpoint.Words(), tls)
		if mode < 0 {
			r.fail(
				list,
				i,
				"tls is %q, expected one of %s%s",
				tls,
				strings.Join(endpoint.Words(), ", "),
				nearest.Hint(tls, endpoint.Words()),
			)
		}
		e.TLS = endpoint.TLS(max(mode, 0))
	}
	if ca != "" {
		pem, err := localfile.Read(r.ctx, r.beside(ca), mostCertificates)
		if err != nil {
			r.fail(list, i, "authority: %v", err)
			return e
		}
		e.Roots = x509.NewCertPool()
		if !e.Roots.AppendCertsFromPEM(pem) {
			r.fail(list, i, "authority: %s holds no certificate in PEM", ca)
		}
	}
	return e
}

// beside returns a path that is meant from the folder of the file.
func (r *reader) beside(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(r.path), path)
}

func (r *reader) owners(list string, i int, texts []string) {
	if len(texts) == 0 {
		r.fail(list, i, "there is nobody that this is for, expected addresses, @domains, inside or anyone")
	}
	for _, text := range texts {
		if text == "inside" || text == "anyone" {
			continue
		}
		if domain, ok := strings.CutPrefix(text, "@"); ok {
			if _, err := address.ParseDomain(domain); err != nil {
				r.fail(list, i, "%v", err)
			}
		} else if _, err := address.Parse(text); err != nil {
			r.fail(list, i, "%v", err)
		}
	}
}

func (r *reader) login(list string, i int, f *fileLogin) login {
	if f == nil {
		return login{}
	}
	l := login{user: f.User, as: f.As, mechanism: strings.ToUpper(f.How), bearer: f.Token != nil || f.OAuth != nil,
		secret: new(secret.Text)}
	if l.user == "" {
		l.user = "{address}"
	}
	if known := endpoint.Mechanisms(); f.How != "" && !slices.Contains(known, l.mechanism) {
		r.fail(list, i, "mechanism is %q, expected one of %s%s", f.How, strings.Join(known, ", "),
			nearest.Hint(l.mechanism, known))
	}
	source := f.Password
	if f.Token != nil {
		source = f.Token
	}
	count := 0
	for _, said := range []bool{f.Password != nil, f.Token != nil, f.OAuth != nil} {
		if said {
			count++
		}
	}
	switch {
	case count > 1, count == 0 && l.mechanism != "EXTERNAL":
		r.fail(list, i, "a login has either a password, a token or oauth")
	case f.OAuth != nil:
		l.oauth = r.oauth(list, i, f.OAuth)
		r.asked = append(r.asked, l.oauth)
	case source != nil:
		if err := source.Check(); err != nil {
			r.fail(list, i, "%v", err)
		}
		r.locked = append(r.locked, locked{source, l.secret, r.place(list, i)})
	}
	return l
}

// jmap returns the server of the URL of a session resource.
func (r *reader) jmap(i int, f fileLook) string {
	u, err := url.Parse(f.JMAP)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		r.fail("look", i, "jmap is %q, expected a URL such as https://mail.example/.well-known/jmap", f.JMAP)
		return ":0"
	}
	if f.Server != "" {
		r.fail("look", i, "mailboxes are opened over JMAP or at a server, not both")
	}
	if u.Scheme == "http" && !endpoint.IsLoopback(u.Host) {
		r.fail("look", i, "a login over a connection without TLS would show the password; only this machine itself may be "+
			"reached so")
	}
	if u.Port() == "" {
		return net.JoinHostPort(u.Hostname(), map[string]string{"https": "443", "http": "80"}[u.Scheme])
	}
	return u.Host
}

// names sees to it that each connection has a name of its own: what waits to be done
// goes by it.
func (r *reader) names(l *Connections) {
	seen := map[string]bool{}
	for i := range l.Outgoing {
		if name := l.Outgoing[i].Name; name != "" && seen[name] {
			r.fail("send", i, "two ways to send are called %q", name)
		}
		seen[l.Outgoing[i].Name] = true
	}
	seen = map[string]bool{}
	for i := range l.Mailboxes {
		name := l.Mailboxes[i].Name
		for n := 2; seen[l.Mailboxes[i].Name]; n++ {
			l.Mailboxes[i].Name = fmt.Sprint(name, " ", n)
		}
		seen[l.Mailboxes[i].Name] = true
	}
}

func (r *reader) limits(l *Limits, f fileLimits) {
	if f.Pace < 0 || f.People < 0 || f.Connections < 0 || f.Patience < 0 || f.LookEvery < 0 || f.Settle < 0 ||
		f.Quiet < 0 {
		r.fail("limits", 0, "a limit is less than nothing")
	}
	set := func(into *time.Duration, d time.Duration) {
		if d > 0 {
			*into = d
		}
	}
	set(&l.Patience, f.Patience)
	set(&l.LookEvery, f.LookEvery)
	set(&l.Settle, f.Settle)
	if l.Quiet = l.Patience; f.Quiet > 0 {
		l.Quiet = f.Quiet
	}
	if f.Pace > 0 {
		l.Pace = f.Pace
	}
	if f.People > 0 {
		l.People = f.People
	}
	if f.Connections > 0 {
		l.Connections = f.Connections
	}
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
