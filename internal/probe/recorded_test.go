package probe_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/store"
)

// berth has an open list, one that holds, and one that refuses.
const berth = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example}
  - {address: cy@kelp.example}
  - {address: dee@kelp.example, mailbox: full}
  - {address: eli@kelp.example}
groups:
  - address: open@kelp.example
    gate: [admit anyone]
    owners: [ada@kelp.example]
    members: [ada@kelp.example, bo@kelp.example, cy@kelp.example, dee@kelp.example]
  - {address: held@kelp.example, gate: [hold anyone], owners: [bo@kelp.example], members: [cy@kelp.example, eli@kelp.example]}
  - {address: shut@kelp.example, gate: [refuse anyone], owners: [bo@kelp.example], members: [cy@kelp.example]}
`

func berthed(t *testing.T) (*harness, *resolve.Resolver) {
	t.Helper()
	r := sample.Load(t, berth)
	return serve(t, r.Estate(), nil), r
}

// kept is a run of the store.
func (h *harness) kept(t *testing.T, r *resolve.Resolver, name string) *probe.Kept {
	t.Helper()
	k, err := probe.Load(t.Context(), h.store, name, h.connections, nil, r)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func at(t *testing.T, r *resolve.Resolver, text string) estate.ID {
	t.Helper()
	id, ok := r.Estate().Find(address.MustParse(text))
	if !ok {
		t.Fatalf("there is no %s", text)
	}
	return id
}

// post sends a message as somebody.
func (h *harness) post(t *testing.T, m compose.Message) {
	t.Helper()
	m.Date = clock.Now()
	raw, err := m.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	way, ok := h.connections.Sender(m.From, m.From.Domain() == "kelp.example", false)
	if !ok {
		t.Fatalf("no way to send as %s", m.From)
	}
	session := send.NewSession(way.As(m.From))
	defer session.Close()
	envelope := send.Envelope{From: m.From.String(), To: m.To.String()}
	if reply := session.Send(t.Context(), envelope, raw); !reply.Accepted() {
		t.Fatalf("%s to %s: %s", m.From, m.To, reply)
	}
	h.service.Settle(time.Minute)
}

// states are the members of a call by what is known of them.
func states(r *resolve.Resolver, c *probe.Call) map[string]string {
	m := map[string]string{}
	for _, one := range c.Members {
		m[r.Estate().Address(one.Person).String()] = one.State
	}
	return m
}

// A roll call asks every member except the caller, and a later look counts who has
// answered since; a program's answer is none.
func TestRollCall(t *testing.T) {
	h, r := berthed(t)
	ada, open := address.MustParse("ada@kelp.example"), at(t, r, "open@kelp.example")
	call, err := probe.StartCall(t.Context(), r, h.connections, open, ada, h.options(), "")
	if err != nil {
		t.Fatal(err)
	}
	if len(call.Run) < 8 || call.Group != open || call.Caller != ada || !strings.HasPrefix(call.Reply, "250") || len(call.Members) != 3 {
		t.Errorf("%+v", call)
	}
	kept := h.kept(t, r, call.Run)
	run, err := kept.Run()
	if err != nil || !run.Replies[0].Accepted() {
		t.Fatalf("%v, %+v", err, run)
	}
	tag := run.Plan.Cases[0].Tag
	answer := func(from, subject, auto string) compose.Message {
		m := compose.Message{From: address.MustParse(from), To: ada, ID: from + ".x@kelp.example", Subject: subject, Text: "yes\n"}
		m.ID = strings.ReplaceAll(from, "@", ".") + "@kelp.example"
		if auto != "" {
			m.Extra = []compose.Field{{Name: "Auto-Submitted", Value: auto}}
		}
		return m
	}
	h.post(t, answer("bo@kelp.example", "Re: Please answer ["+tag+"]", ""))
	h.post(t, answer("cy@kelp.example", "Away: ["+tag+"]", "auto-replied"))
	h.post(t, answer("guest@holiday.example", "Re: Please answer ["+tag+"]", ""))
	h.post(t, answer("eli@kelp.example", "something else", ""))
	later, err := kept.LookCall(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{"bo@kelp.example": probe.Answered, "cy@kelp.example": probe.NotYet, "dee@kelp.example": probe.Bounced}
	got := states(r, later)
	if !maps.Equal(got, want) || !slices.Equal(later.Others, []string{"guest@holiday.example"}) {
		t.Errorf("%v, %v; want %v", got, later.Others, want)
	}
	if later.Run != call.Run || later.Caller != ada || later.Group != open || later.Reply != call.Reply {
		t.Errorf("%+v is another call than %+v", later, call)
	}
}

// What cannot be asked is not sent, and says why.
func TestRollCallErrors(t *testing.T) {
	t.Parallel()
	h, r := berthed(t)
	open, shut := at(t, r, "open@kelp.example"), at(t, r, "shut@kelp.example")
	start := func(group estate.ID, caller string) string {
		_, err := probe.StartCall(t.Context(), r, h.connections, group, address.MustParse(caller), h.options(), "")
		return fmt.Sprint(err)
	}
	if err := start(shut, "ada@kelp.example"); !strings.Contains(err, "not taken: 550") {
		t.Error(err)
	}
	h.connections.Limits.People = 2
	if err := start(open, "ada@kelp.example"); !strings.Contains(err, "3 people would be asked, and the connections allow 2") {
		t.Error(err)
	}
	h.connections.Limits.People = 3
	if err := start(open, "ada@kelp.example"); err != "<nil>" {
		t.Errorf("as many as are allowed: %s", err)
	}
	if err := start(open, "ada@elsewhere.example"); !strings.Contains(err, "4 people would be asked, and the connections allow 3") {
		t.Error(err)
	}
	h.connections.Limits.People = 100
	run, err := probe.Start(t.Context(), probe.NewPlan(r, h.connections, probe.Choice{Groups: []estate.ID{open}, Sample: 1}), h.options())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.kept(t, r, run.Plan.Run).LookCall(t.Context()); err == nil || err.Error() != "this run is no roll call" {
		t.Error(err)
	}
}

// What waits is found in the mailbox of who may release it; an answer decides it,
// and is asked for once.
func TestHeld(t *testing.T) {
	h, r := berthed(t)
	bo, held := address.MustParse("bo@kelp.example"), at(t, r, "held@kelp.example")
	waiting := func(approver string) []probe.Request {
		t.Helper()
		list, err := probe.Requests(t.Context(), r, h.connections, address.MustParse(approver))
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	if list := waiting("bo@kelp.example"); len(list) != 0 {
		t.Fatalf("before anything was sent: %+v", list)
	}
	for _, subject := range []string{"The first", "The second"} {
		h.post(t, compose.Message{From: address.MustParse("ada@kelp.example"), To: address.MustParse("held@kelp.example"),
			ID: strings.ReplaceAll(subject, " ", "") + "@kelp.example", Subject: subject, Text: "Hello.\n"})
	}
	list := waiting("bo@kelp.example")
	if len(list) != 2 || list[0].Number != 1 || list[1].Number != 2 || list[1].Group != held || list[0].Approver != bo || list[0].Text == "" {
		t.Fatalf("%+v", list)
	}
	if other := waiting("cy@kelp.example"); len(other) != 0 {
		t.Errorf("a member who releases nothing is asked: %+v", other)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	if list, err := probe.Requests(ended, r, h.connections, bo); err == nil {
		t.Errorf("ended, it still finds %+v", list)
	}
	for i, admit := range []bool{true, false} {
		if left := waiting("bo@kelp.example"); len(left) != 2-i || left[0].Number != list[i].Number {
			t.Fatalf("with %d decided: %+v", i, left)
		}
		if err := list[i].Decide(t.Context(), r, h.connections, admit); err != nil {
			t.Fatal(err)
		}
		h.service.Settle(time.Minute)
	}
	if left := waiting("bo@kelp.example"); len(left) != 0 {
		t.Errorf("what is decided still waits: %+v", left)
	}
	released := 0
	for _, subject := range []string{"The first", "The second"} {
		if slices.ContainsFunc(h.subjects(t, "cy@kelp.example"), func(s string) bool { return strings.Contains(s, subject) }) {
			released++
			if subject != "The first" {
				t.Errorf("%q is refused, and came", subject)
			}
		}
	}
	if released != 1 {
		t.Errorf("%d of 2 came, want the one that was admitted", released)
	}
}

// A run that is over is read, tidied and gone on with, and nothing is sent twice.
func TestRecordedRun(t *testing.T) {
	t.Parallel()
	h, r := berthed(t)
	options := h.options()
	most := 0
	options.Progress = func(s store.Progress) {
		if s.Missing > s.Checks || s.Waiting+s.Sending > s.Cases {
			t.Errorf("more is to be done than there is: %+v", s)
		}
		most = max(most, s.Checks)
	}
	choice := probe.Choice{Groups: []estate.ID{at(t, r, "open@kelp.example")}, Kinds: []probe.Kind{probe.Member}}
	plan := probe.NewPlan(r, h.connections, choice)
	run, err := probe.Start(t.Context(), plan, options)
	if err != nil {
		t.Fatal(err)
	}
	if run.Broken || len(run.Sightings) < 2 || most < 3 {
		t.Fatalf("%+v, %d to be seen", run, most)
	}
	if _, err := probe.Start(t.Context(), plan, options); !errors.Is(err, store.ErrExists) {
		t.Errorf("a run of the same name: %v", err)
	}
	again, err := h.kept(t, r, plan.Run).Run()
	if err != nil || again.Broken || len(again.Sightings) != len(run.Sightings) || again.Replies[0].String() != run.Replies[0].String() {
		t.Fatalf("%v: read, it is %+v, and was %+v", err, again, run)
	}
	j := probe.Judge(run)
	folder := filepath.Join(t.TempDir(), "wrong")
	if kept, missing, err := probe.KeepEvidence(t.Context(), j, folder); err != nil || kept+missing+len(files(t, folder)) != 0 {
		t.Errorf("%v: %v of what was as predicted", err, files(t, folder))
	}
	j.Members[0].AsPredicted = false
	kept, missing, err := probe.KeepEvidence(t.Context(), j, folder)
	evidence := files(t, folder)
	if err != nil || missing != 0 || kept != len(run.Sightings) || len(evidence) != kept || !slices.ContainsFunc(evidence, func(s string) bool {
		return strings.HasPrefix(s, "case-1-bo@kelp.example-inbox-")
	}) {
		t.Errorf("%v: %v is kept of %d sightings, %d missing", err, evidence, len(run.Sightings), missing)
	}
	before := len(h.subjects(t, "bo@kelp.example"))
	resumed, err := h.kept(t, r, plan.Run).Resume(t.Context(), h.options())
	if err != nil || resumed.Broken || len(resumed.Sightings) != len(run.Sightings) {
		t.Fatalf("%v: %+v", err, resumed)
	}
	if after := len(h.subjects(t, "bo@kelp.example")); after != before {
		t.Errorf("gone on with, %d messages became %d", before, after)
	}
	if n, err := probe.Tidy(t.Context(), resumed, nil); err != nil || n != len(run.Sightings) {
		t.Errorf("%v: %d removed of %d", err, n, len(run.Sightings))
	}
	if left := h.subjects(t, "bo@kelp.example"); len(left) != before-1 {
		t.Errorf("tidied, %v are left of %d", left, before)
	}
	if kept, missing, err := probe.KeepEvidence(t.Context(), j, t.TempDir()); err != nil || kept != 0 || missing != len(run.Sightings) {
		t.Errorf("%v: %d kept of what was removed, %d missing", err, kept, missing)
	}
}

// A run keeps what was predicted when it was planned, with the estate of then.
func TestRunKeepsItsEstate(t *testing.T) {
	t.Parallel()
	h, r := berthed(t)
	path := filepath.Join(t.TempDir(), "estate.yaml")
	if err := os.WriteFile(path, []byte(berth), 0o600); err != nil {
		t.Fatal(err)
	}
	_, taken, err := estatefile.Take(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	options := h.options()
	options.Estate = probe.Evaluated{Digest: taken.Digest, Body: taken.Body, Path: path}
	choice := probe.Choice{Groups: []estate.ID{at(t, r, "open@kelp.example")}, Kinds: []probe.Kind{probe.Member}}
	run, err := probe.Start(t.Context(), probe.NewPlan(r, h.connections, choice), options)
	if err != nil {
		t.Fatal(err)
	}
	k, err := probe.Load(t.Context(), h.store, run.Plan.Run, h.connections, estatefile.Restore, nil)
	if err != nil {
		t.Fatal(err)
	}
	later, err := k.Run()
	if err != nil {
		t.Fatal(err)
	}
	one, other := probe.Judge(run), probe.Judge(later)
	if fmt.Sprintf("%+v", one.Members) != fmt.Sprintf("%+v", other.Members) || one.Cases[0].Predicted != other.Cases[0].Predicted {
		t.Errorf("judged later\n%+v\nand then\n%+v", other.Members, one.Members)
	}
}

// files are the names of what is in a folder, without hidden files.
func files(t *testing.T, dir string) []string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			list = append(list, e.Name())
		}
	}
	return list
}

// subjects are those of all messages in somebody's mailbox.
func (h *harness) subjects(t *testing.T, box string) []string {
	t.Helper()
	account, ok := h.connections.Account(address.MustParse(box), true)
	if !ok {
		t.Fatalf("no way into the mailbox of %s", box)
	}
	report := mailbox.Look(t.Context(), account, mailbox.Query{Wants: func(*read.Message) bool { return true }})
	if report.Err != nil {
		t.Error(report.Err)
	}
	var list []string
	for _, item := range report.Items {
		list = append(list, item.Message.Subject)
	}
	return list
}
