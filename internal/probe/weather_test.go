package probe_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/standin"
)

// otherwise makes connections of a harness that are written otherwise.
func (h *harness) otherwise(t *testing.T, replace ...string) *connections.Connections {
	t.Helper()
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	for name, text := range map[string]string{"secret": "tide-7-secret\n", "wrong": "ebb-7-secret\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	text := h.service.Ready().ConnectionsFile(secret, []string{"guest@holiday.example"}, limits)
	look := strings.Index(text, "look:")
	for i := 0; i+2 < len(replace); i += 3 {
		part := text[:look]
		if replace[i] == "look" {
			part = text[look:]
		}
		if !strings.Contains(part, replace[i+1]) {
			t.Fatalf("%q is not in %s of the connections:\n%s", replace[i+1], replace[i], text)
		}
		changed := strings.ReplaceAll(part, replace[i+1], strings.ReplaceAll(replace[i+2], "DIR", dir))
		text = strings.Replace(text, part, changed, 1)
		look = strings.Index(text, "look:")
	}
	path := filepath.Join(dir, "connections.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := connections.Load(t.Context(), path)
	if err == nil {
		err = l.Unlock(t.Context(), false, func(string) {})
	}
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// In bad weather it is told what was seen and no more, and the exit code is not that of
// fair weather.
func TestBadWeather(t *testing.T) {
	fault := func(f ...standin.Fault) func(*standin.Options) {
		return func(o *standin.Options) { o.Faults = &standin.Faults{List: f} }
	}
	for _, row := range []struct {
		name    string
		change  func(*standin.Options)
		replace []string
		exit    int
		verdict string // of the message
		told    string // a word that is told of some mailbox
		hasty   bool   // nothing comes, however long it is waited for
		blind   bool   // it is sent though no mailbox opens
		known   bool   // the server does not know the group at first
	}{
		{name: "fair", exit: 0, verdict: "admit"},
		{name: "no mailbox opens", replace: []string{"look", "user: keeper", "user: nobody"}, exit: 3},
		{name: "no mailbox lets anybody in", replace: []string{"look", "user: keeper", "user: nobody"}, exit: 3, verdict: probe.NotLookedAt, told: probe.NotLookedAt, blind: true},
		{name: "one mailbox has no connection", replace: []string{"look", "for: [anyone]", "for: [ada@kelp.example, bo@kelp.example, dee@kelp.example, open@kelp.example]"},
			exit: 1, verdict: "admit", told: probe.NotLookedAt},
		{name: "no login sends", replace: []string{"send", "/secret", "/wrong"}, exit: 3},
		{name: "nobody listens for messages", replace: []string{"send", "127.0.0.1:", "127.0.0.2:"}, exit: 3},
		{name: "nobody listens for mailboxes", replace: []string{"look", "127.0.0.1:", "127.0.0.2:"}, hasty: true, exit: 3, verdict: probe.NotLookedAt, told: probe.NotLookedAt, blind: true},
		{name: "the mailboxes are gone", change: fault(standin.Fault{Do: "imap-gone"}), hasty: true, exit: 3, verdict: probe.NotLookedAt, told: probe.NotLookedAt, blind: true},
		{name: "the mailboxes are gone at first", change: fault(standin.Fault{Do: "imap-gone", For: 2 * time.Second}), exit: 0, verdict: "admit", blind: true},
		{name: "the certificate is not trusted", change: fault(standin.Fault{Do: "certificate"}), exit: 3},
		{name: "put off for a while", change: fault(standin.Fault{Do: "later", By: 1200 * time.Millisecond}), exit: 0, verdict: "admit"},
		{name: "put off for good", change: fault(standin.Fault{Do: "later", By: time.Hour}), hasty: true, exit: 1, verdict: probe.Deferred},
		{name: "refused", change: fault(standin.Fault{Do: "refuse", To: "open@kelp.example"}), exit: 1, verdict: "refuse"},
		{name: "a group that is not there yet", change: fault(standin.Fault{Do: "refuse", To: "open@kelp.example", Times: 2, Value: "5.1.1 user unknown"}),
			exit: 0, verdict: "admit", known: true},
		{name: "a group that is not there", change: func(o *standin.Options) {
			o.Faults = &standin.Faults{Starts: map[string]time.Duration{"open@kelp.example": time.Hour}}
		},
			hasty: true, exit: 1, verdict: "refuse"},
		{name: "refused everywhere", change: fault(standin.Fault{Do: "refuse"}), exit: 3, verdict: probe.NotSent},
		{name: "cut off", change: fault(standin.Fault{Do: "cut", Bytes: 300, Times: 1}), exit: 0, verdict: "admit"},
		{name: "slow", change: fault(standin.Fault{Do: "slow", By: 50 * time.Millisecond}), exit: 0, verdict: "admit"},
		{name: "late", change: fault(standin.Fault{Do: "delay", To: "cy@kelp.example", By: time.Hour}), hasty: true, exit: 1, verdict: "admit", told: probe.SeenNot},
		{name: "lost", change: fault(standin.Fault{Do: "lose", To: "cy@kelp.example"}), exit: 1, verdict: "admit", told: probe.SeenNot},
		{name: "twice", change: fault(standin.Fault{Do: "duplicate", To: "cy@kelp.example"}), exit: 1, verdict: "admit", told: probe.SeenTwice},
		{name: "taken for junk", change: fault(standin.Fault{Do: "junk", To: "cy@kelp.example"}), exit: 1, verdict: "admit", told: probe.SeenJunk},
		{name: "rewritten", change: fault(standin.Fault{Do: "rewrite", Field: "Reply-To", Value: "<else@kelp.example>"}), exit: 1, verdict: "admit"},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			r := sample.Load(t, berth)
			h := serve(t, r.Estate(), row.change)
			if row.hasty {
				row.replace = append(row.replace, "look", "patience: 60s", "patience: 4s")
				h.settles = time.Second
			}
			l := h.otherwise(t, row.replace...)
			plan := probe.NewPlan(r, l, probe.Choice{Groups: []estate.ID{at(t, r, "open@kelp.example")}, Kinds: []probe.Kind{probe.Member}})
			options := h.options()
			options.Blind = func() bool { return row.blind }
			run, err := probe.Start(context.Background(), plan, options)
			if unreachable := (*probe.UnreachableError)(nil); errors.As(err, &unreachable) && row.exit == 3 && row.verdict == "" {
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			j := probe.Judge(run)
			_, not, unlooked := j.Counts()
			exit := 0
			switch {
			case j.Nothing():
				exit = 3
			case not > 0 || unlooked > 0 || run.Broken:
				exit = 1
			}
			if reply := run.Replies[0]; row.known != (reply.KnownAfter > 0) {
				t.Errorf("the server did not know the group for %.1f s", reply.KnownAfter)
			}
			told := row.told == ""
			for _, m := range j.Members {
				told = told || m.Seen == row.told
			}
			if exit != row.exit || j.Cases[0].Seen != row.verdict || !told {
				t.Errorf("exit %d, seen %s, want %d, %s", exit, j.Cases[0].Seen, row.exit, row.verdict)
				report(t, j, false)
			}
			if (unlooked > 0) != (row.verdict == probe.NotLookedAt || row.told == probe.NotLookedAt || row.verdict == probe.Deferred ||
				row.verdict == probe.NotSent) {
				t.Errorf("%d are not looked at", unlooked)
			}
		})
	}
}

// Who has to prove first that they may write in a group's name is told whether the code came.
func TestCodes(t *testing.T) {
	t.Parallel()
	const text = `yorvet: 1
domains: [kelp.example]
code-sender: codes@post.example
people: [{address: ada@kelp.example}, {address: bo@kelp.example}]
groups:
  - address: proof@kelp.example
    kind: forum
    gate: [admit codes@post.example, refuse automatic, admit anyone]
    owners: [ada@kelp.example]
    members: [ada@kelp.example]
    send-as: [as ada@kelp.example]
    send-as-proof: mailed-code
`
	for served, want := range map[string]string{text: probe.CodeMailed, strings.Replace(text, "admit codes@post.example, ", "", 1): probe.CodeMissing} {
		r := sample.Load(t, text)
		h := serve(t, sample.Load(t, served).Estate(), nil)
		run, err := probe.Start(t.Context(), probe.NewSendAsPlan(r, h.connections, at(t, r, "proof@kelp.example"), ""), h.options())
		if err != nil {
			t.Fatal(err)
		}
		j := probe.Judge(run)
		if c := j.Cases[0]; c.Seen != want || c.AsPredicted != (want == probe.CodeMailed) || c.Unlooked {
			t.Errorf("%+v, want %s", c, want)
		}
		if c := j.Cases[1]; c.Predicted != estate.Refuse || !c.AsPredicted {
			t.Errorf("who may not: %+v", c)
		}
	}
}
