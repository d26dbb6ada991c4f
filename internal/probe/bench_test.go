package probe_test

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/freeport"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/sample"
)

const (
	benchSessions = 10
	benchMessages = 5000
)

// sink starts Postfix's smtp-sink and returns where it listens.
func sink(b *testing.B) string {
	b.Helper()
	path, err := exec.LookPath("smtp-sink")
	if err != nil {
		b.Skip("smtp-sink is not installed here (Debian: postfix)")
	}
	server := fmt.Sprint("127.0.0.1:", freeport.On(b))
	cmd := exec.Command(path, "-u", "postfix", server, "1000")
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	time.Sleep(300 * time.Millisecond)
	return server
}

// source sends with Postfix's smtp-source, over connections that are used again,
// and returns the messages a second.
func source(b *testing.B, server string) float64 {
	b.Helper()
	start := clock.Now()
	out, err := exec.Command("smtp-source", "-d", "-s", fmt.Sprint(benchSessions), "-m", fmt.Sprint(benchMessages), "-l", "1000", "-f", "guest@holiday.example", "-t", "all@kelp.example", server).CombinedOutput()
	if err != nil {
		b.Fatalf("smtp-source: %v: %s", err, out)
	}
	return benchMessages / clock.Since(start).Seconds()
}

// ours sends as many with package send, and returns the messages a second.
func ours(b *testing.B, server string) float64 {
	b.Helper()
	raw := draft(b, 0)
	start := clock.Now()
	var left atomic.Int64
	left.Store(benchMessages)
	var done sync.WaitGroup
	for range benchSessions {
		done.Go(func() {
			s := send.NewSession(send.Route{Endpoint: endpoint.Endpoint{Server: server, TLS: endpoint.Plain}, Wait: time.Minute})
			defer s.Close()
			for left.Add(-1) >= 0 {
				if reply := s.Send(context.Background(), send.Envelope{From: "guest@holiday.example", To: "all@kelp.example"}, raw); !reply.Accepted() {
					b.Error(reply)
					return
				}
			}
		})
	}
	done.Wait()
	return benchMessages / clock.Since(start).Seconds()
}

func draft(b testing.TB, n int) []byte {
	b.Helper()
	raw, err := compose.Message{From: address.MustParse("guest@holiday.example"), To: address.MustParse("all@kelp.example"), Subject: "Rate", Date: clock.Now(),
		ID: fmt.Sprintf("%d.%d@holiday.example", clock.Now().UnixNano(), n), Text: strings.Repeat("A line of a message that is about as long as any.\n", 14)}.Bytes()
	if err != nil {
		b.Fatal(err)
	}
	return raw
}

// BenchmarkSend sets the sender beside smtp-source, both into smtp-sink with as
// many sessions: x-source is the median ratio of their rates.
func BenchmarkSend(b *testing.B) {
	server := sink(b)
	var ratios []float64
	for b.Loop() {
		theirs, mine := source(b, server), ours(b, server)
		b.ReportMetric(mine, "msg/s")
		ratios = append(ratios, mine/theirs)
	}
	slices.Sort(ratios)
	b.ReportMetric(ratios[len(ratios)/2], "x-source")
}

// BenchmarkStandin sets the stand-in, in memory, beside smtp-sink, both fed by
// smtp-source: x-sink is the median ratio of their rates.
func BenchmarkStandin(b *testing.B) {
	sinkAt := sink(b)
	e := sample.Load(b, "yorvet: 1\ndomains: [kelp.example]\npeople:\n  - {address: ada@kelp.example}\ngroups:\n  - {address: all@kelp.example, gate: [admit anyone], members: [ada@kelp.example]}\n").Estate()
	var ratios []float64
	for b.Loop() {
		h := serve(b, e, nil)
		theirs, mine := source(b, sinkAt), source(b, h.service.Ready().Outside)
		b.ReportMetric(mine, "msg/s")
		ratios = append(ratios, mine/theirs)
		h.service.Close()
	}
	slices.Sort(ratios)
	b.ReportMetric(ratios[len(ratios)/2], "x-sink")
}

// BenchmarkWatch looks for one message in 1,000 mailboxes: seconds is how long after it was
// sent it was seen in the last of them, in-all with all logins tried before, and all
// mailboxes gone through after.
func BenchmarkWatch(b *testing.B) {
	const members = 1000
	var yaml bytes.Buffer
	yaml.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople:\n")
	for i := range members {
		fmt.Fprintf(&yaml, "  - {address: p%d@kelp.example}\n", i)
	}
	yaml.WriteString("groups:\n  - address: all@kelp.example\n    gate: [admit anyone]\n    members: [{everyone: true}]\n")
	r := sample.Load(b, yaml.String())
	h := serve(b, r.Estate(), nil)
	h.connections.Limits.People = 2 * members
	h.connections.Limits.Patience = time.Minute
	for b.Loop() {
		p := probe.NewPlan(r, h.connections, probe.Choice{Groups: []estate.ID{0}, Kinds: []probe.Kind{probe.Outsider}})
		start := clock.Now()
		run, err := probe.Start(b.Context(), p, h.options())
		if err != nil {
			b.Fatal(err)
		}
		if as, not, unlooked := probe.Judge(run).Counts(); not+unlooked > 0 || as < members {
			b.Fatalf("%d as predicted, %d not, %d not looked at", as, not, unlooked)
		}
		last := 0.0
		for _, s := range run.Sightings {
			last = max(last, s.Seconds)
		}
		b.ReportMetric(last, "seconds")
		b.ReportMetric(clock.Since(start).Seconds(), "in-all")
	}
}

// BenchmarkExplain explains the differences of 100 cases in an estate of 2,000
// people.
func BenchmarkExplain(b *testing.B) {
	var yaml bytes.Buffer
	yaml.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople:\n")
	for i := range 2000 {
		fmt.Fprintf(&yaml, "  - {address: p%d@kelp.example}\n", i)
	}
	yaml.WriteString("groups:\n")
	for g := range 20 {
		fmt.Fprintf(&yaml, "  - address: g%d@kelp.example\n    gate: [refuse unproven, hold suspect, admit members, refuse anyone]\n    members: [", g)
		for i := range 100 {
			fmt.Fprintf(&yaml, "p%d@kelp.example, ", g*100+i)
		}
		yaml.WriteString("]\n")
	}
	r := sample.Load(b, yaml.String())
	h := serve(b, sample.Load(b, strings.Replace(yaml.String(), "admit members, refuse anyone", "admit inside", 3)).Estate(), nil)
	h.connections.Limits.People = 3000
	var from []address.Address
	for i := range 5 {
		from = append(from, address.MustParse(fmt.Sprintf("p%d@kelp.example", i*371)))
	}
	var groups []estate.ID
	groups = append(groups, allGroups(r.Estate())...)
	plan := probe.NewPlan(r, h.connections, probe.Choice{Groups: groups, From: func(estate.ID) []address.Address { return from }})
	h.connections.Limits.Patience, h.connections.Limits.Quiet = 30*time.Second, 3*time.Second
	run, err := probe.Start(context.Background(), plan, h.options())
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		j := probe.Judge(run)
		b.ReportMetric(float64(len(j.Causes)), "causes")
	}
}

// BenchmarkExplainMany explains why none of 2,000 members got any of 20 messages.
func BenchmarkExplainMany(b *testing.B) {
	var yaml bytes.Buffer
	yaml.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople:\n")
	for i := range 2000 {
		fmt.Fprintf(&yaml, "  - {address: p%d@kelp.example}\n", i)
	}
	yaml.WriteString("groups:\n  - {address: all@kelp.example, gate: [admit anyone], members: [inner@kelp.example, guest@far.example]}\n  - {address: inner@kelp.example, gate: [admit anyone], members: [{everyone: true}]}\n")
	r := sample.Load(b, yaml.String())
	var trials []infer.Trial
	for i := range 20 {
		t := infer.Trial{From: address.MustParse(fmt.Sprintf("p%d@kelp.example", i)), To: address.MustParse("all@kelp.example")}
		t.Seen = infer.Seen{Verdicts: infer.OneOf(estate.Admit), People: map[estate.ID]infer.Outcomes{}}
		for _, id := range r.Estate().PeopleByAddress() {
			t.Seen.People[id] = infer.Either(infer.None, resolve.Nothing)
		}
		guest, _ := r.Estate().Find(address.MustParse("guest@far.example"))
		t.Seen.People[guest] = infer.Either(resolve.Inbox)
		trials = append(trials, t)
	}
	for b.Loop() {
		causes, lost := infer.Explain(r, trials)
		if len(causes) != 1 || len(lost) > 0 {
			b.Fatalf("%d causes, %d lost", len(causes), len(lost))
		}
	}
}
