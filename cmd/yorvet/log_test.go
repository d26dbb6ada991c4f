package main

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/demo"
)

// What the stand-in logs tells of each mailbox what a probe saw in it.
func TestLogTellsWhatTheProbeSaw(t *testing.T) {
	t.Parallel()
	dir := standIn(t)
	state := []string{"XDG_STATE_HOME=" + filepath.Join(dir, "state")}
	probed := run(t, dir, state, []string{"probe", "sailing-notices", "lost-property", "charter", "--send", "--json", "--connections", "connections.yaml"})
	if probed.code > 1 {
		t.Fatal(probed.stderr)
	}
	var probe struct {
		Cases   []struct{ Case, From, To, Seen string }
		Members []struct{ Case, Address, Seen string }
	}
	var log struct {
		List []struct {
			From       string
			To         []string
			Recipients []struct{ Address, Outcome string }
		}
		Estate struct{ Compared, Differ int }
		Read   struct{ Unknown int }
	}
	if err := json.Unmarshal([]byte(probed.stdout), &probe); err != nil {
		t.Fatal(err)
	}
	asked := run(t, dir, nil, []string{"log", "standin.log", "--json"})
	if err := json.Unmarshal([]byte(asked.stdout), &log); err != nil {
		t.Fatal(err, asked.stderr)
	}
	if log.Read.Unknown != 0 || log.Estate.Compared < 20 || log.Estate.Differ != 0 {
		t.Errorf("%d lines are unknown; %d messages of %d compared, %d differ", log.Read.Unknown, log.Estate.Compared, len(probe.Cases), log.Estate.Differ)
	}
	// How many messages each address got from each sender, by both.
	type key struct{ from, address string }
	seen, logged := map[key]int{}, map[key]int{}
	from := map[string]string{}
	for _, c := range probe.Cases {
		from[c.Case] = c.From
	}
	for _, m := range probe.Members {
		if m.Seen == "inbox" {
			seen[key{from[m.Case], m.Address}]++
		}
	}
	for _, message := range log.List {
		for _, r := range message.Recipients {
			if r.Outcome == "delivered" && !strings.HasPrefix(message.From, "<") {
				logged[key{message.From, r.Address}]++
			}
		}
	}
	compared := 0
	for k, n := range seen {
		if compared += n; logged[k] != n {
			t.Errorf("%s got %d messages from %s by the log, %d by the probe", k.address, logged[k], k.from, n)
		}
	}
	if compared < 50 {
		t.Errorf("only %d copies were compared", compared)
	}
}

// Each owner is sent their own page, once it is asked for, and nobody anything before.
func TestReportMail(t *testing.T) {
	t.Parallel()
	dir := standIn(t)
	state := []string{"XDG_STATE_HOME=" + filepath.Join(dir, "state")}
	type answer struct {
		Sent    bool
		Failed  int
		Letters []struct {
			To     string
			Groups []string
			Taken  bool
		}
	}
	before, err := os.ReadFile(filepath.Join(dir, "standin.log"))
	if err != nil {
		t.Fatal(err)
	}
	ask := func(args ...string) (a answer) {
		t.Helper()
		r := run(t, dir, state, append([]string{"report", "--mail", "--as", "tam.weld", "--connections", "connections.yaml", "--json"}, args...))
		if r.code != 0 {
			t.Fatal(r.code, r.stderr)
		}
		if err := json.Unmarshal([]byte(r.stdout), &a); err != nil {
			t.Fatal(err)
		}
		return a
	}
	plan := ask()
	if after, _ := os.ReadFile(filepath.Join(dir, "standin.log")); plan.Sent || len(plan.Letters) < 10 || !bytes.Equal(after, before) {
		t.Fatalf("sent %t, %d letters; something was sent: %t", plan.Sent, len(plan.Letters), !bytes.Equal(after, before))
	}
	sent := ask("--send", "--for", "ines.maro")
	if !sent.Sent || sent.Failed != 0 || len(sent.Letters) != 1 || !sent.Letters[0].Taken || len(sent.Letters[0].Groups) != 2 {
		t.Fatalf("%+v", sent)
	}
	r := run(t, dir, nil, []string{"log", "standin.log", "--from", "tam.weld", "--json"})
	if !strings.Contains(r.stdout, `"ines.maro@kelpmere.example"`) || !strings.Contains(r.stdout, `"delivered": 1`) {
		t.Errorf("the letter is not in the log: %s", r.stdout)
	}
}

// A page for one owner says nothing of groups that are not theirs, and no page overwrites
// another unasked.
func TestReportFor(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	state := []string{"XDG_STATE_HOME=" + filepath.Join(dir, "state")}
	if r := run(t, dir, nil, []string{"demo", "--write-only", "ferries"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	dir = filepath.Join(dir, "ferries")
	for _, one := range []struct {
		of       string
		has, not []string
	}{
		{"lottie.bray@kelpmere-cargo.example", []string{"cargo@kelpmere-cargo.example"}, []string{"works-council", "groups.yaml"}},
		{"charter", []string{"charter@kelpmere.example", "mina.skerry@"}, []string{"works-council", "lost-property@", "groups.yaml"}},
	} {
		if r := run(t, dir, state, []string{"report", "--for", one.of, "-o", "own.html", "--force"}); r.code != 0 {
			t.Fatal(r.stderr)
		}
		page, err := os.ReadFile(filepath.Join(dir, "own.html"))
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range one.has {
			if !bytes.Contains(page, []byte(text)) {
				t.Errorf("the page for %s has no %s", one.of, text)
			}
		}
		for _, text := range one.not {
			if bytes.Contains(page, []byte(text)) {
				t.Errorf("the page for %s has %s", one.of, text)
			}
		}
	}
	if r := run(t, dir, state, []string{"report", "-o", "own.html"}); r.code != 2 || !strings.Contains(r.stderr, "--force") {
		t.Errorf("exit %d: %s", r.code, r.stderr)
	}
	for _, args := range [][]string{{"--for", "nobody@else.example"}, {"--send"}, {"--mail"}, {"what"}, {"--run", "none"}, {"--expect", "none"}} {
		if r := run(t, dir, state, append([]string{"report", "-o", "x.html"}, args...)); r.code != 2 || r.stderr == "" {
			t.Errorf("report %s: exit %d: %s", args, r.code, r.stderr)
		}
	}
}

// Of a person it is said what became of each message for them, and which of their groups' did not
// come to them.
func TestLogOfPerson(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	want(t, dir, "log mail.log --to wren.tolley", 0, "3 messages to wren.tolley@kelpmere.example and their groups",
		"bounced, 1 without a delivery to them", "refused: 554 5.7.1")
	said := want(t, dir, "log mail.log --to bea.lantern@volunteers.example", 0, "without a delivery to them", "10 delivered, 2 bounced",
		"though the estate says they get it (1)", "Messages to groups: 1 of 2 otherwise than the estate says")
	if strings.Contains(said, "delivered to all") || strings.Contains(said, "ivo.lark") {
		t.Errorf("it tells of others:\n%s", said)
	}
	var log struct {
		Person struct {
			Address  string
			Outcomes map[string]int
			None     int
		}
	}
	if r := run(t, dir, nil, []string{"log", "mail.log", "--to", "wren.tolley", "--json"}); json.Unmarshal([]byte(r.stdout), &log) != nil ||
		log.Person.Address != "wren.tolley@kelpmere.example" || log.Person.Outcomes["bounced"] != 2 || log.Person.None != 1 {
		t.Errorf("%+v %s", log, r.stderr)
	}
	want(t, dir, "log mail.log --to old.timer@kelpmere.example", 0, "No message to old.timer@kelpmere.example")
}
