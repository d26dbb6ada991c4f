package connections

import (
	"context"
	"crypto/x509"
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
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/yamlfile"
)

// The form of the file.
type file struct {
	Version   int              `yaml:"yorvet-connections"`
	Send      []fileConnection `yaml:"send"`
	Look      []fileLook       `yaml:"look"`
	Strangers []string         `yaml:"strangers"`
	Requests  []string         `yaml:"requests-from"`
	Limits    fileLimits       `yaml:"limits"`
}

type fileConnection struct {
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

func (r *reader) connection(i int, f fileConnection) Connection {
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
