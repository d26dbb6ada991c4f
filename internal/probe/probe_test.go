package probe_test

import (
	"context"
	"flag"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/standin"
	"yorvet.example/yorvet/internal/store"
)

// today is the day on which the demo has newcomers.
var today = estate.DayOf(noon)

// onItsDay has the service of a test live on that day, too.
func onItsDay(o *standin.Options) {
	began := clock.Now()
	o.Now = func() time.Time { return noon.Add(clock.Since(began)) }
}

var noon = func() time.Time {
	day, err := time.Parse(time.DateOnly, demo.Day)
	if err != nil {
		panic(err)
	}
	return day.Add(12 * time.Hour)
}()

const limits = "  pace: 5000\n  people: 100\n  connections: 60\n  patience: 60s\n  quiet: 1s\n  look-every: 1s\n  settle: 300ms\n"

// harness is a stand-in with connections to it.
type harness struct {
	service     *standin.Service
	connections *connections.Connections
	store       *store.Store
	settles     time.Duration // how long it is waited for that the service has worked on all, at most
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
	path := filepath.Join(dir, "connections.yaml")
	if err := os.WriteFile(path, []byte(s.Ready().ConnectionsFile(secret, []string{"guest@holiday.example"}, limits)), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := connections.Load(t.Context(), path)
	if err == nil {
		err = l.Unlock(t.Context(), false, func(string) {})
	}
	if err != nil {
		t.Fatal(err)
	}
	kept, err := store.Open(t.Context(), filepath.Join(dir, "runs.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(kept.Close)
	return &harness{s, l, kept, time.Minute}
}

// options make digests come once all is sent.
func (h *harness) options() probe.Options {
	return probe.Options{Store: h.store, Estate: probe.Evaluated{Digest: "test"}, Sent: func(context.Context) {
		h.service.Settle(h.settles)
		h.service.FlushDigests()
	}}
}

// inStore are options with a store of its own.
func inStore(t testing.TB) probe.Options {
	t.Helper()
	kept, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "runs.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(kept.Close)
	return probe.Options{Store: kept, Estate: probe.Evaluated{Digest: "test"}}
}

func demoEstate(t testing.TB, name string) *estate.Estate {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	e, err := estatefile.Load(context.Background(), filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func resolver(e *estate.Estate) *resolve.Resolver {
	return resolve.New(e, today)
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
	t.Parallel()
	e := demoEstate(t, demo.Estate)
	h := serve(t, e, onItsDay)
	plan := probe.NewPlan(resolver(e), h.connections, probe.Choice{Groups: allGroups(e)})
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
	as, not, unlooked := j.Counts()
	t.Logf("%d cases, %d as predicted, %d not, %d not looked at", len(j.Cases), as, not, unlooked)
	for i, c := range j.Cases {
		if !c.AsPredicted {
			say("case %d, %s: predicted %s, seen %s (%s) %s", i+1, c.Case.Describe(), c.Predicted, c.Seen, c.Reply, c.Why)
		}
		for _, f := range c.Facets {
			if !f.AsPredicted {
				say("case %d, %s: %s predicted %q, seen %q by %s", i+1, c.Case.Describe(), f.Name, f.Predicted, f.Seen, f.Reader)
			}
		}
	}
	for _, m := range j.Members {
		if !m.AsPredicted {
			say("case %d, %s: %s: predicted %q, seen %q %s", m.Case+1, j.Cases[m.Case].Case.Describe(), m.Address, m.Predicted, m.Seen, m.Why)
		}
	}
	for name, box := range j.Run.Boxes {
		if !box.Through {
			say("%s: %s", name, box.Problem)
		}
	}
	for _, c := range j.Causes {
		var says []string
		for i, h := range c.Hypotheses {
			if i == 4 {
				break
			}
			says = append(says, change.Key(h.Change))
		}
		t.Logf("explains %d: as if %s", len(c.Explains), strings.Join(says, " | "))
	}
}

// differences are single ones between the demo's estate and what is served: what
// is written otherwise there, in which group it shows, and what is to be named.
var differences = []struct{ old, new, group, cause string }{
	{"{address: tam.weld@kelpmere.example, copy: digest, since: 2026-03-02}", "{address: tam.weld@kelpmere.example, copy: none}", "lost-property", "the copy of tam.weld@kelpmere.example in lost-property@kelpmere.example is none"},
	{"      - hold suspect\n      - admit moderators or @harbour", "      - hold outside\n      - admit moderators or @harbour", "lost-property", "hold outside"},
	{"      - refuse unproven because \"Sign in before you write in our name.\"\n", "", "lost-property", "rule 1 of the gate of lost-property@kelpmere.example"},
	{"    also: [found@kelpmere.example]\n", "", "lost-property", "the address found@kelpmere.example is not an alias of"},
	{"      - piers.oake@kelpmere.example\n", "", "lost-property", "piers.oake@kelpmere.example is not a member of lost-property"},
	{"    title: Lost property desk\n    about: Passengers write here about things left on board.\n    kind: forum", "    title: Lost property desk\n    kind: list", "lost-property", ""},
	{"      - hold newcomers(14d)\n", "", "lost-property", "of lost-property@kelpmere.example"},
	{"      - refuse automatic because \"Charter enquiries come from people.\"\n      - admit anyone", "      - admit inside", "charter", "of charter@kelpmere.example"},
	{"      - mina.skerry@kelpmere.example\n", "      - {address: mina.skerry@kelpmere.example, copy: digest}\n", "charter", "the copy of mina.skerry@kelpmere.example in charter@kelpmere.example is digest"},
	{"rufus.gantry@kelpmere.example, copy: none}", "rufus.gantry@kelpmere.example, copy: every}", "charter", "the copy of rufus.gantry@kelpmere.example in charter@kelpmere.example is every"},
	{"      - admit in duty-officers@kelpmere.example\n      - hold inside\n      - refuse anyone", "      - admit in duty-officers@kelpmere.example\n      - refuse anyone", "sailing-notices", "of sailing-notices@kelpmere.example"},
	{"{address: nora.teale@kelpmere.example, paused: true}", "nora.teale@kelpmere.example", "sailing-notices", "the membership of nora.teale@kelpmere.example in sailing-notices@kelpmere.example is not paused"},
	{"      - skippers@kelpmere.example\n      - deck-crew@kelpmere.example\n      - engine", "      - skippers@kelpmere.example\n      - {address: deck-crew@kelpmere.example, copy: none}\n      - engine", "sailing-notices", "deck-crew@kelpmere.example in sailing-notices@kelpmere.example is none"},
	{"    echo: false\n", "", "all-hands", "echo of all-hands@kelpmere.example is true"},
	{"    outside-copy: every\n", "    outside-copy: none\n", "volunteers", "outside-copy of volunteers@kelpmere.example is none"},
	{"      - bea.lantern@volunteers.example\n", "      - {address: bea.lantern@volunteers.example, copy: digest}\n", "volunteers", "the copy of bea.lantern@volunteers.example in volunteers@kelpmere.example is digest"},
	{"      - refuse unproven\n      - admit members\n", "      - admit members\n", "works-council", "rule 1 of the gate of works-council@kelpmere.example"},
	{"    gate: [admit anyone]\n\n  - address: galley", "    gate: [admit inside]\n\n  - address: galley", "cargo", "of cargo@kelpmere-cargo.example"},
	{"    copy: none\n    joiners: every", "    copy: every\n    joiners: every", "timetable", "copy of timetable@kelpmere.example is every"},
	{"      - admit members\n      - hold inside\n\n  - address: weather", "      - admit inside\n\n  - address: weather", "south-pier", "of south-pier@kelpmere.example"},
	{"odile.renn@kelpmere.example,Odile Renn,,,", "odile.renn@kelpmere.example,Odile Renn,,full,", "radio-watch", "the mailbox of odile.renn@kelpmere.example is full"},
	{"    members: [odile.renn@kelpmere.example, bram.sool@kelpmere.example]\n\n  - address: night", "    members: [odile.renn@kelpmere.example, bram.sool@kelpmere.example, bero.fell@kelpmere.example]\n\n  - address: night", "radio-watch", "bero.fell@kelpmere.example is a member of radio-watch@kelpmere.example"},
	{"    subject-tag: \"[lost]\"\n", "    subject-tag: \"[found]\"\n", "lost-property", "subject-tag of lost-property@kelpmere.example"},
	{"    subject-tag: \"[lost]\"\n", "", "lost-property", "subject-tag of lost-property@kelpmere.example"},
	{"    subject-tag: \"[lost]\"\n", "    subject-tag: \"[lost]\"\n    footer: Ask at the pier.\n", "lost-property", "footer of lost-property@kelpmere.example"},
	{"    subject-tag: \"[lost]\"\n", "    subject-tag: \"[lost]\"\n    replies-to: group\n", "lost-property", "replies-to of lost-property@kelpmere.example"},
	{"    replies-to: group\n    subject-tag: \"[charter]\"\n", "    subject-tag: \"[charter]\"\n", "charter", "replies-to of charter@kelpmere.example"},
	{"    subject-tag: \"[charter]\"\n", "    subject-tag: \"[charter]\"\n    auto-answer: We answer soon.\n", "charter", "auto-answer of charter@kelpmere.example"},
	{"odile.renn@kelpmere.example,Odile Renn,,,", "odile.renn@kelpmere.example,Odile Renn,,closed,", "radio-watch", "the mailbox of odile.renn@kelpmere.example is closed"},
	{"odile.renn@kelpmere.example,Odile Renn,,,", "odile.renn@kelpmere.example,Odile Renn,,none,", "radio-watch", "odile.renn@kelpmere.example"},
	{"      - {address: ada.crimp@kelpmere.example, copy: digest}\n    gate:\n      - admit anyone\n", "      - {address: ada.crimp@kelpmere.example, copy: digest}\n    gate:\n      - admit inside\n", "lost-property", "deck-crew@kelpmere.example"},
	{"    members: [odile.renn@kelpmere.example, bram.sool@kelpmere.example]\n\n  - address: night", "    members: [odile.renn@kelpmere.example, bram.sool@kelpmere.example, skippers@kelpmere.example]\n\n  - address: night", "radio-watch", "skippers@kelpmere.example is a member of radio-watch@kelpmere.example"},
	{"    kind: list\n    owners: [lena", "    kind: list\n    copy: digest\n    owners: [lena", "charter", "copy of charter@kelpmere.example is digest"},
	{"      - refuse automatic because \"Charter enquiries come from people.\"\n", "      - refuse larger(20kB)\n      - refuse automatic because \"Charter enquiries come from people.\"\n", "charter", "larger(39kB)"},
}

// Each single difference is noticed, and its cause named first or second.
func TestDifferences(t *testing.T) {
	slots := make(chan struct{}, 8)
	for i, d := range differences {
		if i%5 != 1 && !campaign.On() {
			continue // each is a run of its own: .ci/run has all
		}
		t.Run(strconv.Itoa(i)+" "+d.group, func(t *testing.T) {
			t.Parallel()
			slots <- struct{}{}
			defer func() { <-slots }()
			e := demoEstate(t, demo.Estate)
			h := serve(t, changedDemo(t, d.old, d.new), onItsDay)
			var groups []estate.ID
			for _, id := range allGroups(e) {
				if strings.HasPrefix(e.Address(id).String(), d.group+"@") {
					groups = append(groups, id)
				}
			}
			run, err := probe.Start(context.Background(), probe.NewPlan(resolver(e), h.connections, probe.Choice{Groups: groups}), h.options())
			if err != nil {
				t.Fatal(err)
			}
			j := probe.Judge(run)
			if _, not, _ := j.Counts(); not == 0 {
				t.Fatal("nothing is noticed")
			}
			for _, c := range j.Causes {
				for _, h := range c.Hypotheses[:min(2, len(c.Hypotheses))] {
					if strings.Contains(present.Says(e, h.Change), d.cause) {
						return
					}
				}
			}
			for _, c := range j.Cases {
				for _, f := range c.Facets {
					if f.AsIf != nil && strings.Contains(present.Says(e, f.AsIf), d.cause) {
						return
					}
				}
			}
			t.Errorf("the cause %q is not named first or second", d.cause)
			report(t, j, false)
		})
	}
}

// changedDemo is the demo's estate with one thing written otherwise.
func changedDemo(t *testing.T, old, replacement string) *estate.Estate {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	changed := 0
	for _, name := range []string{"groups.yaml", "people.csv"} {
		path := filepath.Join(dir, demo.Estate, name)
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(data), old) {
			changed++
			if err := os.WriteFile(path, []byte(strings.Replace(string(data), old, replacement, 1)), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	if changed != 1 {
		t.Fatalf("%q stands in %d files of the demo", old, changed)
	}
	e, err := estatefile.Load(context.Background(), filepath.Join(dir, demo.Estate))
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// With approval, what is held is let in by the approver's answer, and comes.
func TestApprove(t *testing.T) {
	t.Parallel()
	e := demoEstate(t, demo.Estate)
	h := serve(t, e, onItsDay)
	h.connections.Limits.Quiet = 20 * time.Second // all of it comes, and then there is nothing to wait for
	var group []estate.ID
	for _, id := range allGroups(e) {
		if strings.HasPrefix(e.Address(id).String(), "south-pier@") {
			group = append(group, id)
		}
	}
	options := h.options()
	options.Approve = true
	run, err := probe.Start(context.Background(), probe.NewPlan(resolver(e), h.connections, probe.Choice{Groups: group, Kinds: []probe.Kind{probe.Insider}}), options)
	if err != nil {
		t.Fatal(err)
	}
	j := probe.Judge(run)
	report(t, j, true)
	copies := 0
	for _, m := range j.Members {
		if m.Seen == "inbox" {
			copies++
		}
	}
	if j.Cases[0].Seen != "hold" || !run.Approved[0] || copies == 0 {
		t.Errorf("seen %s, approved %t, %d copies", j.Cases[0].Seen, run.Approved[0], copies)
	}
}

// TestMain has more tests wait at once than there are processors.
func TestMain(m *testing.M) {
	flag.Parse()
	if f := flag.Lookup("test.parallel"); f != nil && f.Value.String() == f.DefValue {
		_ = f.Value.Set("10")
	}
	_ = os.Setenv("YORVET_TEST_SECRET", "tide-7-secret") // of the real servers
	os.Exit(m.Run())
}
