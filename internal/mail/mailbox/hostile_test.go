package mailbox

import (
	"bufio"
	"encoding/base64"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/rude"
	"yorvet.example/yorvet/internal/secret"
)

// rudeIMAP is a server that answers as it should up to a command, and then as behave
// says.
func rudeIMAP(t *testing.T, upTo string, behave func(w *bufio.Writer, tag string)) Account {
	t.Helper()
	server := rude.Server(t, func(c *net.TCPConn) { serveRude(c, upTo, behave) })
	return Account{Name: "ada@kelp.example", Endpoint: endpoint.Endpoint{Server: server, TLS: endpoint.Plain, Wait: time.Second},
		Login: endpoint.Login{User: "ada", Secret: secret.New("tide")}}
}

func serveRude(conn net.Conn, upTo string, behave func(w *bufio.Writer, tag string)) {
	w, in := bufio.NewWriter(conn), bufio.NewScanner(conn)
	if upTo == "greeting" {
		behave(w, "*")
		return
	}
	fmt.Fprint(w, "* OK [CAPABILITY IMAP4rev1 SASL-IR AUTH=PLAIN UIDPLUS] hello\r\n")
	w.Flush()
	for in.Scan() {
		tag, command, _ := strings.Cut(in.Text(), " ")
		if strings.HasPrefix(strings.ToUpper(command), upTo) {
			behave(w, tag)
			return
		}
		switch word, _, _ := strings.Cut(strings.ToUpper(command), " "); word {
		case "LIST":
			fmt.Fprint(w, "* LIST () \"/\" INBOX\r\n")
		case "SELECT", "EXAMINE":
			fmt.Fprint(w, "* 3 EXISTS\r\n* OK [UIDVALIDITY 1] x\r\n* OK [UIDNEXT 9] x\r\n")
		case "UID":
			if strings.Contains(strings.ToUpper(command), "SEARCH") {
				fmt.Fprint(w, "* SEARCH 1 2 3\r\n")
			} else {
				fmt.Fprint(w, "* 1 FETCH (UID 1 RFC822.SIZE 30 BODY[HEADER]<0> {24}\r\nFrom: ada@kelp.example\r\n\r\n)\r\n")
			}
		}
		fmt.Fprintf(w, "%s OK done\r\n", tag)
		w.Flush()
	}
}

// However much a server says, or how little: a look ends in time, without taking
// memory, and says why.
func TestRudeServers(t *testing.T) {
	pour := func(text string) func(*bufio.Writer, string) {
		return func(w *bufio.Writer, _ string) {
			for range 1 << 20 {
				if _, err := w.WriteString(text); err != nil {
					return
				}
			}
		}
	}
	long := strings.Repeat("x", 1000)
	silent := func(*bufio.Writer, string) { <-t.Context().Done() }
	drip := func(w *bufio.Writer, _ string) {
		for tick := time.Tick(20 * time.Millisecond); ; <-tick {
			if _, err := w.WriteString("* OK x\r\n"); err != nil || w.Flush() != nil {
				return
			}
		}
	}
	for about, test := range map[string]struct {
		upTo   string
		behave func(*bufio.Writer, string)
	}{
		"a silent greeting":         {"greeting", silent},
		"a greeting without an end": {"greeting", pour(long)},
		"greetings that drip":       {"greeting", drip},
		"a silent login":            {"AUTHENTICATE", silent},
		"answers to a login":        {"AUTHENTICATE", pour("* OK " + long + "\r\n")},
		"capabilities":              {"AUTHENTICATE", pour("* CAPABILITY " + strings.Repeat("X ", 500) + "\r\n")},
		"folders":                   {"LIST", pour("* LIST () \"/\" " + long + "\r\n")},
		"a silent list":             {"LIST", silent},
		"flags":                     {"EXAMINE", pour("* FLAGS (" + long + ")\r\n")},
		"answers that drip":         {"EXAMINE", drip},
		"messages found":            {"UID SEARCH", pour("* SEARCH " + strings.Repeat("1234567890 ", 100) + "\r\n")},
		"all numbers found": {"UID SEARCH", func(w *bufio.Writer, tag string) {
			fmt.Fprintf(w, "* ESEARCH (TAG \"%s\") UID ALL 1:4294967295\r\n%[1]s OK x\r\n", tag)
			w.Flush()
		}},
		"a header without an end": {"UID FETCH", pour(long)},
		"a large literal": {"UID FETCH", func(w *bufio.Writer, tag string) {
			fmt.Fprint(w, "* 1 FETCH (UID 1 BODY[HEADER]<0> {2000000000}\r\n")
			pour(long)(w, tag)
		}},
		"a literal that is claimed": {"UID FETCH", func(w *bufio.Writer, _ string) {
			fmt.Fprint(w, "* 1 FETCH (UID 1 BODY[HEADER]<0> {9000000000000}\r\n")
			w.Flush()
			<-t.Context().Done()
		}},
		"messages not asked for": {"UID FETCH", pour("* 7 FETCH (UID 7 BODY[HEADER]<0> {8}\r\nA: b\r\n\r\n)\r\n")},
	} {
		t.Run(about, func(t *testing.T) {
			a := rudeIMAP(t, test.upTo, test.behave)
			var r Report
			q := Query{Marks: []Mark{{Place: Place{Folder: "INBOX"}, Validity: 1, Next: 1}}, Wants: func(*read.Message) bool { return true }}
			most := rude.Memory(func() { r = Look(t.Context(), a, q) })
			if r.Err == nil {
				t.Error("it ends without an error")
			}
			if r.Err != nil && (strings.Contains(r.Err.Error(), "imapwire") || strings.Contains(r.Err.Error(), "tide") || !strings.HasPrefix(r.Err.Error(), "ada@kelp.example: ")) {
				t.Errorf("it says %v", r.Err)
			}
			if most > 150<<20 {
				t.Errorf("it took %d MiB", most>>20)
			}
		})
	}
}

// A server that repeats a login has no secret shown.
func TestEchoedSecret(t *testing.T) {
	account := rudeIMAP(t, "AUTHENTICATE", func(w *bufio.Writer, tag string) {
		text := "\x00ada\x00tide-42-secret"
		fmt.Fprintf(w, "%s NO tide-42-secret is wrong, so is %s\r\n", tag, base64.StdEncoding.EncodeToString([]byte(text)))
		w.Flush()
	})
	account.Login.Secret = secret.New("tide-42-secret")
	_, err := Open(t.Context(), account)
	if err == nil || strings.Contains(err.Error(), "tide-42") || strings.Contains(err.Error(), "ZWNyZX") || !strings.Contains(err.Error(), "(secret)") {
		t.Errorf("%v", err)
	}
}

// A session resource sends the login to no other host.
func TestSessionElsewhere(t *testing.T) {
	b := &jmapBox{account: Account{JMAP: "https://mail.kelp.example/.well-known/jmap"}}
	for text, want := range map[string]string{
		"/jmap/":                  "https://mail.kelp.example/jmap/",
		"//attacker.example/jmap": "https://mail.kelp.example//attacker.example/jmap",
		"https://mail.kelp.example/download/{blob}":   "https://mail.kelp.example/download/{blob}",
		"https://attacker.example/jmap/":              "",
		"https://mail.kelp.example.attacker.example/": "",
		"https://mail.kelp.example@attacker.example/": "",
		"https://ann@mail.kelp.example/":              "",
		"https://mail.kelp.example:8443/":             "",
		"http://mail.kelp.example/jmap/":              "",
		"file:///etc/passwd":                          "",
		"":                                            "",
	} {
		if got, err := b.resolve(text); got != want || (err == nil) != (want != "") {
			t.Errorf("%q is %q, %v; want %q", text, got, err, want)
		}
	}
}
