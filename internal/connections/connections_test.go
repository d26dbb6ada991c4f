package connections

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/endpoint"
)

// load loads a connections file with a text, beside a secret, and fetches the secrets.
func load(t *testing.T, text string) (*Connections, error) {
	t.Helper()
	dir := t.TempDir()
	for name, content := range map[string]string{"connections.yaml": text, "secret": "hush-42\nmore\n", "empty": "\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "open"), []byte("hush-42\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	l, err := Load(t.Context(), filepath.Join(dir, "connections.yaml"))
	if err == nil {
		err = l.Unlock(t.Context(), true, func(string) {})
	}
	return l, err
}

// Loading alone fetches no secret, and a file that was merely found runs nothing.
func TestNothingRunsUnasked(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "connections.yaml")
	ran := filepath.Join(dir, "ran")
	text := strings.Replace(good, "command: [cat, secret]", "command: [touch, ran]", 1)
	for name, content := range map[string]string{path: text, filepath.Join(dir, "secret"): "hush-42\n"} {
		if err := os.WriteFile(name, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	l, err := Load(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Unlock(t.Context(), false, func(string) {}); err == nil || !strings.Contains(err.Error(), path+":") || !strings.Contains(err.Error(), "--connections") {
		t.Errorf("err = %v, want the place, and what to say", err)
	}
	if _, err := os.Stat(ran); err == nil {
		t.Fatal("a command ran")
	}
	// Where others may write the file, a command never runs.
	if err := os.Chmod(path, 0o666); err != nil {
		t.Fatal(err)
	}
	if err := l.Unlock(t.Context(), true, func(string) {}); err == nil || !strings.Contains(err.Error(), "others may write") {
		t.Errorf("err = %v, want that others may write the file", err)
	}
	if _, err := os.Stat(ran); err == nil {
		t.Fatal("a command ran")
	}
	if err := os.Chmod(path, 0o600); err != nil {
		t.Fatal(err)
	}
	_ = l.Unlock(t.Context(), true, func(string) {})
	if _, err := os.Stat(ran); err != nil {
		t.Error("the command does not run where it may")
	}
}

const good = `yorvet-connections: 1
send:
  - name: inside
    server: mail.kelp.example:587
    from: [inside]
    login: {password: {file: secret}}
  - name: chief
    server: 127.0.0.1:25
    tls: none
    bind: 127.0.0.1
    hello: probe.example
    from: [chief@far.example, "@holiday.example"]
  - {name: forged, server: "127.0.0.1:25", tls: none, from: [anyone], claims: true}
look:
  - server: imap.kelp.example:993
    tls: implicit
    for: ["@kelp.example"]
    login: {user: keeper, as: "{address}", password: {environment: CONNECTIONS_TEST}}
  - server: 127.0.0.1:143
    tls: none
    for: [anyone]
    login: {user: "{local}*probe", token: {command: [cat, secret]}}
strangers: [guest@holiday.example]
limits: {pace: 0.5, people: 7, connections: 3, patience: 90s, look-every: 250ms, settle: 1s}
`

func TestLoad(t *testing.T) {
	t.Setenv("CONNECTIONS_TEST", "quiet-7")
	l, err := load(t, good)
	if err != nil {
		t.Fatal(err)
	}
	if l.Limits.Pace != 0.5 || l.Limits.People != 7 || l.Limits.Connections != 3 || l.Limits.Patience != 90*time.Second || l.Limits.Quiet != 90*time.Second || l.Limits.LookEvery != 250*time.Millisecond || len(l.Strangers) != 1 {
		t.Errorf("%+v", l.Limits)
	}
	ada, guest, chief := address.MustParse("ada@kelp.example"), address.MustParse("guest@holiday.example"), address.MustParse("chief@far.example")
	for _, c := range []struct {
		a              address.Address
		inside, claims bool
		want           string
	}{
		{ada, true, false, "inside"}, {guest, false, false, "chief"}, {chief, false, false, "chief"}, {ada, true, true, "forged"}, {address.MustParse("x@other.example"), false, false, ""},
	} {
		w, ok := l.Sender(c.a, c.inside, c.claims)
		if ok != (c.want != "") || ok && w.Name != c.want {
			t.Errorf("%s goes by %v, want %q", c.a, w, c.want)
		}
	}
	w, _ := l.Sender(ada, true, false)
	route := w.As(ada)
	if route.Login == nil || route.Login.User != "ada@kelp.example" || route.TLS != endpoint.StartTLS || route.Login.Bearer {
		t.Errorf("%+v", route)
	}
	w, _ = l.Sender(guest, false, false)
	if route := w.As(guest); route.Login != nil || route.Hello != "probe.example" || route.From == nil {
		t.Errorf("%+v", route)
	}
	inside, _ := l.Account(ada, true)
	other, _ := l.Account(guest, false)
	if inside.Login.User != "keeper" || inside.Login.As != "ada@kelp.example" || inside.Endpoint.TLS != endpoint.Implicit || other.Login.User != "guest*probe" || !other.Login.Bearer {
		t.Errorf("%+v, %+v", inside, other)
	}
	if text := fmt.Sprintf("%v %+v %#v", l, l, inside); strings.Contains(text, "hush-42") || strings.Contains(text, "quiet-7") {
		t.Error("a secret shows in what is printed")
	}
}

// What is wrong is told with its place, and without the secret.
func TestBadConnections(t *testing.T) {
	t.Setenv("CONNECTIONS_TEST", "quiet-7")
	for _, c := range []struct{ old, new, want string }{
		{"yorvet-connections: 1", "connections: 1", "connections.yaml:1:1"},
		{"yorvet-connections: 1", "yorvet-lanes: 1", `connections.yaml:1:1: "yorvet-lanes" is "yorvet-connections" now`},
		{"yorvet-connections: 1\n", "", ":1:1: the format version is missing"},
		{"    hello:", "    helo:", "connections.yaml:11"},
		{"server: mail.kelp.example:587", "server: mail.kelp.example", ":3:5: server is \"mail.kelp.example\""},
		{"tls: implicit", "tls: implict", "did you mean implicit?"},
		{"from: [inside]", "from: [insde]", ":3:5:"},
		{"from: [inside]", "from: []", "nobody that this is for"},
		{"password: {file: secret}", "password: {file: open}", "others may read open"},
		{"password: {file: secret}", "password: {file: empty}", "gives no secret"},
		{"password: {file: secret}", "password: {file: missing}", "missing"},
		{"password: {file: secret}", "password: {environment: CONNECTIONS_TEST_NOT}", "CONNECTIONS_TEST_NOT"},
		{"password: {file: secret}", "password: {}", "one of environment, file or command"},
		{"password: {file: secret}", "user: ada", "either a password, a token or oauth"},
		{"command: [cat, secret]", "command: [\"false\"]", "false: exit status 1"},
		{"server: 127.0.0.1:143", "server: imap.kelp.example:143", "only this machine itself"},
		{"bind: 127.0.0.1", "bind: here", "expected an IP address"},
		{"strangers: [guest@holiday.example]", "strangers: [guest]", ":"},
		{"pace: 0.5", "pace: -1", "less than nothing"},
		{"patience: 90s", "patience: soon", "connections.yaml"},
		{"    tls: implicit", "    tls: implicit\n    authority: missing.pem", "missing.pem"},
		{"    tls: implicit", "    tls: implicit\n    authority: secret", "no certificate"},
		{"  - name: inside\n", "  - \n", "no name"},
	} {
		if !strings.Contains(good, c.old) {
			t.Fatalf("%q is not in the file", c.old)
		}
		_, err := load(t, strings.Replace(good, c.old, c.new, 1))
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: %v, want %q", c.new, err, c.want)
		} else if strings.Contains(err.Error(), "hush-42") || strings.Contains(err.Error(), "quiet-7") {
			t.Errorf("a secret shows: %v", err)
		}
	}
}

func FuzzLoad(f *testing.F) {
	f.Add(good)
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "command") {
			t.Skip("programs are not run by chance")
		}
		l, err := load(t, text)
		if err == nil && (l == nil || len(l.Outgoing) == 0) {
			t.Error("there are no connections, and no error")
		}
	})
}

// Domains and addresses are the same however they are written: with umlauts or
// without, in any case, in quotes or not.
func TestCovers(t *testing.T) {
	for _, test := range []struct {
		list, address string
		want          bool
	}{
		{"@bücher.example", "ann@xn--bcher-kva.example", true}, {"@bücher.example", "ann@bücher.example", true}, {"@BÜCHER.example", "ann@Bücher.example", true},
		{"@kelp.example", "ann@KELP.example", true}, {"@kelp.example", "ann@sub.kelp.example", false}, {"ann@bücher.example", "Ann@xn--bcher-kva.example", true},
		{`"ann"@kelp.example`, "ann@kelp.example", true}, {"ann@kelp.example", "bob@kelp.example", false}, {"anyone", "x@out.example", true}, {"inside", "x@out.example", false},
	} {
		if got := covers([]string{test.list}, address.MustParse(test.address), false); got != test.want {
			t.Errorf("%s covers %s: %v, want %v", test.list, test.address, got, test.want)
		}
	}
}
