package standin_test

import (
	"context"
	"crypto/x509"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/standin"
)

const harbour = `yorvet: 1
domains: [kelp.example]
code-sender: codes@post.example
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example}
  - {address: cy@kelp.example}
  - {address: full@kelp.example, mailbox: full}
groups:
  - address: open@kelp.example
    title: Open house
    gate: [admit anyone]
    members: [ada@kelp.example, {address: bo@kelp.example, copy: digest}, cy@out.example, full@kelp.example]
    subject-tag: "[open]"
    replies-to: group
    send-as: [as ada@kelp.example, for bo@kelp.example]
  - address: held@kelp.example
    gate: [refuse unproven because "Sign in.", hold outside, admit inside]
    moderators: [ada@kelp.example]
    members: [bo@kelp.example]
  - address: outer@kelp.example
    gate: [admit inside]
    members: [ada@kelp.example, inner@kelp.example]
  - address: inner@kelp.example
    kind: forum
    gate: [hold bo@kelp.example, admit inside]
    moderators: [ada@kelp.example]
    members: [cy@kelp.example]
`

// rig is a running stand-in and the ways to it.
type rig struct {
	t       *testing.T
	service *standin.Service
	roots   *x509.CertPool
	n       int
}

func start(t *testing.T, e *estate.Estate, change func(*standin.Options)) *rig {
	t.Helper()
	certificate := filepath.Join(t.TempDir(), "authority.pem")
	options := standin.Options{Estate: e, Secret: "tide", CertificateFile: certificate}
	if change != nil {
		change(&options)
	}
	s, err := standin.Start(options)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	pem, err := os.ReadFile(certificate)
	if err != nil {
		t.Fatal(err)
	}
	r := &rig{t: t, service: s, roots: x509.NewCertPool()}
	r.roots.AppendCertsFromPEM(pem)
	return r
}

// send sends a message: over submission with a login, or as the world outside.
func (r *rig) send(login, from, to string, change func(*compose.Message)) (string, send.Reply) {
	r.t.Helper()
	r.n++
	d := compose.Message{From: address.MustParse(from), To: address.MustParse(to), Subject: "Hello", Text: "Hello.\n", ID: strings.Repeat("x", r.n) + "@test.example", Date: clock.Now()}
	if change != nil {
		change(&d)
	}
	raw, err := d.Bytes()
	if err != nil {
		r.t.Fatal(err)
	}
	way := send.Route{Endpoint: endpoint.Endpoint{Server: r.service.Ready().Outside, TLS: endpoint.Plain, Wait: 5 * time.Second}, Wait: 5 * time.Second}
	if login != "" {
		way.Server, way.TLS, way.Roots = r.service.Ready().Submission, endpoint.StartTLS, r.roots
		way.Login = &endpoint.Login{User: login, Secret: secret.New("tide")}
	}
	s := send.NewSession(way)
	defer s.Close()
	return d.ID, s.Send(context.Background(), send.Envelope{From: from, To: to}, raw)
}

// box returns what is in a mailbox.
func (r *rig) box(name string) []mailbox.Item {
	r.t.Helper()
	if !r.service.Settle(time.Minute) {
		r.t.Fatal("the stand-in does not settle")
	}
	a := mailbox.Account{Name: name, Endpoint: endpoint.Endpoint{Server: r.service.Ready().IMAPS, TLS: endpoint.Implicit, Roots: r.roots, Wait: 5 * time.Second},
		Login: endpoint.Login{User: standin.Master, As: name, Secret: secret.New("tide")}}
	report := mailbox.Look(r.t.Context(), a, mailbox.Query{Wants: func(*read.Message) bool { return true }})
	if report.Err != nil {
		r.t.Errorf("%s: %v", name, report.Err)
	}
	return report.Items
}

func TestOpenGroup(t *testing.T) {
	r := start(t, sample.Load(t, harbour).Estate(), nil)
	id, reply := r.send("", "guest@holiday.example", "open@kelp.example", nil)
	if !reply.Accepted() {
		t.Fatal(reply)
	}
	got := r.box("ada@kelp.example")
	if len(got) != 1 || got[0].Message.ID != id {
		t.Fatalf("ada has %d messages", len(got))
	}
	m := got[0].Message
	if m.Subject != "[open] Hello" || m.ReplyTo[0].String() != "open@kelp.example" || m.ListID != `"Open house" <open.kelp.example>` || len(m.Authentication) != 1 {
		t.Errorf("%+v", m)
	}
	for _, shown := range m.Shown {
		if strings.HasPrefix(shown, "bo@") || strings.HasPrefix(shown, "full@") {
			t.Errorf("ada sees %s", shown)
		}
	}
	if got := r.box("cy@out.example"); len(got) != 1 {
		t.Errorf("the member outside has %d messages", len(got))
	}
	if got := r.box("bo@kelp.example"); len(got) != 0 {
		t.Errorf("bo has %d messages before the digest", len(got))
	}
	r.service.FlushDigests()
	if got := r.box("bo@kelp.example"); len(got) != 1 || !got[0].Message.Digest || got[0].Message.Inner[0].ID != id {
		t.Errorf("bo's digest: %+v", got)
	}
	// The guest learns that somebody did not get it, but not who.
	bounce := r.box("guest@holiday.example")
	if len(bounce) != 1 || bounce[0].Message.Bounce == nil || bounce[0].Message.Bounce.Recipients[0].Final != "open@kelp.example" {
		t.Errorf("the guest has %+v", bounce)
	}
	_, _ = r.send("ada@kelp.example", "ada@kelp.example", "open@kelp.example", nil)
	if inside := r.box("ada@kelp.example"); len(inside) != 3 || inside[2].Message.Bounce == nil && inside[1].Message.Bounce == nil {
		t.Errorf("ada has %d messages, and should have her own and the bounce", len(inside))
	}
}

func TestRefusals(t *testing.T) {
	r := start(t, sample.Load(t, harbour).Estate(), nil)
	for _, c := range []struct{ login, from, to, want string }{
		{"", "ada@kelp.example", "held@kelp.example", "550 5.7.1 Sign in."},
		{"", "guest@holiday.example", "nobody@kelp.example", "550 5.1.1 no such address here"},
		{"", "guest@holiday.example", "full@kelp.example", "552 5.2.2 the mailbox is full"},
		{"", "guest@holiday.example", "a@elsewhere.example", "550 5.7.1 relaying denied"},
		{"ada@kelp.example", "bo@kelp.example", "open@kelp.example", "553 5.7.1 this is not your address, nor a group's that you may write for"},
		{"cy@kelp.example", "open@kelp.example", "bo@kelp.example", "553 5.7.1 you may not send as open@kelp.example"},
	} {
		if _, reply := r.send(c.login, c.from, c.to, nil); reply.String() != c.want {
			t.Errorf("%s to %s: %s, want %s", c.from, c.to, reply, c.want)
		}
	}
}

func TestHeld(t *testing.T) {
	r := start(t, sample.Load(t, harbour).Estate(), nil)
	id, reply := r.send("", "guest@holiday.example", "held@kelp.example", nil)
	if !reply.Accepted() {
		t.Fatal(reply)
	}
	if notice := r.box("guest@holiday.example"); len(notice) != 1 || notice[0].Message.Auto != "auto-replied" || notice[0].Message.Answers[0] != id {
		t.Errorf("the guest has %+v", notice)
	}
	asked := r.box("ada@kelp.example")
	if len(asked) != 1 || len(r.box("bo@kelp.example")) != 0 {
		t.Fatalf("ada has %d messages", len(asked))
	}
	token := asked[0].Message.From[0].String()
	answer := func(d *compose.Message) { d.Text = "Admit\n" }
	if _, reply := r.send("bo@kelp.example", "bo@kelp.example", token, answer); reply.Accepted() {
		t.Error("somebody else may release the message")
	}
	if _, reply := r.send("", "ada@kelp.example", token, answer); reply.Accepted() {
		t.Error("a forged approver may release the message")
	}
	if _, reply := r.send("ada@kelp.example", "ada@kelp.example", token, answer); !reply.Accepted() {
		t.Fatal(reply)
	}
	if got := r.box("bo@kelp.example"); len(got) != 1 || got[0].Message.ID != id {
		t.Errorf("bo has %d messages", len(got))
	}
}

// A message that waits at a nested group is in nobody's way elsewhere, and comes
// to those who wait for it when it is released.
func TestNestedWaits(t *testing.T) {
	r := start(t, sample.Load(t, harbour).Estate(), nil)
	if _, reply := r.send("bo@kelp.example", "bo@kelp.example", "outer@kelp.example", nil); !reply.Accepted() {
		t.Fatal(reply)
	}
	got := r.box("ada@kelp.example")
	if len(got) != 2 || len(r.box("cy@kelp.example")) != 0 || len(r.box("inner@kelp.example")) != 0 {
		t.Fatalf("ada has %d messages", len(got))
	}
	for _, item := range got {
		if from := item.Message.From[0].String(); strings.HasPrefix(from, "held-") {
			if _, reply := r.send("ada@kelp.example", "ada@kelp.example", from, func(d *compose.Message) { d.Text = "ADMIT" }); !reply.Accepted() {
				t.Fatal(reply)
			}
		}
	}
	if len(r.box("cy@kelp.example")) != 1 || len(r.box("inner@kelp.example")) != 1 || len(r.box("ada@kelp.example")) != 2 {
		t.Errorf("cy has %d, the archive %d, ada %d messages", len(r.box("cy@kelp.example")), len(r.box("inner@kelp.example")), len(r.box("ada@kelp.example")))
	}
}

func TestSendAs(t *testing.T) {
	r := start(t, sample.Load(t, harbour).Estate(), nil)
	for _, by := range []string{"ada@kelp.example", "bo@kelp.example"} {
		if _, reply := r.send(by, "open@kelp.example", "cy@kelp.example", nil); !reply.Accepted() {
			t.Fatal(reply)
		}
	}
	got := r.box("cy@kelp.example")
	if len(got) != 2 || len(got[0].Message.Sender)+len(got[1].Message.Sender) != 1 {
		t.Errorf("cy has %+v", got)
	}
}

// What is on disk is there again.
func TestDisk(t *testing.T) {
	dir := t.TempDir()
	onDisk := func(o *standin.Options) { o.Dir = dir }
	e := sample.Load(t, harbour).Estate()
	r := start(t, e, onDisk)
	r.send("", "guest@holiday.example", "open@kelp.example", nil)
	r.send("", "guest@holiday.example", "held@kelp.example", nil)
	before := len(r.box("ada@kelp.example"))
	items := r.box("cy@out.example")
	if _, err := mailbox.Remove(context.Background(), mailbox.Account{Name: "cy@out.example", Endpoint: endpoint.Endpoint{Server: r.service.Ready().IMAPS, TLS: endpoint.Implicit, Roots: r.roots},
		Login: endpoint.Login{User: "cy@out.example", Secret: secret.New("tide")}}, items, false); err != nil {
		t.Fatal(err)
	}
	r.service.Close()
	r = start(t, e, onDisk)
	if after := r.box("ada@kelp.example"); before != 2 || len(after) != before {
		t.Errorf("ada had %d messages, and has %d", before, len(after))
	}
	if left := r.box("cy@out.example"); len(left) != 0 {
		t.Errorf("%d removed messages are back", len(left))
	}
	r.service.FlushDigests()
	if got := r.box("bo@kelp.example"); len(got) != 1 {
		t.Errorf("bo has %d digests", len(got))
	}
}

// Whatever comes in at the ports, the service lives on and answers others.
func FuzzPorts(f *testing.F) {
	e := sample.Load(f, harbour).Estate()
	s, err := standin.Start(standin.Options{Estate: e, Secret: "tide"})
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(s.Close)
	f.Add([]byte("EHLO x\r\nMAIL FROM:<a@far.example>\r\nRCPT TO:<open@kelp.example>\r\nDATA\r\nFrom: a@far.example\r\n\r\nHello\r\n.\r\nQUIT\r\n"))
	f.Add([]byte("EHLO x\r\nMAIL FROM:<> SIZE=99999999999\r\nRCPT TO:<held-0@kelp.example> NOTIFY=SUCCESS ORCPT=x;y\r\nBDAT 5 LAST\r\nabcde"))
	f.Add([]byte("a LOGIN ada@kelp.example tide\r\nb SELECT INBOX\r\nc UID FETCH 1:* (BODY.PEEK[])\r\nd SEARCH HEADER x y\r\ne LIST \"\" *\r\nf IDLE\r\nDONE\r\n"))
	f.Add([]byte("a AUTHENTICATE PLAIN AGFkYQB0aWRl\r\nb APPEND INBOX {10}\r\n0123456789\r\nc MOVE 1 Junk\r\nd EXPUNGE\r\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, server := range []string{s.Ready().Outside, s.Ready().Submission, s.Ready().IMAP} {
			conn, err := net.Dial("tcp", server)
			if err != nil {
				t.Fatal(err)
			}
			_ = conn.SetDeadline(clock.Machine().Add(50 * time.Millisecond))
			_, _ = conn.Write(data)
			_, _ = io.Copy(io.Discard, io.LimitReader(conn, 1<<20))
			conn.Close()
		}
		conn, err := net.Dial("tcp", s.Ready().Outside)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		_ = conn.SetDeadline(clock.Machine().Add(5 * time.Second))
		greeting := make([]byte, 4)
		if _, err := io.ReadFull(conn, greeting); err != nil || string(greeting) != "220 " {
			t.Fatalf("the service greets %q: %v", greeting, err)
		}
	})
}

// Messages that are moved and copied on disk are where they were put, after a
// restart, too.
func TestMoveOnDisk(t *testing.T) {
	dir := t.TempDir()
	onDisk := func(o *standin.Options) { o.Dir = dir }
	e := sample.Load(t, harbour).Estate()
	r := start(t, e, onDisk)
	for range 3 {
		r.send("", "guest@holiday.example", "ada@kelp.example", nil)
	}
	if n := len(r.box("ada@kelp.example")); n != 3 {
		t.Fatalf("ada has %d messages", n)
	}
	client, err := imapclient.DialTLS(r.service.Ready().IMAPS, &imapclient.Options{TLSConfig: endpoint.Endpoint{Server: r.service.Ready().IMAPS, Roots: r.roots}.Config()})
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	if err := client.Login("ada@kelp.example", "tide").Wait(); err != nil {
		t.Fatal(err)
	}
	for _, c := range []imap.Cap{imap.CapIdle, imap.CapUIDPlus, imap.CapMove, imap.CapSpecialUse} {
		if !client.Caps().Has(c) {
			t.Errorf("the stand-in does not offer %s", c)
		}
	}
	if _, err := client.Select("INBOX", nil).Wait(); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Move(imap.UIDSetNum(1), "Archive").Wait(); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Copy(imap.UIDSetNum(2), "Junk").Wait(); err != nil {
		t.Fatal(err)
	}
	if err := client.Delete("INBOX").Wait(); err == nil {
		t.Error("the inbox is deleted")
	}
	if err := client.Create("Mine", nil).Wait(); err != nil {
		t.Error(err)
	}
	count := func() map[mailbox.Role]int {
		folders := map[mailbox.Role]int{}
		for _, item := range r.box("ada@kelp.example") {
			folders[item.Role]++
		}
		return folders
	}
	before := count()
	r.service.Close()
	r = start(t, e, onDisk)
	if after := count(); before[mailbox.Inbox] != 2 || before[mailbox.Archive] != 1 || before[mailbox.Junk] != 1 || len(after) != 3 || after[mailbox.Inbox] != 2 || after[mailbox.Archive] != 1 || after[mailbox.Junk] != 1 {
		t.Errorf("before %v, after %v", before, after)
	}
}
