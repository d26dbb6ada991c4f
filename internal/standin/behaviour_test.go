package standin_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"net/textproto"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/standin"
)

const quay = `yorvet: 1
domains: [kelp.example]
code-sender: codes@post.example
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example}
  - {address: cy@kelp.example, mailbox: closed}
groups:
  - address: proof@kelp.example
    kind: forum
    gate: [admit codes@post.example, refuse automatic, admit anyone]
    owners: [ada@kelp.example]
    members: [ada@kelp.example]
    send-as: [as ada@kelp.example]
    send-as-proof: mailed-code
  - {address: one@kelp.example, gate: [admit anyone], members: [ada@kelp.example, two@kelp.example]}
  - {address: two@kelp.example, gate: [admit anyone], members: [bo@kelp.example, one@kelp.example]}
  - {address: strict@kelp.example, gate: [refuse invitation because "No meetings here.", refuse larger(20kB), drop suspect, admit anyone], members: [ada@kelp.example]}
  - {address: silent@kelp.example, gate: [hold anyone], moderators: [bo@kelp.example], notify-sender: inside, members: [ada@kelp.example]}
  - {address: frail@kelp.example, gate: [admit anyone], members: [ada@kelp.example, cy@kelp.example], pause-after: 2}
  - {address: tray@kelp.example, kind: mailbox, gate: [admit anyone], members: [ada@kelp.example, bo@kelp.example]}
`

func TestOwnershipCode(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	sendAs := func() send.Reply {
		_, reply := r.send("ada@kelp.example", "proof@kelp.example", "bo@kelp.example", nil)
		return reply
	}
	if reply := sendAs(); reply.Code != 553 || !strings.Contains(reply.Text, "code has been mailed") {
		t.Fatal(reply)
	}
	var code string
	for _, item := range r.box("ada@kelp.example") {
		for _, word := range strings.Fields(item.Message.Text) {
			if strings.HasPrefix(word, "code-") {
				code = word
			}
		}
	}
	if code == "" {
		t.Fatal("no code has come")
	}
	if _, reply := r.send("bo@kelp.example", "bo@kelp.example", code, nil); reply.Accepted() {
		t.Error("somebody else may send the code")
	}
	if _, reply := r.send("ada@kelp.example", "ada@kelp.example", code, nil); !reply.Accepted() {
		t.Fatal(reply)
	}
	if reply := sendAs(); !reply.Accepted() {
		t.Fatal(reply)
	}
	got := r.box("bo@kelp.example")
	if len(got) != 1 || got[0].Message.From[0].String() != "proof@kelp.example" || len(got[0].Message.Sender) != 0 {
		t.Errorf("bo has %+v", got)
	}
}

// Groups nested in a ring get a message once, and one that has been through a
// group does not come in again.
func TestRings(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	if _, reply := r.send("", "guest@far.example", "one@kelp.example", nil); !reply.Accepted() {
		t.Fatal(reply)
	}
	if a, b := r.box("ada@kelp.example"), r.box("bo@kelp.example"); len(a) != 1 || len(b) != 1 {
		t.Errorf("ada has %d, bo %d messages", len(a), len(b))
	}
	again := func(d *compose.Message) {
		d.Extra = []compose.Field{{Name: "Delivered-To", Value: "one@kelp.example"}}
	}
	if _, reply := r.send("", "guest@far.example", "one@kelp.example", again); reply.Status != "5.4.6" {
		t.Error(reply)
	}
}

func TestWhatMessagesAreLike(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	to := address.MustParse("strict@kelp.example")
	guest := address.MustParse("guest@far.example")
	if _, reply := r.send("", guest.String(), to.String(), func(d *compose.Message) {
		d.Parts = []compose.Part{compose.Invitation("u", guest, to, "Meeting", clock.Now())}
	}); reply.Text != "No meetings here." {
		t.Error(reply)
	}
	if _, reply := r.send("", guest.String(), to.String(), func(d *compose.Message) { d.Text = strings.Repeat("long\n", 6000) }); reply.Code != 550 {
		t.Error(reply)
	}
	if _, reply := r.send("", guest.String(), to.String(), func(d *compose.Message) {
		d.Extra = []compose.Field{{Name: "X-Spam-Flag", Value: "YES"}}
	}); !reply.Accepted() {
		t.Error(reply)
	}
	if got := r.box("ada@kelp.example"); len(got) != 0 {
		t.Errorf("ada has %d messages", len(got))
	}
	// What a program writes is taken, and not answered.
	if _, reply := r.send("", guest.String(), "silent@kelp.example", func(d *compose.Message) { d.Auto = "auto-generated" }); !reply.Accepted() {
		t.Error(reply)
	}
	if _, reply := r.send("", guest.String(), "silent@kelp.example", nil); !reply.Accepted() {
		t.Error(reply)
	}
	if got := r.box("guest@far.example"); len(got) != 0 {
		t.Errorf("the guest is told %d times, and notify-sender is inside", len(got))
	}
	if _, reply := r.send("ada@kelp.example", "ada@kelp.example", "silent@kelp.example", nil); !reply.Accepted() {
		t.Error(reply)
	}
	if got := r.box("ada@kelp.example"); len(got) != 1 || got[0].Message.Auto != "auto-replied" {
		t.Errorf("ada is told %d times that her message is held", len(got))
	}
	// Of several requests, each is answered by itself; a refused one is told.
	requests := r.box("bo@kelp.example")
	if len(requests) != 3 {
		t.Fatalf("bo is asked %d times", len(requests))
	}
	refused := requests[2].Message.From[0].String()
	if _, reply := r.send("bo@kelp.example", "bo@kelp.example", refused, func(d *compose.Message) { d.Text = "perhaps" }); reply.Accepted() {
		t.Error("an answer that is neither is taken")
	}
	if _, reply := r.send("bo@kelp.example", "bo@kelp.example", refused, func(d *compose.Message) { d.Text = "refuse\n" }); !reply.Accepted() {
		t.Error(reply)
	}
	if _, reply := r.send("bo@kelp.example", "bo@kelp.example", refused, func(d *compose.Message) { d.Text = "admit\n" }); reply.Accepted() {
		t.Error("a message that has been refused is let in")
	}
	if got := r.box("ada@kelp.example"); len(got) != 2 || !strings.Contains(got[1].Message.Subject, "is refused") {
		t.Errorf("ada has %d messages", len(got))
	}
}

// A shared mailbox keeps a message once, and hands on nothing.
// steps is what the log of TestLog tells, in the order of the alphabet.
const steps = `archived to=tray@kelp.example group=tray@kelp.example
bounced to=cy@kelp.example group=frail@kelp.example status=5.2.1
bounced to=cy@kelp.example group=frail@kelp.example status=5.2.1
copied to=ada@kelp.example group=frail@kelp.example
copied to=ada@kelp.example group=frail@kelp.example
copied to=ada@kelp.example group=frail@kelp.example
copied to=cy@kelp.example group=frail@kelp.example
copied to=cy@kelp.example group=frail@kelp.example
delivered to=ada@kelp.example group=
delivered to=ada@kelp.example group=frail@kelp.example
delivered to=ada@kelp.example group=frail@kelp.example
delivered to=ada@kelp.example group=frail@kelp.example
delivered to=bo@kelp.example group=
delivered to=bo@kelp.example group=
delivered to=bo@kelp.example group=
delivered to=bo@kelp.example group=
delivered to=tray@kelp.example group=tray@kelp.example
expanded group=frail@kelp.example
expanded group=frail@kelp.example
expanded group=frail@kelp.example
expanded group=tray@kelp.example
held group=silent@kelp.example
judged group=frail@kelp.example verdict=admit rule=1
judged group=frail@kelp.example verdict=admit rule=1
judged group=frail@kelp.example verdict=admit rule=1
judged group=silent@kelp.example verdict=hold rule=1
judged group=strict@kelp.example verdict=refuse rule=2
judged group=tray@kelp.example verdict=admit rule=1
notice to=bo@kelp.example group=
notice to=bo@kelp.example group=
notice to=bo@kelp.example group=
notice to=bo@kelp.example group=
paused to=cy@kelp.example group=frail@kelp.example
refused to=strict@kelp.example
taken to=ada@kelp.example`

func TestMailbox(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	r.send("", "guest@far.example", "tray@kelp.example", nil)
	if kept, copies := r.box("tray@kelp.example"), r.box("ada@kelp.example"); len(kept) != 1 || len(copies) != 0 {
		t.Errorf("%d are kept, ada has %d", len(kept), len(copies))
	}
	m := r.box("tray@kelp.example")[0].Message
	if !m.OneClick || !strings.Contains(m.ListUnsubscribe, "https://") || m.ListPost != "<mailto:tray@kelp.example>" {
		t.Errorf("%+v", m)
	}
}

// A membership is paused after so many bounces, and nobody is told any more.
func TestPausedAfterBounces(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	for range 4 {
		r.send("bo@kelp.example", "bo@kelp.example", "frail@kelp.example", nil)
		r.box("bo@kelp.example")
	}
	bounces := r.box("bo@kelp.example")
	if len(bounces) != 2 || bounces[0].Message.Bounce.Recipients[0].Final != "cy@kelp.example" || bounces[0].Message.Bounce.Recipients[0].Status != "5.2.1" {
		t.Errorf("bo has %d bounces", len(bounces))
	}
	if got := r.box("ada@kelp.example"); len(got) != 4 {
		t.Errorf("ada has %d messages", len(got))
	}
}

// The log tells of each step of each message: to whom, and for which group.
func TestLog(t *testing.T) {
	r, log := faulty(t, standin.Faults{})
	r.send("", "guest@far.example", "ada@kelp.example", nil)
	for range 3 {
		r.send("bo@kelp.example", "bo@kelp.example", "frail@kelp.example", nil)
		r.box("bo@kelp.example")
	}
	r.send("", "guest@far.example", "strict@kelp.example", func(m *compose.Message) { m.Text = strings.Repeat("long\n", 5000) })
	r.send("bo@kelp.example", "bo@kelp.example", "silent@kelp.example", nil)
	r.send("", "guest@far.example", "tray@kelp.example", nil)
	r.box("tray@kelp.example")
	var got []string
	for line := range strings.Lines(log.String()) {
		var l map[string]any
		if err := json.Unmarshal([]byte(line), &l); err != nil {
			t.Fatal(err)
		}
		text, _ := l["step"].(string)
		for _, key := range []string{"to", "group", "verdict", "rule", "status"} {
			if value, ok := l[key]; ok {
				text += fmt.Sprintf(" %s=%v", key, value)
			}
		}
		got = append(got, text)
	}
	slices.Sort(got)
	text := strings.Join(got, "\n")
	if text != steps {
		t.Errorf("the log tells\n%s", text)
	}
}

func TestReload(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	r.service.Reload(sample.Load(t, strings.Replace(quay, "members: [ada@kelp.example, two@kelp.example]", "members: [ada@kelp.example, bo@kelp.example, two@kelp.example]", 1)).Estate())
	got := r.box("bo@kelp.example")
	if len(got) != 1 || got[0].Message.Subject != "You are now a member of one@kelp.example" || len(r.box("ada@kelp.example")) != 0 {
		t.Errorf("bo has %d messages", len(got))
	}
}

// Of several recipients, some refused, the sender hears by mail.
func TestPartly(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	conn, err := net.Dial("tcp", r.service.Ready().Outside)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(clock.Machine().Add(5 * time.Second))
	answers, last := textproto.NewReader(bufio.NewReader(conn)), ""
	for _, text := range []string{"", "EHLO far.example\r\n", "MAIL FROM:<guest@far.example>\r\n", "RCPT TO:<tray@kelp.example>\r\n", "RCPT TO:<strict@kelp.example>\r\n", "DATA\r\n",
		"From: guest@far.example\r\nSubject: Both\r\nMessage-ID: <both@far.example>\r\nContent-Type: text/calendar; method=REQUEST\r\n\r\nBEGIN:VCALENDAR\r\n.\r\n"} {
		if _, err := conn.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		code, answer, err := answers.ReadResponse(0)
		if err != nil {
			t.Fatal(err)
		}
		last = fmt.Sprint(code, " ", answer)
	}
	if !strings.HasPrefix(last, "250 2.0.0") {
		t.Fatalf("the message is answered with %q", last)
	}
	told := r.box("guest@far.example")
	if len(told) != 1 || told[0].Message.Bounce == nil || told[0].Message.Bounce.Recipients[0].Final != "strict@kelp.example" || told[0].Message.Bounce.Recipients[0].Diagnostic != "550 no meetings here." {
		t.Errorf("the guest has %+v", told)
	}
	if len(r.box("tray@kelp.example")) != 1 {
		t.Error("the other recipient has nothing")
	}
}

// fault starts a service with something that goes wrong.
func faulty(t *testing.T, c standin.Faults) (*rig, *strings.Builder) {
	t.Helper()
	var log strings.Builder
	r := start(t, sample.Load(t, quay).Estate(), func(o *standin.Options) {
		o.Faults = &c
		o.Log = &log
	})
	return r, &log
}

func TestFaults(t *testing.T) {
	ada, tray := "ada@kelp.example", "tray@kelp.example"
	r, _ := faulty(t, standin.Faults{Forward: map[string]string{ada: "ada@home.example"}})
	r.send("", "guest@far.example", "one@kelp.example", nil)
	if home, here := r.box("ada@home.example"), r.box(ada); len(home) != 1 || len(here) != 0 {
		t.Errorf("forwarded: %d at home, %d here", len(home), len(here))
	}
	r, _ = faulty(t, standin.Faults{Starts: map[string]time.Duration{tray: time.Hour}})
	if _, reply := r.send("", "guest@far.example", tray, nil); reply.Status != "5.1.1" {
		t.Errorf("a group that does not work yet says %s", reply)
	}
	r, _ = faulty(t, standin.Faults{List: []standin.Fault{{Do: "later", By: time.Nanosecond}}})
	if _, reply := r.send("", "guest@far.example", tray, nil); reply.String() != "451 4.7.1 come again a little later" {
		t.Errorf("the first attempt: %s", reply)
	}
	if _, reply := r.send("", "guest@far.example", tray, nil); !reply.Accepted() {
		t.Errorf("the second attempt: %s", reply)
	}
	r, _ = faulty(t, standin.Faults{List: []standin.Fault{{Do: "refuse", To: tray, Times: 1}}})
	if _, reply := r.send("", "guest@far.example", tray, nil); reply.String() != "550 5.7.1 not today" {
		t.Error(reply)
	}
	if _, reply := r.send("", "guest@far.example", tray, nil); !reply.Accepted() {
		t.Error(reply)
	}
	r, _ = faulty(t, standin.Faults{List: []standin.Fault{{Do: "rewrite", Field: "Subject", Value: "Changed", To: ada}, {Do: "junk", To: ada}}})
	r.send("", "guest@far.example", "one@kelp.example", nil)
	if got := r.box(ada); len(got) != 1 || got[0].Role != mailbox.Junk || got[0].Message.Subject != "Changed" {
		t.Errorf("ada has %+v", got)
	}
	r, _ = faulty(t, standin.Faults{List: []standin.Fault{{Do: "cut", Bytes: 40}}})
	if _, reply := r.send("", "guest@far.example", tray, nil); reply.Code != 0 || reply.Accepted() {
		t.Errorf("over a connection that is cut: %s", reply)
	}
	r, _ = faulty(t, standin.Faults{List: []standin.Fault{{Do: "slow", By: time.Millisecond}}})
	if _, reply := r.send("", "guest@far.example", tray, nil); !reply.Accepted() {
		t.Errorf("slowly: %s", reply)
	}
	r, _ = faulty(t, standin.Faults{List: []standin.Fault{{Do: "certificate"}}})
	if _, reply := r.send(ada, ada, tray, nil); reply.Accepted() || !strings.Contains(reply.Text, "certificate") {
		t.Errorf("with somebody else's certificate: %s", reply)
	}
	r, log := faulty(t, standin.Faults{List: []standin.Fault{{Do: "imap-gone"}, {Do: "lose", To: ada}}})
	r.send("", "guest@far.example", "one@kelp.example", nil)
	r.service.Settle(time.Minute)
	if _, err := marks(t, mailbox.Account{Name: ada, Endpoint: endpoint.Endpoint{Server: r.service.Ready().IMAPS, TLS: endpoint.Implicit, Roots: r.roots}, Login: endpoint.Login{User: ada, Secret: secret.New("tide")}}); err == nil {
		t.Error("the mailboxes can be opened")
	}
	for line := range strings.Lines(log.String()) {
		var l map[string]any
		if err := json.Unmarshal([]byte(line), &l); err != nil || l["step"] == "" || l["time"] == "" {
			t.Errorf("%q is no line of the log", line)
		}
	}
	if !strings.Contains(log.String(), `"do":"lose"`) {
		t.Errorf("the log does not tell of what was lost:\n%s", log.String())
	}
}

func TestReadFaults(t *testing.T) {
	path := filepath.Join(t.TempDir(), "faults.yaml")
	for text, want := range map[string]string{
		"yorvet-faults: 1\nfaults:\n  - {do: lose, share: 5}\n  - {do: delay, by: 2s, from: 1s, for: 10s}\nforward: {a@b.example: c@d.example}\nstarts: {g@b.example: 30s}\n": "",
		"faults: []\n": "yorvet-faults",
		"yorvet-faults: 1\nfaults: [{do: loose}]\n":             "fault 1",
		"yorvet-faults: 1\nfaults: [{do: lose, share: 500}]\n":  "percent",
		"yorvet-faults: 1\nfaults: [{do: delay}]\n":             "needs by",
		"yorvet-faults: 1\nfaults: [{do: cut}]\n":               "needs bytes",
		"yorvet-faults: 1\nfaults: [{do: rewrite}]\n":           "needs a field",
		"yorvet-faults: 1\nfault: []\n":                         "faults",
		"yorvet-faults: 1\nfaults: [{do: slow, by: quickly}]\n": "faults.yaml",
	} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		c, err := standin.ReadFaults(t.Context(), path)
		if want == "" && (err != nil || len(c.List) != 2 || c.List[1].For != 10*time.Second) || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %v, %v", text, c, err)
		}
	}
}

// A login is for its own mailbox; wrong passwords, and TLS that does not fit, end
// in nothing.
func TestLogins(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	for _, c := range []struct {
		login endpoint.Login
		ok    bool
	}{
		{endpoint.Login{User: "ada@kelp.example", Secret: secret.New("tide")}, true},
		{endpoint.Login{User: "ada@kelp.example", Secret: secret.New("tide"), Bearer: true}, true},
		{endpoint.Login{User: standin.Master, As: "ada@kelp.example", Secret: secret.New("tide")}, true},
		{endpoint.Login{User: "ada@kelp.example", Secret: secret.New("ebb")}, false},
		{endpoint.Login{User: "ada@kelp.example", Secret: secret.New("ebb"), Bearer: true}, false},
		{endpoint.Login{User: "ada@kelp.example", As: "bo@kelp.example", Secret: secret.New("tide")}, false},
		{endpoint.Login{User: "nobody@kelp.example", Secret: secret.New("tide")}, false},
	} {
		for server, mode := range map[string]endpoint.TLS{r.service.Ready().IMAPS: endpoint.Implicit, r.service.Ready().IMAP: endpoint.StartTLS} {
			got, err := marks(t, mailbox.Account{Name: "x", Endpoint: endpoint.Endpoint{Server: server, TLS: mode, Roots: r.roots}, Login: c.login})
			if ok := err == nil && len(got) == 3; ok != c.ok {
				t.Errorf("%+v: %v, %v", c.login, got, err)
			}
		}
	}
	if _, err := marks(t, mailbox.Account{Name: "x", Endpoint: endpoint.Endpoint{Server: r.service.Ready().IMAPS, TLS: endpoint.Implicit}, Login: endpoint.Login{User: "ada@kelp.example", Secret: secret.New("tide")}}); err == nil {
		t.Error("a certificate of an unknown authority is taken")
	}
	if text := secret.New("tide").String(); strings.Contains(text, "tide") {
		t.Error("a secret shows")
	}
}

// marks are those of an account's folders.
func marks(t *testing.T, a mailbox.Account) ([]mailbox.Mark, error) {
	t.Helper()
	box, err := mailbox.Open(t.Context(), a)
	if err != nil {
		return nil, err
	}
	defer box.Close()
	return box.Marks()
}

// A mailbox with messages that are meant to harm is looked into all the same, and
// nothing of it is taken for a message of somebody else's.
func TestHostileMailbox(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	for _, change := range []func(*compose.Message){
		func(d *compose.Message) { d.Extra = []compose.Field{{Name: read.Tag, Value: "run.guessed"}} },
		func(d *compose.Message) { d.Text = strings.Repeat("A very long message.\n", 400_000) },
		func(d *compose.Message) {
			d.Parts = []compose.Part{{Type: "multipart/mixed", Data: []byte("not at all")}}
		},
		func(d *compose.Message) { d.Text, d.Subject = "\x1b[2J\x07 control", "=?x-none?q?=00?=" },
	} {
		if _, reply := r.send("", "guest@far.example", "tray@kelp.example", change); !reply.Accepted() {
			t.Fatal(reply)
		}
	}
	id, _ := r.send("", "guest@far.example", "tray@kelp.example", nil)
	got := r.box("tray@kelp.example")
	if len(got) != 5 || !slices.ContainsFunc(got, func(item mailbox.Item) bool { return item.Message.ID == id }) {
		t.Fatalf("%d messages are seen", len(got))
	}
	largest := slices.MaxFunc(got, func(a, b mailbox.Item) int { return int(a.Size - b.Size) })
	if largest.Size < 8_000_000 || len(largest.Raw) > 2<<20 {
		t.Errorf("of a message of %d bytes, %d are fetched", largest.Size, len(largest.Raw))
	}
}
