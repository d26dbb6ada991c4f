package agent

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/store"
)

var began = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// run7 is a run of two cases.
func run7() *wanted {
	draft := []byte(`{"from": "ada@k.example"}`)
	return wantedOf(store.Run{Name: "run7", Began: began}, []store.Case{{MessageID: "run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example", Tag: "run7.aaaaaaaaaaaaaaaaaaaaaaaa", Draft: draft},
		{MessageID: "run7.bbbbbbbbbbbbbbbbbbbbbbbb@k.example", Tag: "run7.bbbbbbbbbbbbbbbbbbbbbbbb", Draft: draft}})
}

func parse(t *testing.T, text string) *read.Message {
	t.Helper()
	m, err := read.Parse([]byte(strings.ReplaceAll(text, "\n", "\r\n")))
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	return m
}

// What is in a mailbox is told for what it is to a case.
func TestSight(t *testing.T) {
	const inner = "--b\nContent-Type: message/rfc822\n\nMessage-ID: <run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example>\nYorvet-Probe: run7.aaaaaaaaaaaaaaaaaaaaaaaa\n\ntext\n--b--\n"
	report := func(fields string) string {
		return "From: m@x.example\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\n\n--b\nContent-Type: message/delivery-status\n\n" +
			"Original-Envelope-Id: run7.aaaaaaaaaaaaaaaaaaaaaaaa\n\nFinal-Recipient: rfc822;g@k.example\n" + fields + "\n\n--b--\n"
	}
	for text, want := range map[string]string{
		"From: ada@k.example\nYorvet-Probe: run7.aaaaaaaaaaaaaaaaaaaaaaaa\n\n":                                                                           Copy,
		"From: ada@k.example\nMessage-ID: <run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example>\n\n":                                                                 Copy,
		"From: g@k.example\nContent-Type: multipart/digest; boundary=b\n\n--b\n\nMessage-ID: <run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example>\n\ntext\n--b--\n": Digest,
		"From: x@k.example\nSubject: For g@k.example\nContent-Type: multipart/mixed; boundary=b\n\n" + inner:                                             Approval,
		"From: ada@k.example\nContent-Type: multipart/mixed; boundary=b\n\n" + inner:                                                                     "",
		"From: g@k.example\nAuto-Submitted: auto-replied\nIn-Reply-To: <run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example>\n\nIt waits.\n":                         Notice,
		"From: mailer-daemon@k.example\nSubject: Undeliverable\n\nYour message run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example\n":                                Bounce,
		report("Action: failed"): Bounce, report("Action: delayed"): Bounce, report("Action: expanded"): Success, report("Action: delivered"): Success,
		"From: bo@k.example\nIn-Reply-To: <run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example>\n\nThanks.\n": Answer,
		"From: bo@k.example\nSubject: Re: [run7.aaaaaaaaaaaaaaaaaaaaaaaa]\n\nThanks.\n":           Answer,
		"From: ada@k.example\nYorvet-Probe: run7.cccccccccccccccccccccccc\n\n":                    "",
		"From: bo@k.example\nMessage-ID: <other@k.example>\n\nHello.\n":                           "",
		"From: x@k.example\nYorvet-Probe: run8.a\nMessage-ID: <run8.a@k>\n\n":                     "",
	} {
		m := parse(t, text)
		w := run7()
		found := w.sight(mailbox.Item{Place: mailbox.Place{Role: mailbox.Junk}, Message: m}, began)
		switch {
		case want == "" && len(found) > 0, want != "" && (len(found) != 1 || found[0].what != want || found[0].n != 0):
			t.Errorf("%q is %+v, want %q", text, found, want)
		case want != "" && (found[0].details.Role != mailbox.Junk || len(found[0].details.From) != 1):
			t.Errorf("%q: %+v is kept", text, found[0].details)
		case want == Approval && found[0].details.Answer != "x@k.example":
			t.Errorf("its answer goes to %q", found[0].details.Answer)
		}
		if want != "" && !w.wants(m) {
			t.Errorf("%q is not even looked at", text)
		}
	}
	if found := run7().sight(mailbox.Item{Message: parse(t, "From: ada@k.example\nYorvet-Probe: run7.bbbbbbbbbbbbbbbbbbbbbbbb\n\n")}, began); len(found) != 1 || found[0].n != 1 {
		t.Errorf("the second case is %+v", found)
	}
}

// By its header alone a message is looked at if it is the run's, answers one, or is something
// that systems write; other people's mail is not.
func TestWants(t *testing.T) {
	for header, want := range map[string]bool{
		"Yorvet-Probe: run7.x": true,
		"Yorvet-Probe: other.x\nContent-Type: multipart/digest; boundary=b": false,
		"In-Reply-To: <run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example>":            true,
		"Message-ID: <run7.bbbbbbbbbbbbbbbbbbbbbbbb@k.example>":             true,
		"Subject: Re: [run7.aaaaaaaaaaaaaaaaaaaaaaaa]":                      true,
		"Auto-Submitted: auto-replied":                                      true,
		"Content-Type: multipart/mixed; boundary=b":                         true,
		"Content-Type: message/rfc822":                                      true,
		"X-Failed-Recipients: bo@k.example":                                 true,
		"Content-Type: text/plain":                                          false,
		"Subject: Dinner":                                                   false,
	} {
		if got := run7().wants(parse(t, "From: bo@k.example\n"+header+"\n\n")); got != want {
			t.Errorf("%q: %t", header, got)
		}
	}
	if !run7().wants(parse(t, "From: MAILER-DAEMON@k.example\nSubject: Failure\n\n")) {
		t.Error("what a mail system writes is not looked at")
	}
}

// What is kept of a message has bounds.
func TestDetails(t *testing.T) {
	m := parse(t, "From: a@k.example\nTo: "+strings.Repeat("b@k.example, ", 500)+"c@k.example\nSubject: x\n\n"+strings.Repeat("ä", 5000)+"\n")
	d := detailsOf(m, mailbox.Inbox)
	if len(d.Text) > mostText || len(d.To) != mostShown || d.Subject != "x" {
		t.Errorf("%d bytes of text, %d addresses are kept", len(d.Text), len(d.To))
	}
}

// A request to an approver is believed where all of it fits.
func TestDoubt(t *testing.T) {
	request := func(from, auto, answer, tag string) *read.Message {
		return parse(t, "From: "+from+"\n"+auto+answer+"Content-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: message/rfc822\n\nMessage-ID: <run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example>\n"+
			tag+"\ntext\n--b--\n")
	}
	const auto, tag = "Auto-Submitted: auto-generated\n", "Yorvet-Probe: run7.aaaaaaaaaaaaaaaaaaaaaaaa\n"
	x := &visitor{a: &Agent{Connections: connectionsFor(t)}, run: store.Run{Terms: store.Terms{Domains: []string{"k.example"}}}, cases: run7()}
	for about, test := range map[string]struct {
		m    *read.Message
		want string
	}{
		"from inside":                           {request("g@k.example", auto, "", tag), ""},
		"from where it may come":                {request("q@lists.example", auto, "", tag), ""},
		"from outside":                          {request("q@far.example", auto, "", tag), "it is not from inside"},
		"by a person":                           {request("g@k.example", "", "", tag), "no program wrote it (Auto-Submitted)"},
		"by a person who says so":               {request("g@k.example", "Auto-Submitted: no\n", "", tag), "no program wrote it (Auto-Submitted)"},
		"with another message":                  {request("g@k.example", auto, "", ""), "the message in it is not the one that was sent"},
		"with an answer that goes outside":      {request("g@k.example", auto, "Reply-To: q@far.example\n", tag), "its answer would go outside"},
		"with an answer that goes where it may": {request("g@k.example", auto, "Reply-To: q@lists.example\n", tag), ""},
	} {
		if got := x.doubt(test.m, 0); got != test.want {
			t.Errorf("%s: %q, want %q", about, got, test.want)
		}
	}
}

// A run is over when all has come and a little time has passed, or patience is at its end.
func TestIsOver(t *testing.T) {
	at := func(seconds int) time.Time { return began.Add(time.Duration(seconds) * time.Second) }
	terms := store.Terms{Patience: time.Minute, Settle: 3 * time.Second, Quiet: 30 * time.Second}
	for _, test := range []struct {
		about string
		s     store.Progress
		now   int
		want  bool
	}{
		{"something is still to be sent", store.Progress{Until: at(120), Waiting: 1, Accepted: 1, LastNews: at(0), LastSent: at(0)}, 90, false},
		{"something is being sent", store.Progress{Until: at(120), Sending: 1, Accepted: 1, LastNews: at(0), LastSent: at(0)}, 90, false},
		{"its time is over", store.Progress{Waiting: 1}, 121, true},
		{"sending takes long", store.Progress{Waiting: 1, LastSent: at(100)}, 159, false},
		{"sending takes long, and comes to nothing", store.Progress{Waiting: 1, LastSent: at(100)}, 161, true},
		{"sending took long", store.Progress{Accepted: 1, Missing: 1, LastNews: at(158), LastSent: at(100)}, 159, false},
		{"sending took long, and something is missing", store.Progress{Accepted: 1, Missing: 1, LastNews: at(158), LastSent: at(100)}, 161, true},
		{"nothing is under way", store.Progress{}, 1, true},
		{"all has come, just now", store.Progress{Accepted: 1, LastNews: at(10), LastSent: at(0)}, 12, false},
		{"all has come, a while ago", store.Progress{Accepted: 1, LastNews: at(10), LastSent: at(0)}, 14, true},
		{"something is missing", store.Progress{Accepted: 1, Missing: 1, LastNews: at(10), LastSent: at(0)}, 39, false},
		{"something is missing, and nothing comes", store.Progress{Accepted: 1, Missing: 1, LastNews: at(10), LastSent: at(0)}, 41, true},
		{"something is missing, and patience is over", store.Progress{Accepted: 1, Missing: 1, LastNews: at(59), LastSent: at(0)}, 61, true},
		{"it is taken up again, and something is missing", store.Progress{Accepted: 1, Missing: 1, LastNews: at(10), LastSent: at(0), Until: at(1063)}, 1029, false},
		{"it is taken up again, and nothing comes", store.Progress{Accepted: 1, Missing: 1, LastNews: at(10), LastSent: at(0), Until: at(1063)}, 1031, true},
	} {
		if test.s.Terms = terms; test.s.Until.IsZero() {
			test.s.Until = at(63)
		}
		if got := isOver(test.s, at(test.now)); got != test.want {
			t.Errorf("%s: %t", test.about, got)
		}
	}
}

// The last look into all mailboxes goes on as long as one after the other is gone through.
func TestIsThrough(t *testing.T) {
	at := func(seconds int) time.Time { return time.Unix(1_800_000_000+int64(seconds), 0) }
	terms := store.Terms{Patience: time.Minute}
	for name, test := range map[string]struct {
		s    store.Progress
		now  int
		want bool
	}{
		"all of them":            {store.Progress{Closing: at(0)}, 1, true},
		"some are missing":       {store.Progress{Closing: at(0), Unlooked: 3}, 15, false},
		"none for a while":       {store.Progress{Closing: at(0), Unlooked: 3}, 21, true},
		"one a moment ago":       {store.Progress{Closing: at(0), Unlooked: 3, LastThrough: at(60)}, 75, false},
		"one a while ago":        {store.Progress{Closing: at(0), Unlooked: 3, LastThrough: at(60)}, 81, true},
		"one before the closing": {store.Progress{Closing: at(100), Unlooked: 3, LastThrough: at(60)}, 110, false},
	} {
		test.s.Terms = terms
		if got := isThrough(test.s, at(test.now)); got != test.want {
			t.Errorf("%s: %t", name, got)
		}
	}
}

func TestPauses(t *testing.T) {
	for tries, want := range map[int]time.Duration{1: time.Second, 2: 2 * time.Second, 5: 16 * time.Second, 6: 30 * time.Second, 99: 30 * time.Second} {
		if got := pauseAfter(tries); got != want {
			t.Errorf("after %d tries it waits %v, want %v", tries, got, want)
		}
	}
}

// A draft is written as it says.
func TestDraft(t *testing.T) {
	d := Draft{From: "g@k.example", By: "ada@k.example", Sender: true, To: "far@x.example", ReplyTo: "ada@k.example", Subject: "Re: x", Text: "Hello.\n",
		InReplyTo: "old@x.example", Automatic: true, Invitation: true, Attachment: 5000}
	raw, err := d.Message("id@k.example", "run7.aaaaaaaaaaaaaaaaaaaaaaaa", clock.Now())
	if err != nil {
		t.Fatal(err)
	}
	m, err := read.Parse(raw)
	if err != nil || m.From[0].String() != "g@k.example" || m.Sender[0].String() != "ada@k.example" || m.To[0].String() != "far@x.example" ||
		m.ReplyTo[0].String() != "ada@k.example" || m.Auto != "auto-generated" || !m.Invitation || m.Tag != "run7.aaaaaaaaaaaaaaaaaaaaaaaa" || m.ID != "id@k.example" ||
		m.Answers[0] != "old@x.example" || len(raw) < 6000 {
		t.Errorf("%v: %+v", err, m)
	}
	if by, err := d.Submitter(); err != nil || by.String() != "ada@k.example" {
		t.Errorf("%s submits it, %v", by, err)
	}
	d = Draft{From: "ada@k.example", To: "g@k.example", Subject: "x", Text: "Hello.\n"}
	if by, err := d.Submitter(); err != nil || by.String() != "ada@k.example" {
		t.Errorf("%s submits it, %v", by, err)
	}
	if raw, err = d.Message("id@k.example", "run7.aaaaaaaaaaaaaaaaaaaaaaaa", clock.Now()); err != nil {
		t.Fatal(err)
	}
	if m, err = read.Parse(raw); err != nil || len(m.Sender)+len(m.ReplyTo)+len(m.Answers) > 0 || m.Auto != "" || m.Invitation || m.Type != "text/plain" {
		t.Errorf("%v: %+v", err, m)
	}
	if _, err := (&Draft{From: "no address"}).Message("x", "x", clock.Now()); err == nil {
		t.Error("it is from nobody")
	}
}

// A code is for whoever asked for it, and in their own mailbox.
func TestCodes(t *testing.T) {
	w := wantedOf(store.Run{Name: "run7", Began: began}, []store.Case{{MessageID: "run7.aaaaaaaaaaaaaaaaaaaaaaaa@k.example", Tag: "run7.aaaaaaaaaaaaaaaaaaaaaaaa", Draft: []byte(`{"from": "g@k.example", "by": "ada@k.example", "code": "codes@post.example"}`)}})
	for about, test := range map[string]struct {
		text, account string
		want          int
	}{
		"it":                                     {"From: codes@post.example\nDate: Mon, 23 Nov 2026 08:00:03 +0000\nAuto-Submitted: auto-generated\n\nYour code\n", "ada@k.example", 1},
		"one from before":                        {"From: codes@post.example\nDate: Mon, 23 Nov 2026 07:00:03 +0000\nAuto-Submitted: auto-generated\n\nYour code\n", "ada@k.example", 0},
		"one that is old, whatever the run says": {"From: codes@post.example\nDate: Sat, 21 Nov 2026 08:00:03 +0000\nAuto-Submitted: auto-generated\n\nYour code\n", "ada@k.example", 0},
		"another's mailbox":                      {"From: codes@post.example\nAuto-Submitted: auto-generated\n\nYour code\n", "bo@k.example", 0},
		"from somebody else":                     {"From: x@post.example\nAuto-Submitted: auto-generated\n\nYour code\n", "ada@k.example", 0},
		"written by a person":                    {"From: codes@post.example\n\nYour code\n", "ada@k.example", 0},
	} {
		found := w.sight(mailbox.Item{Place: mailbox.Place{Account: test.account}, Message: parse(t, test.text)}, began.Add(time.Minute))
		if len(found) != test.want || len(found) == 1 && found[0].what != Code {
			t.Errorf("%s: %+v", about, found)
		}
	}
}

// A query that fails does not write a mailbox off; that no connection opens it does. An outage
// that comes again is told again.
func TestOutages(t *testing.T) {
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "runs.db"))
	if err != nil {
		t.Fatal(err)
	}
	text := "yorvet-connections: 1\nsend:\n- {name: all, server: '127.0.0.1:9', from: [anyone], tls: none}\n" +
		"look:\n- {name: boxes, server: '127.0.0.1:9', tls: none, for: [anyone], login: {password: {environment: SECRET}}}\n"
	path := filepath.Join(t.TempDir(), "connections.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := connections.Load(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	a := &Agent{Store: st, Connections: l, told: map[string]bool{}, runs: map[string]*wanted{}}
	a.outage.Tell = func(text string) { told = append(told, text) }
	st.Close()
	if _, err := a.visitor(t.Context(), &store.Visit{Run: "run7", Look: store.Look{Connection: "boxes", Account: "ada@k.example"}}); err == nil || errors.Is(err, errNotOurs) {
		t.Errorf("a store that is away gives %v", err)
	}
	if _, err := a.visitor(t.Context(), &store.Visit{Run: "run7", Look: store.Look{Connection: "none", Account: "ada@k.example"}}); !errors.Is(err, errNotOurs) {
		t.Errorf("no connection gives %v", err)
	}
	for i := range 3 {
		a.outage.Note(fmt.Errorf("dial error\n\t no %d", i))
	}
	a.outage.Note(nil)
	a.outage.Note(nil)
	a.outage.Note(errors.New("again"))
	want := []string{"the store does not answer, and is asked again: dial error no 0", "the store is back after 0s",
		"the store does not answer, and is asked again: again"}
	if !slices.Equal(told, want) {
		t.Errorf("told was %q", told)
	}
}
