package read

import (
	"bytes"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/mail/compose"
)

func lines(s string) []byte {
	return []byte(strings.ReplaceAll(strings.TrimLeft(s, "\n"), "\n", "\r\n"))
}

func TestParse(t *testing.T) {
	m, err := Parse(lines(`
From: "Desk" <desk@kelp.example>
Sender: ada@kelp.example
Reply-To: =?utf-8?q?K=C3=A4pt?= <team@kelp.example>, broken
To: undisclosed-recipients:;
Subject: =?iso-8859-1?q?Gr=FC=DFe?= and more
Message-ID: <one@kelp.example>
In-Reply-To: <zero@far.example>
References: <minus@far.example>
 <zero@far.example>
List-Id: Desk <desk.kelp.example>
List-Unsubscribe-Post: List-Unsubscribe=One-Click
Authentication-Results: kelp.example;
 spf=pass
Auto-Submitted: auto-replied; why
X-Spam-Flag: YES
Yorvet-Probe: run.1

Hello.
`))
	if err != nil {
		t.Fatal(err)
	}
	if m.From[0].String() != "desk@kelp.example" || m.Sender[0].String() != "ada@kelp.example" || len(m.ReplyTo) != 1 || m.Subject != "Grüße and more" ||
		m.ID != "one@kelp.example" || len(m.Answers) != 2 || m.ListID != "Desk <desk.kelp.example>" || !m.OneClick || m.Authentication[0] != "kelp.example; spf=pass" ||
		m.Auto != "auto-replied" || !m.Flagged || m.Tag != "run.1" || !strings.HasPrefix(m.Text, "Hello.") || m.Bounce != nil || !m.About("zero@far.example") || m.About("two@kelp.example") {
		t.Errorf("%+v", m)
	}
	if len(m.Shown) != 3 {
		t.Errorf("it shows %v", m.Shown)
	}
}

const report = `
From: MAILER-DAEMON@mx.example
Subject: Undelivered Mail Returned to Sender
Auto-Submitted: auto-replied
Content-Type: multipart/report; report-type=delivery-status; boundary=b

--b

I am sorry.

--b
Content-Type: message/delivery-status

Reporting-MTA: dns; mx.example
Original-Envelope-Id: run.7

Final-Recipient: rfc822; Bo@kelp.example
Original-Recipient: rfc822;team@kelp.example
Action: failed
Status: 5.2.2 (over quota)
Diagnostic-Code: smtp; 552 5.2.2 full

Final-Recipient: rfc822; cy@kelp.example
Action: delayed
Status: 4.4.1

--b
Content-Type: text/rfc822-headers

Message-ID: <one@kelp.example>
Yorvet-Probe: run.7

--b--
`

func TestBounces(t *testing.T) {
	m, err := Parse(lines(report))
	if err != nil || m.Bounce == nil || !m.Bounce.Standard || m.Bounce.EnvelopeID != "run.7" || len(m.Bounce.Recipients) != 2 || !m.About("one@kelp.example") || m.Inner[0].Tag != "run.7" {
		t.Fatalf("%v, %+v", err, m)
	}
	if f := m.Bounce.Recipients[0]; f.Final != "bo@kelp.example" || f.Original != "team@kelp.example" || f.Action != "failed" || f.Status != "5.2.2" || f.Diagnostic != "552 5.2.2 full" {
		t.Errorf("%+v", f)
	}
	for _, text := range []string{
		"From: <postmaster@mx.example>\nSubject: Undeliverable: hello\n\nYour message <one@kelp.example> could not be delivered.\n",
		"From: Mail Delivery <Mailer-Daemon@mx.example>\nX-Failed-Recipients: bo@kelp.example\nSubject: hm\n\nSee above.\n",
	} {
		if m, err := Parse(lines(text)); err != nil || m.Bounce == nil || m.Bounce.Standard {
			t.Errorf("%q: %v, %+v", text, err, m)
		}
	}
	for _, text := range []string{
		"From: <ada@kelp.example>\nSubject: Undeliverable: hello\n\nSee below.\n", "From: postmaster@mx.example\nSubject: Planned works\n\nTonight.\n",
	} {
		if m, err := Parse(lines(text)); err != nil || m.Bounce != nil {
			t.Errorf("%q is taken for a bounce: %v", text, err)
		}
	}
}

// What is composed is read as it was meant; a field cannot begin another one.
func TestCompose(t *testing.T) {
	d := compose.Message{
		From: address.MustParse("team@kelp.example"), Sender: address.MustParse("ada@kelp.example"), To: address.MustParse("reader@far.example"), Subject: "Über alles",
		ID: "x@kelp.example", InReplyTo: "y@far.example", Date: clock.Now(), Text: "Ümläute\nand more\n", Extra: []compose.Field{{Name: Tag, Value: "run.9"}},
	}
	d.Parts = append(d.Parts, compose.Invitation("u1", d.From, d.To, strings.Repeat("Meeting, or; not ü ", 9), clock.Now()), compose.Part{Type: "text/plain", Name: "a.txt", Data: []byte("data")})
	raw, err := d.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	m, err := Parse(raw)
	if err != nil || m.Subject != d.Subject || m.Sender[0] != d.Sender || m.ID != d.ID || !m.Invitation || m.Tag != "run.9" || !strings.Contains(m.Text, "Ümläute") || m.Answers[0] != "y@far.example" {
		t.Errorf("%v, %+v\n%s", err, m, raw)
	}
	for line := range bytes.SplitSeq(raw, []byte("\r\n")) {
		if len(line) > 998 || bytes.ContainsAny(line, "\n\r") {
			t.Errorf("a line is broken: %q", line)
		}
	}
	for _, bad := range []func(*compose.Message){
		func(d *compose.Message) { d.Subject = "a\r\nBcc: b@far.example" },
		func(d *compose.Message) { d.ID = "a\nb" },
		func(d *compose.Message) { d.Extra = []compose.Field{{Name: "X", Value: "a\rb"}} },
		func(d *compose.Message) { d.Extra = []compose.Field{{Name: "X: y", Value: "a"}} },
		func(d *compose.Message) { d.InReplyTo = "a>\r\nX: b" },
	} {
		other := d
		bad(&other)
		if raw, err := other.Bytes(); err == nil {
			t.Errorf("this is written:\n%s", raw)
		}
	}
}

// Messages that are meant to harm, or badly broken, are read as far as they go.
func TestHostile(t *testing.T) {
	deep := "From: a@far.example\nMessage-ID: <deep@far.example>\n"
	for i := range 500 {
		deep += "Content-Type: multipart/mixed; boundary=b" + strings.Repeat("x", i%7) + "\n\n--b" + strings.Repeat("x", i%7) + "\n"
	}
	for _, text := range []string{
		deep, "From: a@far.example\nMessage-ID: <big@far.example>\nX: " + strings.Repeat("y", 1<<20) + "\n\n" + strings.Repeat("z\n", 1<<20),
		"From: \x00\x1b[2J@x\nMessage-ID: <ctl@far.example>\nSubject: =?x-none?q?=FF?=\nContent-Type: text/plain; charset=x-nothing\n\n\xff\xfe\x00",
		"no header at all", "From: a@far.example\nthis line is no field\nMessage-ID: <odd@far.example>\n\ntext\n",
		"From: a@far.example\nMessage-ID: <mp@far.example>\nContent-Type: multipart/mixed\n\nno boundary\n",
		"From: a@far.example\nMessage-ID: <b64@far.example>\nContent-Transfer-Encoding: base64\n\n!!!!\n",
		"From: a@far.example\nMessage-ID: <ds@far.example>\nContent-Type: message/delivery-status\n\n: : :\n\n\n\n:::\n",
	} {
		m, err := Parse(lines(text))
		if err == nil && strings.Contains(text, "Message-ID") && m.ID == "" {
			t.Errorf("%.80q has no Message-ID", text)
		}
		light, lightErr := ParseLight(lines(text))
		if err == nil && lightErr == nil && light.ID != m.ID {
			t.Errorf("%.80q: %q and %q", text, light.ID, m.ID)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(lines(report))
	f.Add(lines("From: a@b.example\nContent-Type: multipart/digest; boundary=b\n\n--b\n\nMessage-ID: <x@y>\n\ntext\n--b--\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := Parse(raw)
		if err != nil {
			return
		}
		for _, id := range append(m.Answers, m.Shown...) {
			if id == "" {
				t.Error("an empty entry")
			}
		}
		m.About("x@y")
		_, _ = ParseLight(raw)
	})
}

// A status without words gets those of the text.
func TestReasonsInText(t *testing.T) {
	const form = "From: Mail Delivery System <Mailer-Daemon@mx.example>\r\nTo: ann@far.example\r\nSubject: Mail delivery failed\r\n" +
		"Content-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\n\r\nTEXT\r\n--b\r\n" +
		"Content-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mx\r\n\r\nAction: failed\r\nFinal-Recipient: rfc822;dave@corp.example\r\nStatus: 5.0.0\r\n\r\n--b--\r\n"
	for text, want := range map[string]string{
		"The following address(es) failed:\r\n\r\n  dave@corp.example\r\n    (generated from crowd@corp.example)\r\n    mailbox is full: retry timeout exceeded\r\n\r\nmore": "mailbox is full: retry timeout exceeded",
		"<dave@corp.example>: delivery temporarily suspended:\r\n    No space left on device\r\n\r\nmore":                                                                    "delivery temporarily suspended: No space left on device",
		"  gone@corp.example\r\n    Unrouteable address\r\n":                                                                                                                 "",
		"  dave@corp.example\r\n  gone@corp.example\r\n    no such\r\n":                                                                                                      "",
	} {
		m, err := Parse([]byte(strings.Replace(form, "TEXT", text, 1)))
		if err != nil || m.Bounce == nil || len(m.Bounce.Recipients) != 1 {
			t.Fatalf("%v, %+v", err, m)
		}
		if got := m.Bounce.Recipients[0].Diagnostic; got != want {
			t.Errorf("%q says %q, want %q", text, got, want)
		}
	}
}

// Bounces in plain text name who failed in lines of their own.
func TestBouncesInText(t *testing.T) {
	const head = "From: Mail Delivery System <Mailer-Daemon@mx.example>\r\nTo: ann@far.example\r\nSubject: Mail delivery failed\r\n\r\n"
	for about, test := range map[string]struct{ text, want string }{
		"addresses with reasons below": {"A message that you sent could not be delivered to one or more of its\r\nrecipients. The following address(es) failed:\r\n\r\n" +
			"  gone@corp.example\r\n    Unrouteable address\r\n\r\n--- The message\r\nTo: desk@corp.example\r\n", "gone@corp.example  gone@corp.example Unrouteable address"},
		"addresses in brackets": {"Hi. This is the program at mx.example.\r\n\r\n<Gone@corp.example>:\r\nSorry, no mailbox here by that name. (#5.1.1)\r\n\r\n--- Below this line is a copy.\r\n",
			"gone@corp.example 5.1.1 <Gone@corp.example>: Sorry, no mailbox here by that name. (#5.1.1)"},
		"two of them, and the sender": {"It cannot be delivered.\r\n<one@corp.example>: 552 5.2.2 full\r\n<two@corp.example>: 550 5.2.1 closed\r\nSent by ann@far.example\r\n",
			"one@corp.example 5.2.2 <one@corp.example>: 552 5.2.2 full <two@corp.example>: 550 5.2.1 closed|two@corp.example 5.2.1 <two@corp.example>: 550 5.2.1 closed Sent by ann@far.example"},
		"nobody": {"It cannot be delivered, and nobody knows to whom.\r\n", ""},
	} {
		m, err := Parse([]byte(head + test.text))
		if err != nil || m.Bounce == nil {
			t.Fatalf("%s: %v, %+v", about, err, m)
		}
		var got []string
		for _, f := range m.Bounce.Recipients {
			got = append(got, strings.TrimSpace(f.Final+" "+f.Status+" "+f.Diagnostic))
		}
		if text := strings.Join(got, "|"); text != test.want {
			t.Errorf("%s:\n got %s\nwant %s", about, text, test.want)
		}
	}
}

// Whatever a bounce says, in its fields, its text or in what a server found out about its sender: it is
// read in bounds, and names nobody without an address.
func FuzzBounce(f *testing.F) {
	f.Add("failed", "5.1.1", "smtp; 550 5.1.1 gone", "  gone@corp.example\r\n    Unrouteable address", "mx.example; spf=pass smtp.mailfrom=a@b.example")
	f.Add("delayed", "4.0.0 (x)", "", "<a@b.example>: \r\n(generated from c@d.example)", ";;=")
	f.Add("", "", "x;y;z", "@@@ <<<a@b>>> ---", "1; none")
	f.Fuzz(func(t *testing.T, action, status, diagnostic, text, results string) {
		clean := func(s string) string { return strings.NewReplacer("\r", " ", "\n", " ").Replace(s) }
		raw := "From: MAILER-DAEMON@mx.example\r\nTo: ann@far.example\r\nSubject: Undeliverable\r\nAuthentication-Results: " + clean(results) +
			"\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\n\r\n" + text +
			"\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mx.example\r\n\r\nFinal-Recipient: rfc822; g@corp.example\r\nAction: " +
			clean(action) + "\r\nStatus: " + clean(status) + "\r\nDiagnostic-Code: " + clean(diagnostic) + "\r\n\r\n--b--\r\n"
		m, err := Parse([]byte(raw))
		if err != nil {
			return
		}
		if m.Bounce != nil {
			for _, one := range m.Bounce.Recipients {
				if one.Final == "" || len(one.Diagnostic) > 3*len(raw) { // what is not UTF-8 takes three bytes
					t.Errorf("%+v", one)
				}
			}
		}
		for _, named := range Named(m.AllText()) {
			if !strings.Contains(named, "@") {
				t.Errorf("%q is named", named)
			}
		}
		_, _ = ParseLight([]byte(raw))
	})
}
