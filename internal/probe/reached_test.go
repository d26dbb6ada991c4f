package probe

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/store"
)

// Of a mailbox that was not gone through it is said why: nobody opens it, it was not reached in
// time, or the run was interrupted. None of these is "not seen" or silence.
func TestNotReached(t *testing.T) {
	path := filepath.Join(t.TempDir(), "connections.yaml")
	const text = "yorvet-connections: 1\nsend:\n  - {name: out, server: \"127.0.0.1:1\", tls: none, from: [anyone]}\nlook:\n" +
		"  - {name: ours, server: \"127.0.0.1:1\", tls: none, for: [anyone], login: {user: x, password: {environment: X}}}\n" +
		"limits: {patience: 90s, connections: 7}\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := connections.Load(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	r := sample.Load(t, pontoon)
	at := func(seconds int) time.Time { return time.Unix(int64(1_800_000_000+seconds), 0) }
	for name, c := range map[string]struct {
		state          string
		connection     string // of ada's mailbox
		looked         bool   // into ada's mailbox
		through, other bool   // ada's was gone through; bo's was, by the same connection
		want           string // of ada
		why            string
	}{
		"gone through":             {store.StateEnded, "ours", true, true, true, SeenNot, ""},
		"looked into, and no more": {store.StateEnded, "ours", true, false, true, NotLookedAt, "while there was patience (1m30s)"},
		"not reached":              {store.StateEnded, "ours", false, false, false, NotLookedAt, "it was not reached in time: limits: connections (7)"},
		"not reached elsewhere":    {store.StateEnded, "theirs", false, false, true, NotLookedAt, "it was not reached in time"},
		"opened by nobody":         {store.StateEnded, "theirs", false, false, false, NotLookedAt, "nobody who works on the run opens it"},
		"interrupted":              {store.StateStopped, "ours", true, false, true, NotLookedAt, "interrupted"},
		"interrupted before it":    {store.StateStopped, "ours", false, false, false, NotLookedAt, "interrupted"},
	} {
		t.Run(name, func(t *testing.T) {
			group, _ := r.Estate().Find(address.MustParse("pair@kelp.example"))
			p := &RunPlan{resolver: r, connections: l, Cases: []Case{{Group: group, From: address.MustParse("eli@kelp.example"),
				To: address.MustParse("pair@kelp.example")}}}
			record := &store.Record{Run: store.Run{State: c.state, Closing: at(10)}}
			record.Cases = []store.Case{{State: store.Sent, Reply: []byte(`{"Stage":"message","Code":250}`)}}
			look := func(account string, looked, through bool) {
				one := store.Look{Account: account, Connection: c.connection}
				if looked {
					one.Looked = at(5)
				}
				if through {
					one.Through = at(11)
				}
				record.Looks = append(record.Looks, one)
			}
			look("ada@kelp.example", c.looked, c.through)
			look("bo@kelp.example", c.other, c.other && c.state == store.StateEnded)
			run, err := p.run(record)
			if err != nil {
				t.Fatal(err)
			}
			j := Judge(run)
			if seen := j.Cases[0].Seen; seen == Silence && !c.through && !c.other || c.state == store.StateStopped && seen != NotLookedAt {
				t.Errorf("the message is told as %s", seen)
			}
			told := false
			for _, m := range j.Members {
				told = told || m.Address == "ada@kelp.example"
				if m.Address == "ada@kelp.example" && (m.Seen != c.want || !strings.Contains(m.Why, c.why) || m.Unlooked != (c.want == NotLookedAt)) {
					t.Errorf("%+v, want %s (%s)", m, c.want, c.why)
				}
			}
			if !told {
				t.Error("nothing is said of ada")
			}
		})
	}
}
