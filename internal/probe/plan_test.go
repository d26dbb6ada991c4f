package probe

import (
	"context"
	"fmt"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change/changetest"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/sample"
)

const jetty = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example}
  - {address: cy@kelp.example}
  - {address: dee@kelp.example}
  - {address: gone@kelp.example, mailbox: none}
groups:
  - address: main@kelp.example
    also: [other@kelp.example]
    kind: forum
    gate: [refuse unproven, refuse dee@kelp.example because "Not you.", admit members or moderators, hold outside, admit inside]
    moderators: [cy@kelp.example]
    send-as: [as ada@kelp.example, for bo@kelp.example]
    members: [ada@kelp.example, {address: bo@kelp.example, copy: digest}, nested@kelp.example]
  - {address: nested@kelp.example, members: [cy@kelp.example]}
  - {address: only@kelp.example, kind: roster, members: [ada@kelp.example]}
`

// texts are addresses as text.
func texts(list []address.Address) (words []string) {
	for _, a := range list {
		words = append(words, a.String())
	}
	return words
}

// anywhere are connections that are not used.
func anywhere(t *testing.T, replace ...string) *connections.Connections {
	t.Helper()
	t.Setenv("PLAN_TEST", "hush")
	path := filepath.Join(t.TempDir(), "connections.yaml")
	text := `yorvet-connections: 1
send:
  - {name: inside, server: "127.0.0.1:9", tls: none, from: [ada@kelp.example, bo@kelp.example, cy@kelp.example, dee@kelp.example], login: {password: {environment: PLAN_TEST}}}
  - {name: outside, server: "127.0.0.1:9", tls: none, from: ["@far.example"]}
  - {name: forged, server: "127.0.0.1:9", tls: none, from: [anyone], claims: true}
look: [{server: "127.0.0.1:9", tls: none, for: [inside, "@far.example"], login: {password: {environment: PLAN_TEST}}}]
strangers: [guest@far.example]
`
	text = strings.NewReplacer(replace...).Replace(text)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := connections.Load(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func group(t *testing.T, e *estate.Estate, name string) estate.ID {
	t.Helper()
	id, ok := e.Find(address.MustParse(name))
	if !ok {
		t.Fatalf("there is no %s", name)
	}
	return id
}

func TestNewPlan(t *testing.T) {
	r := sample.Load(t, jetty)
	l := anywhere(t)
	p := NewPlan(r, l, Choice{Groups: []estate.ID{group(t, r.Estate(), "main@kelp.example"), group(t, r.Estate(), "only@kelp.example")}})
	var got []string
	for i := range p.Cases {
		prediction := p.Predict(i)
		got = append(got, fmt.Sprintf("%s %s %s", p.Cases[i].Describe(), prediction.Verdict, p.Cases[i].Connection))
	}
	want := []string{
		"outsider: guest@far.example to main@kelp.example hold outside",
		"forged: ada@kelp.example (claimed) to main@kelp.example refuse forged",
		"insider: dee@kelp.example to main@kelp.example refuse inside",
		"member: ada@kelp.example to main@kelp.example admit inside",
		"moderator: cy@kelp.example to main@kelp.example admit inside",
		"refused: dee@kelp.example to main@kelp.example refuse inside",
		"invitation: ada@kelp.example to main@kelp.example admit inside",
		"attachment: ada@kelp.example to main@kelp.example admit inside",
		"alias: ada@kelp.example to other@kelp.example admit inside",
		"send-as: main@kelp.example by ada@kelp.example to main@kelp.example admit inside",
		"reply-person: ada@kelp.example to guest@far.example admit inside",
		"reply-group: main@kelp.example by ada@kelp.example to guest@far.example admit inside",
	}
	if !slices.Equal(got, want) {
		t.Errorf("the plan is\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	tags := map[string]bool{}
	for _, c := range p.Cases {
		tags[c.Tag] = true
		if !strings.HasPrefix(c.Tag, p.Run+".") || len(c.Tag) < 30 {
			t.Errorf("the tag %s can be guessed", c.Tag)
		}
	}
	if len(tags) != len(p.Cases) || len(p.Touched) != 3 {
		t.Errorf("%d tags for %d cases, %d touched", len(tags), len(p.Cases), len(p.Touched))
	}
	if some := NewPlan(r, l, Choice{Groups: []estate.ID{0}, Sample: 4}); len(some.Cases) != 4 || some.Cases[3].Name != "4" {
		t.Errorf("a sample of 4 has %d cases", len(some.Cases))
	}
	if some := NewPlan(r, l, Choice{Groups: []estate.ID{0}, Kinds: []Kind{Member}, Run: "mine"}); len(some.Cases) != 1 || some.Run != "mine" {
		t.Errorf("%+v", some.Cases)
	}
	from := NewPlan(r, l, Choice{Groups: []estate.ID{0}, From: always(address.MustParse("bo@kelp.example"), address.MustParse("who@far.example"), address.MustParse("gone@kelp.example"))})
	if len(from.Cases) != 2 || from.Cases[0].Kind != Member || from.Cases[1].Kind != Outsider || len(from.Notes) != 1 {
		t.Errorf("%+v, %v", from.Cases, from.Notes)
	}
	sendAs := NewSendAsPlan(r, l, 0, "")
	if len(sendAs.Cases) != 3 || sendAs.Predict(2).Verdict != estate.Refuse || sendAs.Cases[1].By.String() != "bo@kelp.example" {
		t.Errorf("%+v", sendAs.Cases)
	}
	for _, a := range p.watched() {
		if a.String() == "gone@kelp.example" {
			t.Error("a mailbox that is not there is looked into")
		}
	}
}

// Without a stranger nobody writes from outside, and without logins nobody from inside.
func TestPlanOfLittle(t *testing.T) {
	r := sample.Load(t, jetty)
	for about, c := range map[string]struct {
		replace []string
		want    string
	}{
		"no stranger": {[]string{"strangers: [guest@far.example]\n", ""}, "forged insider member moderator refused invitation attachment alias send-as"},
		"only known strangers": {[]string{"[guest@far.example]", "[ada@kelp.example]"},
			"forged insider member moderator refused invitation attachment alias send-as"},
		"no login": {[]string{"from: [ada@kelp.example, bo@kelp.example, cy@kelp.example, dee@kelp.example]", `from: ["@nowhere.example"]`},
			"outsider invitation attachment"},
	} {
		p := NewPlan(r, anywhere(t, c.replace...), Choice{Groups: []estate.ID{0}})
		var got []string
		for _, one := range p.Cases {
			got = append(got, string(one.Kind))
			if one.From == (address.Address{}) || one.To == (address.Address{}) {
				t.Errorf("%s: a message from %q to %q", about, one.From, one.To)
			}
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s: %s, want %s", about, text, c.want)
		}
	}
}

func TestPlanOfExpectations(t *testing.T) {
	r := sample.Load(t, jetty)
	list, errs := expect.Parse("to main@kelp.example\n  admits members\n  holds outside\n  refuses unproven\n  admits automatic and not unproven and members\n  holds suspect and outside\n  reaches members from ada@kelp.example\n  approves at least 1\n")
	if len(errs) > 0 {
		t.Fatal(errs)
	}
	p := NewPlan(r, anywhere(t), Choice{Expected: list})
	kinds := map[Kind]int{}
	automatic := 0
	for i := range p.Cases {
		kinds[p.Cases[i].Kind]++
		if p.Cases[i].Traits.Automatic {
			automatic++
			d := p.draft(&p.Cases[i])
			raw, err := d.Message("x@kelp.example", "x", clock.Now())
			m, err2 := read.Parse(raw)
			if err != nil || err2 != nil || m.Auto != "auto-generated" {
				t.Errorf("%v, %v, %+v", err, err2, m)
			}
		}
	}
	if kinds[Expected] < 5 || kinds[Forged] != 2 || automatic == 0 || len(p.Notes) != 1 {
		t.Errorf("%v, %d automatic, %q", kinds, automatic, p.Notes)
	}
}

// What is sent says what its case is about, and carries the marks.
func TestMessages(t *testing.T) {
	r := sample.Load(t, jetty)
	p := NewPlan(r, anywhere(t), Choice{Groups: []estate.ID{0}})
	for i := range p.Cases {
		c := &p.Cases[i]
		d := p.draft(c)
		raw, err := d.Message(c.ID, c.Tag, clock.Now())
		if err != nil {
			t.Fatal(err)
		}
		m, err := read.Parse(raw)
		if err != nil || m.ID != c.ID || m.Tag != c.Tag || m.From[0] != c.From || m.To[0] != c.To || m.Invitation != c.Traits.Invitation {
			t.Errorf("%s: %v, %+v", c.Describe(), err, m)
		}
		if parsed, err := mail.ReadMessage(strings.NewReader(string(raw))); err != nil || parsed.Header.Get("Date") == "" {
			t.Errorf("%s: %v", c.Describe(), err)
		}
		if reply := c.Kind == ReplyGroup || c.Kind == ReplyPerson; reply != (len(m.Answers) > 0) || c.Kind == Attachment && len(raw) < attachmentSize {
			t.Errorf("%s: %d answers, %d bytes", c.Describe(), len(m.Answers), len(raw))
		}
	}
}

// What the reader of a copy sees: to whom an answer goes, to whom an answer to all,
// and which addresses of people inside are shown that the sender did not write.
func TestView(t *testing.T) {
	r := sample.Load(t, jetty)
	p := NewPlan(r, anywhere(t), Choice{Groups: []estate.ID{0}, Kinds: []Kind{Member}})
	c := Case{From: address.MustParse("ada@kelp.example")}
	for text, want := range map[string][3]string{
		"From: ada@kelp.example\r\nTo: main@kelp.example\r\nCc: bo@kelp.example, cy@kelp.example\r\n":                       {"ada@kelp.example", "main@kelp.example cy@kelp.example", "cy@kelp.example"},
		"From: ada@kelp.example\r\nReply-To: main@kelp.example\r\nTo: main@kelp.example, ADA@kelp.example\r\n":              {"main@kelp.example", "ADA@kelp.example", ""},
		"From: ada@kelp.example\r\nTo: main@kelp.example, far@out.example, Bo@Kelp.example\r\nSender: dee@kelp.example\r\n": {"ada@kelp.example", "main@kelp.example far@out.example", "dee@kelp.example"},
	} {
		m, err := read.Parse([]byte(text + "\r\n"))
		if err != nil {
			t.Fatal(err)
		}
		d := agent.Details{From: texts(m.From), Sender: texts(m.Sender), ReplyTo: texts(m.ReplyTo), To: texts(m.To), Cc: texts(m.Cc), Shown: m.Shown}
		v := p.view(&c, &d, "bo@kelp.example")
		got := [3]string{strings.Join(v.Answer, " "), strings.Join(v.AnswerAll, " "), strings.Join(v.Shows, " ")}
		if got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// With approval, those who get a message only once it is let in are looked at, too.
func TestTouched(t *testing.T) {
	r := sample.Load(t, pontoon)
	e := r.Estate()
	held, _ := e.Find(address.MustParse("held@kelp.example"))
	for approve, want := range map[bool]string{false: "bo@kelp.example", true: "bo@kelp.example eli@kelp.example"} {
		p := NewPlan(r, anywhere(t), Choice{Groups: []estate.ID{held}, Kinds: []Kind{Outsider}, Approve: approve})
		var got []string
		for _, id := range p.Touched {
			got = append(got, e.Address(id).String())
		}
		if strings.Join(got, " ") != want {
			t.Errorf("approving %t: %v are touched, want %s", approve, got, want)
		}
	}
}

// What was seen of a case is judged.
func TestJudge(t *testing.T) {
	r := sample.Load(t, jetty)
	p := NewPlan(r, anywhere(t), Choice{Groups: []estate.ID{0}, Kinds: []Kind{Outsider, Member}})
	accepted := send.Reply{Stage: "message", Code: 250}
	see := func(what, box string, number int, change ...func(*Sighting)) Sighting {
		s := Sighting{Place: mailbox.Place{Account: box, Folder: "INBOX", Role: mailbox.Inbox}, Case: number, What: what}
		for _, c := range change {
			c(&s)
		}
		return s
	}
	ada, bo, cy, main := "ada@kelp.example", "bo@kelp.example", "cy@kelp.example", "main@kelp.example"
	watched := []string{ada, bo, cy, "dee@kelp.example", main, "guest@far.example"}
	asked := see(agent.Approval, cy, 0, func(s *Sighting) { s.Text = main })
	good := []Sighting{asked, see(agent.Copy, ada, 1), see(agent.Digest, bo, 1), see(agent.Copy, cy, 1), see(agent.Copy, main, 1)}
	for name, c := range map[string]struct {
		replies map[int]send.Reply
		seen    []Sighting
		cases   [2]string
		not     int
		cause   string
	}{
		"as predicted":   {map[int]send.Reply{0: accepted, 1: accepted}, good, [2]string{"hold", "admit"}, 0, ""},
		"refused":        {map[int]send.Reply{0: accepted, 1: {Stage: "to", Code: 550}}, good[:1], [2]string{"hold", "refuse"}, 5, "main@kelp.example"},
		"put off":        {map[int]send.Reply{0: accepted, 1: {Stage: "to", Code: 451}}, good[:1], [2]string{"hold", Deferred}, 0, ""},
		"unknown":        {map[int]send.Reply{0: accepted, 1: {Stage: "message"}}, good[:1], [2]string{"hold", Unknown}, 0, ""},
		"let in":         {map[int]send.Reply{0: accepted, 1: accepted}, append([]Sighting{see(agent.Copy, ada, 0)}, good[1:]...), [2]string{"admit", "admit"}, 2, "main@kelp.example"},
		"silence":        {map[int]send.Reply{0: accepted, 1: accepted}, good[:1], [2]string{"hold", Silence}, 5, "main@kelp.example"},
		"bounced":        {map[int]send.Reply{0: accepted, 1: accepted}, append([]Sighting{see(agent.Bounce, ada, 1, func(s *Sighting) { s.Failed = []read.Failure{{Final: main, Action: "failed", Status: "5.7.1"}} })}, good[0]), [2]string{"hold", "refuse"}, 5, "main@kelp.example"},
		"a full mailbox": {map[int]send.Reply{0: accepted, 1: accepted}, append([]Sighting{see(agent.Bounce, ada, 1, func(s *Sighting) { s.Failed = []read.Failure{{Final: cy, Action: "failed", Status: "5.2.2"}} })}, good[0], good[1], good[2], good[4]), [2]string{"hold", "admit"}, 1, "SetPerson - cy@kelp.example {Person:5 Field:mailbox Text:full}"},
		"in junk":        {map[int]send.Reply{0: accepted, 1: accepted}, append([]Sighting{see(agent.Copy, cy, 1, func(s *Sighting) { s.Place.Role = mailbox.Junk })}, good[0], good[1], good[2], good[4]), [2]string{"hold", "admit"}, 1, ""},
		"twice":          {map[int]send.Reply{0: accepted, 1: accepted}, append([]Sighting{see(agent.Copy, cy, 1, func(s *Sighting) { s.UID = 7 })}, good...), [2]string{"hold", "admit"}, 1, ""},
		"no archive":     {map[int]send.Reply{0: accepted, 1: accepted}, good[:4], [2]string{"hold", "admit"}, 1, ""},
	} {
		run := &Run{Plan: p, Replies: c.replies, Unsure: map[int]bool{1: name == "unknown"}, Sightings: c.seen, Boxes: map[string]Box{}, Approved: map[int]bool{}}
		for _, name := range watched {
			run.Boxes[p.key(name)] = Box{Account: name, Opened: true, Through: true}
		}
		j := Judge(run)
		if got := [2]string{j.Cases[0].Seen, j.Cases[1].Seen}; got != c.cases {
			t.Errorf("%s: seen %v, want %v", name, got, c.cases)
		}
		if _, not, _ := j.Counts(); not != c.not {
			t.Errorf("%s: %d not as predicted, want %d: %+v", name, not, c.not, j.Members)
		}
		said := ""
		for _, cause := range j.Causes {
			for _, h := range cause.Hypotheses[:min(2, len(cause.Hypotheses))] {
				said += changetest.Tell(p.resolver.Estate(), h.Change) + "\n"
			}
		}
		if c.cause == "" && said != "" || !strings.Contains(said, c.cause) {
			t.Errorf("%s: it is as if %s, want %q", name, said, c.cause)
		}
	}
}

// A reply tells whether to try again.
func TestReplies(t *testing.T) {
	for _, c := range []struct {
		reply                    send.Reply
		accepted, later, unknown bool
		text                     string
	}{
		{send.Reply{Stage: "message", Code: 250, Text: "queued"}, true, false, false, "250 queued"},
		{send.Reply{Stage: "to", Code: 451, Status: "4.7.1", Text: "later"}, false, true, false, "451 4.7.1 later"},
		{send.Reply{Stage: "to", Code: 550, Status: "5.1.1", Text: "no"}, false, false, false, "550 5.1.1 no"},
		{send.Reply{Stage: "connect", Text: "refused"}, false, true, false, "connect: refused"},
		{send.Reply{Stage: "message", Text: "reset"}, false, false, true, "message: reset"},
	} {
		if r := c.reply; r.Accepted() != c.accepted || r.Later() != c.later || r.Unknown() != c.unknown || r.String() != c.text {
			t.Errorf("%+v: %t %t %t %q", r, r.Accepted(), r.Later(), r.Unknown(), r)
		}
	}
}

// The members of a roll call are those who would get its message, and their
// answers, bounces and deliveries count.
func TestCountAnswers(t *testing.T) {
	r := sample.Load(t, jetty)
	call := PlanCall(r, 0, address.MustParse("dee@kelp.example"))
	if len(call.Members) != 3 {
		t.Fatalf("%+v", call.Members)
	}
	p := &RunPlan{Run: "call", resolver: r, Cases: []Case{{Kind: RollCall, Group: 0, From: address.MustParse("dee@kelp.example"), To: address.MustParse("main@kelp.example"), ID: "call.1@kelp.example", Tag: "call.1"}}}
	states := map[estate.ID]*Presence{}
	for i := range call.Members {
		states[call.Members[i].Person] = &call.Members[i]
	}
	for _, text := range []string{
		"From: ada@kelp.example\r\nIn-Reply-To: <call.1@kelp.example>\r\n\r\nyes\r\n",
		"From: who@far.example\r\nSubject: Re: [call.1]\r\n\r\nme too\r\n",
		"From: bo@kelp.example\r\nIn-Reply-To: <call.1@kelp.example>\r\nAuto-Submitted: auto-replied\r\n\r\naway\r\n",
		"From: mailer-daemon@kelp.example\r\nX-Failed-Recipients: cy@kelp.example\r\nSubject: Undeliverable\r\n\r\ncall.1@kelp.example\r\n",
	} {
		m, err := read.Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		p.count(call, states, m)
	}
	got := map[string]int{}
	for _, m := range call.Members {
		got[m.State]++
	}
	if got[Answered] != 1 || got[NotYet] != 1 || got[Bounced] != 1 || !slices.Equal(call.Others, []string{"who@far.example"}) {
		t.Errorf("%v, %v", got, call.Others)
	}
}

// Who writes for a group shows as Sender; who writes as it does not.
func TestSenderOfGroup(t *testing.T) {
	r := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: ada@kelp.example}, {address: bo@kelp.example}, {address: cy@kelp.example}]
groups: [{address: main@kelp.example, send-as: [as ada@kelp.example, for bo@kelp.example], members: [ada@kelp.example, bo@kelp.example]}]
`)
	p := NewSendAsPlan(r, anywhere(t), 0, "")
	want := map[string]string{"ada@kelp.example": "", "bo@kelp.example": "bo@kelp.example", "cy@kelp.example": ""}
	for i := range p.Cases {
		c := &p.Cases[i]
		d := p.draft(c)
		raw, err := d.Message(c.ID, c.Tag, clock.Now())
		if err != nil {
			t.Fatal(err)
		}
		m, err := read.Parse(raw)
		if err != nil {
			t.Fatal(err)
		}
		got := strings.Join(texts(m.Sender), " ")
		if sender, ok := want[c.By.String()]; !ok || got != sender || m.From[0].String() != "main@kelp.example" {
			t.Errorf("by %s: From %v, Sender %q, want %q", c.By, m.From, got, sender)
		}
		delete(want, c.By.String())
	}
	if len(want) > 0 {
		t.Errorf("nobody tries as %v", want)
	}
}

// A report of a delivery is of a roll call if its envelope is, whatever else it says.
func TestReportsOfCall(t *testing.T) {
	r := sample.Load(t, jetty)
	for envelope, want := range map[string]string{"call.1": Bounced, "other.9": NotYet} {
		call := PlanCall(r, 0, address.MustParse("dee@kelp.example"))
		p := &RunPlan{Run: "call", resolver: r, Cases: []Case{{Kind: RollCall, Group: 0, From: address.MustParse("dee@kelp.example"), To: address.MustParse("main@kelp.example"), ID: "call.1@kelp.example", Tag: "call.1"}}}
		states := map[estate.ID]*Presence{}
		for i := range call.Members {
			states[call.Members[i].Person] = &call.Members[i]
		}
		m, err := read.Parse([]byte("From: m@x.example\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\nOriginal-Envelope-Id: " + envelope + "\r\n\r\nFinal-Recipient: rfc822;bo@kelp.example\r\nAction: failed\r\nStatus: 5.1.1\r\n\r\n--b--\r\n"))
		if err != nil {
			t.Fatal(err)
		}
		p.count(call, states, m)
		bo, _ := r.Estate().Find(address.MustParse("bo@kelp.example"))
		if states[bo].State != want || want == Bounced && !strings.HasPrefix(states[bo].Detail, "5.1.1") {
			t.Errorf("envelope %s: %+v, want %s", envelope, states[bo], want)
		}
	}
}

// always picks the same senders to each group.
func always(list ...address.Address) func(estate.ID) []address.Address {
	return func(estate.ID) []address.Address { return list }
}
