package standin_test

import (
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/standin"
)

const lock = `yorvet: 1
domains: [kelp.example]
people: [{address: ada@kelp.example}, {address: bo@kelp.example}, {address: mo@far.example}]
groups:
  - {address: held@kelp.example, gate: [hold anyone], moderators: [ada@kelp.example, mo@far.example], members: [bo@kelp.example]}
  - {address: tagged@kelp.example, gate: [admit anyone], subject-tag: "[pier]", members: [bo@kelp.example]}
`

// request returns where the request to release a message is to be answered.
func (r *rig) request() string {
	r.t.Helper()
	for _, item := range r.box("ada@kelp.example") {
		if from := item.Message.From[0].String(); strings.HasPrefix(from, "held-") {
			return from
		}
	}
	r.t.Fatal("nobody is asked")
	return ""
}

// Who approves has to have logged in: an address outside that is one of an approver
// proves nothing.
func TestApproversLogIn(t *testing.T) {
	r := start(t, sample.Load(t, lock).Estate(), nil)
	if _, reply := r.send("bo@kelp.example", "bo@kelp.example", "held@kelp.example", nil); !reply.Accepted() {
		t.Fatal(reply)
	}
	token := r.request()
	admit := func(d *compose.Message) { d.Text = "ADMIT\n" }
	if _, reply := r.send("", "mo@far.example", token, admit); reply.String() != "550 5.7.1 only those who were asked may answer" {
		t.Errorf("without a login: %s", reply)
	}
	if _, reply := r.send("ada@kelp.example", "ada@kelp.example", token, func(d *compose.Message) { d.Text = "Perhaps\n" }); reply.String() != "550 5.6.0 answer ADMIT or REFUSE in the first line" {
		t.Errorf("an answer that is none: %s", reply)
	}
	if _, reply := r.send("mo@far.example", "mo@far.example", token, admit); !reply.Accepted() {
		t.Errorf("with a login: %s", reply)
	}
	if got := r.box("bo@kelp.example"); len(got) == 0 {
		t.Error("bo has nothing")
	}
}

// Who claims to be somebody is told nothing, and neither is whom they claim to be.
func TestForgeriesAreNotAnswered(t *testing.T) {
	for _, c := range []struct {
		login string
		told  int // waits, is refused
	}{{"", 0}, {"bo@kelp.example", 2}} {
		r := start(t, sample.Load(t, lock).Estate(), nil)
		if _, reply := r.send(c.login, "bo@kelp.example", "held@kelp.example", nil); !reply.Accepted() {
			t.Fatal(reply)
		}
		refuse := func(d *compose.Message) { d.Text = "REFUSE\n" }
		if _, reply := r.send("ada@kelp.example", "ada@kelp.example", r.request(), refuse); !reply.Accepted() {
			t.Fatal(reply)
		}
		if got := r.box("bo@kelp.example"); len(got) != c.told {
			t.Errorf("login %q: bo is told %d times, want %d", c.login, len(got), c.told)
		}
	}
}

// Mail that is forwarded in a ring stays somewhere in the end.
func TestForwardingEnds(t *testing.T) {
	r, log := faulty(t, standin.Faults{Forward: map[string]string{"ada@kelp.example": "bo@kelp.example", "bo@kelp.example": "ada@kelp.example"}})
	if _, reply := r.send("", "guest@far.example", "ada@kelp.example", nil); !reply.Accepted() {
		t.Fatal(reply)
	}
	if ada, bo := r.box("ada@kelp.example"), r.box("bo@kelp.example"); len(ada) != 1 || len(bo) != 0 {
		t.Errorf("ada has %d, bo %d", len(ada), len(bo))
	}
	if n := strings.Count(log.String(), `"forwarded"`); n != 10 {
		t.Errorf("it is forwarded %d times, want 10", n)
	}
}

// A subject has the tag of the group once.
func TestSubjectTag(t *testing.T) {
	for subject, want := range map[string]string{"Hello": "[pier] Hello", "Re: [pier] Hello": "Re: [pier] Hello", "": "[pier]"} {
		r := start(t, sample.Load(t, lock).Estate(), nil)
		r.send("", "guest@far.example", "tagged@kelp.example", func(d *compose.Message) { d.Subject = subject })
		if got := r.box("bo@kelp.example"); len(got) != 1 || got[0].Message.Subject != want {
			t.Errorf("%q comes as %+v, want %q", subject, got, want)
		}
	}
}

// Each reason for not taking a message has its reply (RFC 3463).
func TestReasons(t *testing.T) {
	r := start(t, sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: full@kelp.example, mailbox: full}, {address: shut@kelp.example, mailbox: closed}, {address: none@kelp.example, mailbox: none}, {address: ada@kelp.example}]
groups:
  - {address: curt@kelp.example, gate: [refuse anyone], notify-sender: anyone}
  - {address: polite@kelp.example, gate: [refuse anyone because "Not here."]}
  - {address: silent@kelp.example, gate: [refuse anyone because "Not here."], notify-sender: nobody}
  - {address: inner@kelp.example, gate: [refuse anyone because "Not here."], notify-sender: inside}
  - {address: dropped@kelp.example, gate: [drop anyone]}
`).Estate(), nil)
	for _, c := range []struct {
		login, from, to string
		code            int
		status, text    string
	}{
		{"", "x@far.example", "full@kelp.example", 552, "5.2.2", "the mailbox is full"},
		{"", "x@far.example", "shut@kelp.example", 550, "5.2.1", "the mailbox is closed"},
		{"", "x@far.example", "none@kelp.example", 550, "5.1.1", "no such address here"},
		{"", "x@far.example", "nobody@kelp.example", 550, "5.1.1", "no such address here"},
		{"", "x@far.example", "y@away.example", 550, "5.7.1", "relaying denied"},
		{"", "x@far.example", "curt@kelp.example", 550, "5.7.1", "the group does not take this message"},
		{"", "x@far.example", "polite@kelp.example", 550, "5.7.1", "Not here."},
		{"", "x@far.example", "silent@kelp.example", 550, "5.7.1", "the group does not take this message"},
		{"", "x@far.example", "inner@kelp.example", 550, "5.7.1", "the group does not take this message"},
		{"ada@kelp.example", "ada@kelp.example", "inner@kelp.example", 550, "5.7.1", "Not here."},
		{"", "x@far.example", "dropped@kelp.example", 250, "", "2.0.0 OK: queued"},
		{"ada@kelp.example", "full@kelp.example", "curt@kelp.example", 553, "5.7.1", "this is not your address, nor a group's that you may write for"},
		{"ada@kelp.example", "curt@kelp.example", "ada@kelp.example", 553, "5.7.1", "you may not send as curt@kelp.example"},
	} {
		_, reply := r.send(c.login, c.from, c.to, nil)
		if reply.Code != c.code || reply.Status != c.status || c.text != "" && reply.Text != c.text {
			t.Errorf("from %s to %s: %s, want %d %s %s", c.from, c.to, reply, c.code, c.status, c.text)
		}
	}
}
