package probe_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/standin"
)

// safeBuffer is a log that several goroutines write.
type safeBuffer struct {
	mutex sync.Mutex
	bytes bytes.Buffer
}

func (b *safeBuffer) Write(p []byte) (int, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.bytes.Write(p)
}

// With copies lost, late and twice, connections cut and senders put off, every
// copy is told for what it is.
func TestFaults(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("2,000 copies take their time")
	}
	const people, messages = 80, 25 // 2,000 copies
	var yaml strings.Builder
	yaml.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople:\n")
	for i := range people {
		fmt.Fprintf(&yaml, "  - {address: p%d@kelp.example}\n", i)
	}
	yaml.WriteString("groups:\n  - address: all@kelp.example\n    gate: [admit anyone]\n    members:\n")
	for i := range people {
		fmt.Fprintf(&yaml, "      - p%d@kelp.example\n", i)
	}
	r := sample.Load(t, yaml.String())
	var log safeBuffer
	h := serve(t, r.Estate(), func(o *standin.Options) {
		o.Log = &log
		o.Faults = &standin.Faults{Seed: 5, List: []standin.Fault{
			{Do: "lose", Share: 5}, {Do: "delay", Share: 5, By: 1500 * time.Millisecond}, {Do: "duplicate", Share: 5}, {Do: "junk", Share: 2},
			{Do: "later", By: 500 * time.Millisecond}, {Do: "cut", Share: 8, Bytes: 700},
		}}
	})
	h.connections.Limits.Patience, h.connections.Limits.Quiet, h.connections.Limits.Connections = 5*time.Minute, 8*time.Second, people+2
	var from []address.Address
	for i := range messages {
		from = append(from, address.MustParse(fmt.Sprintf("p%d@kelp.example", i)))
	}
	plan := probe.NewPlan(r, h.connections, probe.Choice{Groups: allGroups(r.Estate()), From: func(estate.ID) []address.Address { return from }})
	run, err := probe.Start(context.Background(), plan, h.options())
	if err != nil {
		t.Fatal(err)
	}
	j := probe.Judge(run)
	fate := readFates(t, log.bytes.String())
	counts := map[string]int{}
	for _, m := range j.Members {
		c := &plan.Cases[m.Case]
		want := "inbox"
		does := fate[c.ID+" "+m.Address]
		switch {
		case !fate[c.ID]["admitted"]:
			want = probe.SeenNot // it was never taken over
		case does["lose"]:
			want = probe.SeenNot
		case does["duplicate"]:
			want = probe.SeenTwice
		case does["junk"]:
			want = probe.SeenJunk
		}
		counts[want]++
		if m.Seen != want {
			t.Errorf("%s to %s: seen %q, and it was %q (%v)", c.ID, m.Address, m.Seen, want, does)
		}
		if m.AsPredicted != (want == "inbox") {
			t.Errorf("%s to %s: as predicted: %t, and it was %q", c.ID, m.Address, m.AsPredicted, want)
		}
	}
	for i, c := range j.Cases {
		id := plan.Cases[i].ID
		if taken := fate[id]["admitted"]; taken != (c.Seen == "admit") && !(c.Seen == probe.Unknown && !taken) && !(c.Seen == probe.Deferred && !taken) {
			t.Errorf("case %d is %q, and the service took it over: %t", i+1, c.Seen, taken)
		}
	}
	if total := len(j.Members); total != people*messages {
		t.Errorf("%d of %d copies are accounted for", total, people*messages)
	}
	t.Log(counts)
	if counts["inbox"] < 1500 || counts[probe.SeenTwice] < 40 || counts[probe.SeenNot] < 40 || counts[probe.SeenJunk] < 10 {
		t.Errorf("the faults are %v", counts)
	}
}

// readFates returns what the log says of each message, and of each copy of it.
func readFates(t *testing.T, log string) map[string]map[string]bool {
	t.Helper()
	fates := map[string]map[string]bool{}
	set := func(key, what string) {
		if fates[key] == nil {
			fates[key] = map[string]bool{}
		}
		fates[key][what] = true
	}
	for line := range strings.Lines(log) {
		var l struct{ Step, Message, To, Do, Verdict string }
		if err := json.Unmarshal([]byte(line), &l); err != nil {
			t.Fatal(err)
		}
		switch l.Step {
		case "judged":
			set(l.Message, map[string]string{"admit": "admitted"}[l.Verdict])
		case "fault":
			set(l.Message+" "+l.To, l.Do)
		}
	}
	return fates
}
