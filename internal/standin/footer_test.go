package standin_test

import (
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/sample"
)

const desk = `yorvet: 1
domains: [kelp.example]
edge:
  - refuse @spam.example because "Not from there."
  - drop larger(20kB)
people: [{address: ada@kelp.example}, {address: bo@kelp.example}]
groups:
  - address: desk@kelp.example
    gate: [admit anyone]
    members: [ada@kelp.example]
    footer: "How to leave: ask."
    auto-answer: "We answer soon."
    replies-to: office@kelp.example
  - {address: plain@kelp.example, gate: [admit anyone], members: [ada@kelp.example], footer: "Grüße vom Kai"}
  - {address: set@kelp.example, kind: roster, members: [ada@kelp.example]}
`

// Copies have the footer under what they say, whatever that is, and answers go where the
// group says.
func TestFooterAndReplies(t *testing.T) {
	r := start(t, sample.Load(t, desk).Estate(), nil)
	r.send("", "guest@far.example", "desk@kelp.example", nil)
	html := func(d *compose.Message) { d.Parts = []compose.Part{{Type: "text/html", Data: []byte("<p>Hello.</p>")}} }
	r.send("", "guest@far.example", "desk@kelp.example", html)
	r.send("", "guest@far.example", "plain@kelp.example", nil)
	got := r.box("ada@kelp.example")
	if len(got) != 3 {
		t.Fatalf("ada has %d", len(got))
	}
	for i, want := range []string{"How to leave: ask.", "How to leave: ask.", "Grüße vom Kai"} {
		m := got[i].Message
		if !strings.Contains(m.Text, "Hello.") {
			t.Errorf("message %d says %q", i, m.Text)
		}
		raw := string(got[i].Raw)
		if !strings.Contains(raw, want) || strings.Index(raw, want) < strings.Index(raw, "Hello.") {
			t.Errorf("message %d has no footer %q:\n%s", i, want, raw)
		}
		if i < 2 && !strings.Contains(raw, "Reply-To: <office@kelp.example>") {
			t.Errorf("message %d has no Reply-To:\n%s", i, raw)
		}
	}
}

// An outside author of an admitted post is answered once a day, nobody else is.
func TestAutoAnswer(t *testing.T) {
	e := sample.Load(t, desk).Estate()
	r := start(t, e, nil)
	r.send("", "guest@far.example", "desk@kelp.example", nil)
	r.send("", "guest@far.example", "desk@kelp.example", nil)
	r.send("", "guest@far.example", "desk@kelp.example", func(d *compose.Message) { d.Auto = "auto-generated" })
	r.send("bo@kelp.example", "bo@kelp.example", "desk@kelp.example", nil)
	if got := r.box("guest@far.example"); len(got) != 1 || !strings.Contains(got[0].Message.Text, "We answer soon.") || got[0].Message.Auto != "auto-replied" {
		t.Errorf("the author has %+v", got)
	}
	if got := r.box("bo@kelp.example"); len(got) != 0 {
		t.Errorf("somebody inside is answered: %+v", got)
	}
}

// The edge refuses and drops before any group is asked, mail to people too.
func TestEdge(t *testing.T) {
	r := start(t, sample.Load(t, desk).Estate(), nil)
	for _, to := range []string{"desk@kelp.example", "bo@kelp.example", "set@kelp.example"} {
		if _, reply := r.send("", "x@spam.example", to, nil); reply.Code != 550 || !strings.Contains(reply.Text, "Not from there.") {
			t.Errorf("to %s: %+v", to, reply)
		}
		large := func(d *compose.Message) { d.Text = strings.Repeat("long\n", 6000) }
		if _, reply := r.send("", "guest@far.example", to, large); !reply.Accepted() {
			t.Errorf("to %s, large: %+v", to, reply)
		}
	}
	for _, name := range []string{"ada@kelp.example", "bo@kelp.example"} {
		if got := r.box(name); len(got) != 0 {
			t.Errorf("%s has %d", name, len(got))
		}
	}
}
