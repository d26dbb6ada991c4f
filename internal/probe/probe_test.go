package probe_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/lanes"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/standin"
)

const limits = "  pace: 5000\n  people: 100\n  connections: 60\n  patience: 4s\n  look-every: 1s\n  settle: 300ms\n"

// harness is a stand-in with lanes to it.
type harness struct {
	service *standin.Service
	lanes   *lanes.Lanes
	runs    string
}

func serve(t testing.TB, served *estate.Estate, change func(*standin.Options)) *harness {
	t.Helper()
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	if err := os.WriteFile(secret, []byte("tide-7-secret\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	options := standin.Options{Estate: served, Secret: "tide-7-secret", CertificateFile: filepath.Join(dir, "authority.pem")}
	if change != nil {
		change(&options)
	}
	s, err := standin.Start(options)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	path := filepath.Join(dir, "lanes.yaml")
	if err := os.WriteFile(path, []byte(s.Ready().LanesFile(secret, []string{"guest@holiday.example"}, limits)), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := lanes.Load(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	return &harness{s, l, filepath.Join(dir, "runs")}
}

// options make digests come once all is sent.
func (h *harness) options() probe.Options {
	return probe.Options{Dir: h.runs, Poke: func(context.Context) {
		h.service.Settle(2 * time.Second)
		h.service.FlushDigests()
	}}
}

func demoEstate(t testing.TB, name string) *estate.Estate {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(dir); err != nil {
		t.Fatal(err)
	}
	e, err := estatefile.Load(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func resolver(e *estate.Estate) *resolve.Resolver {
	return resolve.New(e, estate.DayOf(time.Now()))
}

func allGroups(e *estate.Estate) []estate.ID {
	var all []estate.ID
	for id := range estate.ID(e.Groups()) {
		all = append(all, id)
	}
	return all
}

// A service that is as the estate says does all that is predicted.
func TestAsPredicted(t *testing.T) {
	e := demoEstate(t, demo.Estate)
	h := serve(t, e, nil)
	plan := probe.NewPlan(resolver(e), h.lanes, probe.Choice{Groups: allGroups(e)})
	run, err := probe.Start(context.Background(), plan, h.options())
	if err != nil {
		t.Fatal(err)
	}
	report(t, probe.Judge(run), true)
}

// report logs what is not as predicted.
func report(t testing.TB, j *probe.Judgement, fail bool) {
	t.Helper()
	say := t.Logf
	if fail {
		say = t.Errorf
	}
	as, not := j.Counts()
	t.Logf("%d cases, %d as predicted, %d not", len(j.Cases), as, not)
	for i, c := range j.Cases {
		if !c.AsPredicted {
			say("case %d, %s: predicted %s, seen %s (%s)", i+1, c.Case.Describe(), c.Predicted, c.Seen, c.Reply)
		}
	}
	for _, m := range j.Members {
		if !m.AsPredicted {
			say("case %d, %s: %s: predicted %q, seen %q", m.Case+1, j.Cases[m.Case].Case.Describe(), m.Address, m.Predicted, m.Seen)
		}
	}
	for name, err := range j.Run.Problems {
		say("%s: %v", name, err)
	}
	for _, c := range j.Causes {
		var says []string
		for i, h := range c.Hypotheses {
			if i == 4 {
				break
			}
			says = append(says, h.Change.Says)
		}
		t.Logf("explains %d: as if %s", len(c.Explains), strings.Join(says, " | "))
	}
}

func TestDifferences(t *testing.T) {
	e, served := demoEstate(t, demo.Estate), demoEstate(t, "served")
	h := serve(t, served, nil)
	plan := probe.NewPlan(resolver(e), h.lanes, probe.Choice{Groups: allGroups(e)})
	run, err := probe.Start(context.Background(), plan, h.options())
	if err != nil {
		t.Fatal(err)
	}
	report(t, probe.Judge(run), false)
}
