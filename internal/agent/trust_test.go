package agent

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/store"
)

const (
	tagA = "run7.aaaaaaaaaaaaaaaaaaaaaaaa"
	idA  = tagA + "@k.example"
)

// What stands in a store is sent, and mailboxes are opened, only within the agent's own lists, and in
// the form that a plan gives: nobody is even connected to otherwise.
func TestPlantedRows(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	var connected atomic.Int32
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			connected.Add(1)
			conn.Close()
		}
	}()
	path := filepath.Join(t.TempDir(), "connections.yaml")
	text := fmt.Sprintf("yorvet-connections: 1\nsend:\n- {name: in, server: '%[1]s', from: [ada@k.example], tls: none, login: {password: {environment: AGENT_TEST_SECRET}}}\n"+
		"look:\n- {name: boxes, server: '%[1]s', tls: none, for: [ada@k.example], login: {password: {environment: AGENT_TEST_SECRET}}}\nlimits: {pace: 1000}\n", listener.Addr())
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("AGENT_TEST_SECRET", "tide-7-secret")
	l, err := connections.Load(t.Context(), path)
	if err == nil {
		err = l.Unlock(t.Context(), true, func(string) {})
	}
	if err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "runs.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	planted := []struct{ draft, tag, id, says string }{
		{`{"from": "bo@k.example", "to": "g@k.example"}`, tagA, idA, "not for bo@k.example"},
		{`{"from": "ada@k.example", "by": "bo@k.example", "to": "g@k.example"}`, tagA, idA, "not for bo@k.example"},
		{`{"from": "ada@k.example", "to": "g@k.example"}`, "run7.secret", "run7.secret@k.example", "not marked"},
		{`{"from": "ada@k.example", "to": "g@k.example"}`, tagA, "contract@k.example", "not marked"},
		{`{"from": "ada@k.example", "to": "g@k.example"}`, strings.Replace(tagA, "run7", "run8", 1), "x@k.example", "not marked"},
		{`{"from": "ada@k.example", "to": "g@k.example", "attachment": 1099511627776}`, tagA, idA, "10000000 are the most"},
		{`{"from": "ada@k.example", "to": "g@k.example", "attachment": -5}`, tagA, idA, "are the most"},
		{`{"from": "ada@k.example", "to": "g@k.example> NOTIFY=NEVER"}`, tagA, idA, "g@k.example> NOTIFY=NEVER"},
		{`{"from": "ada@k.example", "to": "` + strings.Repeat("x", 2<<20) + `"}`, tagA, idA, "cannot be read"},
		{`[`, tagA, idA, "cannot be read"},
	}
	now := st.Now()
	plan := &store.PlannedRun{Run: store.Run{Name: "run7", Estate: "e", Began: now, Until: now.Add(time.Minute), Terms: store.Terms{
		Patience: time.Second, LookEvery: time.Second, Domains: []string{"k.example"}}},
		Looks: []store.Look{{Account: "bo@k.example", Connection: "boxes"}}}
	for i, p := range planted {
		if p.tag == tagA { // no two have the same
			p.tag = fmt.Sprintf("run7.%024x", i)
			p.id = strings.Replace(p.id, tagA, p.tag, 1)
		}
		plan.Cases = append(plan.Cases, store.Case{N: i, Connection: "in", Draft: []byte(p.draft), Predicted: []byte("{}"), MessageID: p.id, Tag: p.tag})
	}
	if err := st.Plan(t.Context(), plan); err != nil {
		t.Fatal(err)
	}
	if err := (&Agent{Store: st, Connections: l, Run: plan.ID}).Work(t.Context()); err != nil {
		t.Fatal(err)
	}
	record, err := st.Record(t.Context(), "run7")
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range record.Cases {
		var reply struct{ Text string }
		if json.Unmarshal(c.Reply, &reply) != nil || c.State != store.GivenUp || !strings.Contains(reply.Text, planted[i].says) {
			t.Errorf("row %d is %s: %.200s, want %q", i, c.State, c.Reply, planted[i].says)
		}
	}
	if look := record.Looks[0]; !look.Certain || !strings.Contains(look.Problem, "do not open the mailbox of bo@k.example") {
		t.Errorf("the mailbox of somebody else: %+v", look)
	}
	if n := connected.Load(); n > 0 {
		t.Errorf("%d connections were opened", n)
	}
}

// Mail that is not of the run is none of a planted row's, whatever that says.
func TestPlantedMarks(t *testing.T) {
	draft := []byte(`{"from": "ada@k.example", "by": "ada@k.example", "code": "pay@bank.example"}`)
	run := store.Run{Name: "run7", Began: began.AddDate(-1, 0, 0)}
	for about, c := range map[string]store.Case{
		"somebody's Message-ID": {MessageID: "contract@k.example", Tag: tagA, Draft: draft},
		"a word of subjects":    {MessageID: "Contract@k.example", Tag: "Contract", Draft: draft},
		"nothing":               {Draft: draft},
	} {
		w := wantedOf(run, []store.Case{c})
		m := parse(t, "From: pay@bank.example\nMessage-ID: <contract@k.example>\nSubject: Contract\nAuto-Submitted: auto-generated\nDate: Mon, 23 Nov 2026 07:59:00 +0000\n\nSecret\n")
		if found := w.sight(mailbox.Item{Place: mailbox.Place{Account: "ada@k.example"}, Message: m}, began); len(found) > 0 {
			t.Errorf("%s: %+v", about, found)
		}
	}
	w := wantedOf(run, []store.Case{{MessageID: idA, Tag: tagA, Draft: draft}})
	item := func(date string) mailbox.Item {
		return mailbox.Item{Place: mailbox.Place{Account: "ada@k.example"}, Message: parse(t, "From: pay@bank.example\nAuto-Submitted: auto-generated\nDate: "+date+"\n\nSecret\n")}
	}
	if found := w.sight(item("Sat, 21 Nov 2026 08:00:00 +0000"), began); len(found) > 0 {
		t.Errorf("old mail of a program is copied: %+v", found)
	}
	if found := w.sight(item("Mon, 23 Nov 2026 07:59:00 +0000"), began); len(found) != 1 || found[0].details.Text != "" || found[0].details.Subject != "" {
		t.Errorf("of a code is kept: %+v", found)
	}
	if got := since(run.Began, began); !got.Equal(began.Add(-mostAge)) {
		t.Errorf("mailboxes are searched since %s", got)
	}
}

// A tag is what a plan makes it.
func TestIsMark(t *testing.T) {
	for tag, want := range map[string]bool{
		tagA: true, "run7.": false, tagA + "a": false, strings.ToUpper(tagA): false, "run7.aaaaaaaaaaaaaaaaaaaaaaag": false, "": false,
	} {
		if got := isMark("run7", tag, tag+"@k.example"); got != want {
			t.Errorf("%q: %t", tag, got)
		}
	}
	if isMark("run7", tagA, tagA+"@") || isMark("run7", tagA, tagA+"@k example") || isMark("", ".aaaaaaaaaaaaaaaaaaaaaaaa", ".aaaaaaaaaaaaaaaaaaaaaaaa@k.example") {
		t.Error("something else is a mark")
	}
}

// The list of a connection is the agent's own; which domains are inside is the run's to say.
func TestMaySend(t *testing.T) {
	w, _ := connectionsFor(t).Connection("in")
	for domain, want := range map[string]bool{"k.example": true, "other.example": false} {
		if err := maySend(w, address.MustParse("ada@k.example"), []string{domain}); (err == nil) != want {
			t.Errorf("%s: %v", domain, err)
		}
	}
}

// Whatever a row of the store asks for: what is sent of it has the marks of its case, bounds, and no
// header that a text has brought in.
func FuzzDraft(f *testing.F) {
	f.Add([]byte(`{"from": "ada@k.example", "by": "bo@k.example", "sender": true, "to": "g@k.example", "replyTo": "x@k.example", "subject": "s", "text": "t", "inReplyTo": "a@b", "automatic": true, "invitation": true, "attachment": 100}`))
	f.Add([]byte(`{"from": "ada@k.example", "to": "g@k.example", "subject": "a\r\nBcc: all@k.example\r\n\r\nx", "inReplyTo": "a>\r\nBcc: <b"}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var d Draft
		if json.Unmarshal(data, &d) != nil || d.check() != nil {
			return
		}
		raw, err := d.Message(idA, tagA, began)
		if err != nil {
			return
		}
		if most := 4*len(data) + 2*d.Attachment + 20_000; len(raw) > most {
			t.Errorf("%d bytes of a draft make %d", len(data), len(raw))
		}
		m, err := read.Parse(raw)
		if err != nil || m.Tag != tagA || m.ID != idA || len(m.From) != 1 {
			t.Errorf("%q: %v, %+v", raw, err, m)
		}
		head, _, _ := bytes.Cut(raw, []byte("\r\n\r\n"))
		for line := range bytes.Lines(head) {
			name, _, _ := bytes.Cut(line, []byte(":"))
			if line[0] != ' ' && line[0] != '\t' && strings.EqualFold(string(name), "Bcc") {
				t.Errorf("a text has brought in %q", line)
			}
		}
	})
}
