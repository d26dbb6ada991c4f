package message_test

import (
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

const pier = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ann@kelp.example}
  - {address: bob@kelp.example}
  - {address: shut@kelp.example, mailbox: closed}
groups:
  - {address: open@kelp.example, gate: [admit anyone], members: [ann@kelp.example, shut@kelp.example], send-as: [as ann@kelp.example, for bob@kelp.example]}
  - {address: held@kelp.example, gate: [drop suspect, refuse automatic, hold anyone], notify-sender: inside, moderators: [ann@kelp.example], members: [bob@kelp.example]}
  - {address: quiet@kelp.example, gate: [], notify-sender: nobody}
  - {address: coded@kelp.example, gate: [admit anyone], members: [ann@kelp.example], send-as: [as ann@kelp.example], send-as-proof: mailed-code}
  - {address: loud@kelp.example, gate: [refuse suspect, hold anyone], moderators: [ann@kelp.example]}
  - {address: roll@kelp.example, kind: roster, members: [ann@kelp.example]}
`

// Every way in which a message can end, with what is said of it.
func TestFates(t *testing.T) {
	r := sample.Load(t, pier)
	coded := sample.Load(t, "code-sender: codes@post.example\n"+pier)
	type want struct {
		reason  message.Reason
		verdict estate.Verdict
		rule    int
		heard   bool
		reached int // people who get a copy
	}
	for _, test := range []struct {
		r            *resolve.Resolver
		from, by, to string
		m            resolve.Message
		want         want
	}{
		{r, "x@out.example", "", "open@kelp.example", resolve.Message{}, want{message.ByGate, estate.Admit, 1, false, 1}},
		{r, "x@out.example", "", "held@kelp.example", resolve.Message{}, want{message.ByGate, estate.Hold, 3, false, 0}},
		{r, "ann@kelp.example", "", "held@kelp.example", resolve.Message{}, want{message.ByGate, estate.Hold, 3, true, 0}},
		{r, "ann@kelp.example", "", "held@kelp.example", resolve.Message{Unproven: true}, want{message.ByGate, estate.Hold, 3, false, 0}},
		{r, "ann@kelp.example", "", "held@kelp.example", resolve.Message{Automatic: true}, want{message.ByGate, estate.Refuse, 2, true, 0}},
		{r, "ann@kelp.example", "", "held@kelp.example", resolve.Message{Suspect: true}, want{message.ByGate, estate.Drop, 1, false, 0}},
		{r, "ann@kelp.example", "", "quiet@kelp.example", resolve.Message{}, want{message.ByGate, estate.Refuse, 0, false, 0}},
		{r, "x@out.example", "", "loud@kelp.example", resolve.Message{}, want{message.ByGate, estate.Hold, 2, true, 0}},
		{r, "ann@kelp.example", "", "loud@kelp.example", resolve.Message{Unproven: true}, want{message.ByGate, estate.Hold, 2, false, 0}},
		{r, "ann@kelp.example", "", "loud@kelp.example", resolve.Message{Automatic: true}, want{message.ByGate, estate.Hold, 2, false, 0}},
		{r, "ann@kelp.example", "", "loud@kelp.example", resolve.Message{Unproven: true, Suspect: true}, want{message.ByGate, estate.Refuse, 1, true, 0}},
		{r, "ann@kelp.example", "", "roll@kelp.example", resolve.Message{}, want{message.ByGate, estate.Refuse, 0, true, 0}},
		{r, "x@out.example", "", "ann@kelp.example", resolve.Message{}, want{message.ToPerson, estate.Admit, 0, false, 1}},
		{r, "x@out.example", "", "shut@kelp.example", resolve.Message{}, want{message.ToPerson, estate.Admit, 0, false, 0}},
		{r, "ann@kelp.example", "", "nobody@kelp.example", resolve.Message{}, want{message.NoSuchAddress, estate.Refuse, 0, false, 0}},
		{r, "ann@kelp.example", "", "x@out.example", resolve.Message{}, want{message.Leaves, estate.Admit, 0, false, 0}},
		{r, "open@kelp.example", "ann@kelp.example", "x@out.example", resolve.Message{}, want{message.Leaves, estate.Admit, 0, false, 0}},
		{r, "open@kelp.example", "shut@kelp.example", "held@kelp.example", resolve.Message{}, want{message.NoSendAs, estate.Refuse, 0, false, 0}},
		{r, "open@kelp.example", "x@out.example", "open@kelp.example", resolve.Message{}, want{message.NoSendAs, estate.Refuse, 0, false, 0}},
		{r, "ann@kelp.example", "bob@kelp.example", "open@kelp.example", resolve.Message{}, want{message.NoGroup, estate.Refuse, 0, false, 0}},
		{r, "x@out.example", "bob@kelp.example", "open@kelp.example", resolve.Message{}, want{message.NoGroup, estate.Refuse, 0, false, 0}},
		// Without a code-sender nobody can show that a name is theirs.
		{r, "coded@kelp.example", "ann@kelp.example", "open@kelp.example", resolve.Message{}, want{message.NoProof, estate.Refuse, 0, false, 0}},
		{coded, "coded@kelp.example", "ann@kelp.example", "open@kelp.example", resolve.Message{}, want{message.ByGate, estate.Admit, 1, false, 1}},
	} {
		e := message.Envelope{From: address.MustParse(test.from), To: address.MustParse(test.to), Message: test.m}
		if test.by != "" {
			e.By = address.MustParse(test.by)
		}
		f := message.Of(test.r, e)
		got := want{f.Reason, f.Verdict, f.Rule, f.Heard(), 0}
		for _, outcome := range f.Outcomes() {
			if outcome == resolve.Inbox {
				got.reached++
			}
		}
		if got != test.want {
			t.Errorf("from %s by %q to %s %+v: %+v, want %+v", test.from, test.by, test.to, test.m, got, test.want)
		}
		if f.Arrives() != (f.Reason == message.ByGate || f.Reason == message.ToPerson) {
			t.Errorf("to %s: it arrives: %v", test.to, f.Arrives())
		}
	}
}

// What would be delivered is known of what is not let in, and the send-as of who
// writes in a group's name.
func TestFateTellsMore(t *testing.T) {
	r := sample.Load(t, pier)
	f := message.Of(r, message.Envelope{From: address.MustParse("x@out.example"), To: address.MustParse("held@kelp.example")})
	if d := f.Delivery(); d == nil || len(d.Recipients()) != 1 || d != f.Delivery() {
		t.Errorf("delivery %+v", d)
	}
	if f := message.Of(r, message.Envelope{From: address.MustParse("x@out.example"), To: address.MustParse("ann@kelp.example")}); f.Delivery() != nil {
		t.Error("a person delivers")
	}
	for by, want := range map[string]estate.SendAs{"ann@kelp.example": estate.AsGroup, "bob@kelp.example": estate.ForGroup, "shut@kelp.example": estate.NoSendAs} {
		f := message.Of(r, message.Envelope{From: address.MustParse("open@kelp.example"), By: address.MustParse(by), To: address.MustParse("held@kelp.example")})
		if f.SendAs != want || (f.SendAsRule > 0) != (want != estate.NoSendAs) || f.Gate.Verdict != estate.Hold {
			t.Errorf("%s: send-as %v by rule %d, gate %v", by, f.SendAs, f.SendAsRule, f.Gate.Verdict)
		}
	}
}

// What the rule that decides says is told, and nothing where none does.
func TestBecause(t *testing.T) {
	r := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}]
groups:
  - {address: g@kelp.example, gate: [admit inside, 'refuse suspect because "Not that."', 'hold @far.example because "Wait."']}
`)
	for _, c := range []struct {
		from, to string
		m        resolve.Message
		want     string
	}{
		{"x@far.example", "g@kelp.example", resolve.Message{Suspect: true}, "Not that."},
		{"x@far.example", "g@kelp.example", resolve.Message{}, "Wait."},
		{"x@away.example", "g@kelp.example", resolve.Message{}, ""},
		{"ann@kelp.example", "g@kelp.example", resolve.Message{}, ""},
		{"x@far.example", "ann@kelp.example", resolve.Message{Suspect: true}, ""},
	} {
		f := message.Of(r, message.Envelope{From: address.MustParse(c.from), To: address.MustParse(c.to), Message: c.m})
		if got := f.Because(); got != c.want {
			t.Errorf("from %s to %s %+v: %q, want %q", c.from, c.to, c.m, got, c.want)
		}
	}
}

// The edge refuses and drops mail to groups and people; an automatic answer goes to outside
// authors of what is admitted, and to nobody else.
func TestEdgeAndAutoAnswer(t *testing.T) {
	r := sample.Load(t, `yorvet: 1
domains: [kelp.example]
edge: [drop @gone.example, 'refuse @bad.example because "Not from there."']
people: [{address: ann@kelp.example}]
groups:
  - {address: g@kelp.example, gate: [hold suspect, admit anyone], auto-answer: "We answer.", notify-sender: nobody}
  - {address: mute@kelp.example, gate: [admit anyone]}
`)
	for _, c := range []struct {
		from, to string
		m        resolve.Message
		verdict  estate.Verdict
		edge     int
		because  string
		heard    bool
		answered bool
	}{
		{"x@gone.example", "g@kelp.example", resolve.Message{}, estate.Drop, 1, "", false, false},
		{"x@bad.example", "g@kelp.example", resolve.Message{}, estate.Refuse, 2, "Not from there.", true, false},
		{"x@gone.example", "ann@kelp.example", resolve.Message{}, estate.Drop, 1, "", false, false},
		{"x@bad.example", "ann@kelp.example", resolve.Message{}, estate.Refuse, 2, "Not from there.", true, false},
		{"x@far.example", "g@kelp.example", resolve.Message{}, estate.Admit, 0, "", false, true},
		{"x@far.example", "mute@kelp.example", resolve.Message{}, estate.Admit, 0, "", false, false},
		{"x@far.example", "ann@kelp.example", resolve.Message{}, estate.Admit, 0, "", false, false},
		{"ann@kelp.example", "g@kelp.example", resolve.Message{}, estate.Admit, 0, "", false, false},
		{"x@far.example", "g@kelp.example", resolve.Message{Automatic: true}, estate.Admit, 0, "", false, false},
		{"x@far.example", "g@kelp.example", resolve.Message{Unproven: true}, estate.Admit, 0, "", false, false},
		{"x@far.example", "g@kelp.example", resolve.Message{Suspect: true}, estate.Hold, 0, "", false, false},
	} {
		f := message.Of(r, message.Envelope{From: address.MustParse(c.from), To: address.MustParse(c.to), Message: c.m})
		if f.Verdict != c.verdict || f.Edge != c.edge || f.Because() != c.because || f.Heard() != c.heard ||
			f.AutoAnswered() != c.answered || (f.Reason == message.ByEdge) != (c.edge > 0) {
			t.Errorf("from %s to %s %+v: %s by edge %d (%v) because %q, heard %t, answered %t", c.from, c.to, c.m, f.Verdict,
				f.Edge, f.Reason, f.Because(), f.Heard(), f.AutoAnswered())
		}
	}
}
