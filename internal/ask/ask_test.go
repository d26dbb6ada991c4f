package ask

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

const ferries = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ann@kelp.example, name: Ann Pier}
  - {address: bo@kelp.example, name: Bo Pier, mailbox: closed}
  - {address: crew@far.example, name: Cy Lark}
groups:
  - {address: crew@kelp.example, members: [ann@kelp.example, bo@kelp.example], gate: [admit anyone]}
  - {address: galley@kelp.example, also: [food@kelp.example], members: [bo@kelp.example], gate: [admit anyone]}
  - {address: empty@kelp.example, gate: [refuse anyone]}
`

// here is a place with a small estate; what it warns of is an error.
func here(t *testing.T) *Place {
	t.Helper()
	path := filepath.Join(t.TempDir(), "estate.yaml")
	if err := os.WriteFile(path, []byte(ferries), 0o600); err != nil {
		t.Fatal(err)
	}
	day, err := estate.ParseDay("2026-11-23")
	if err != nil {
		t.Fatal(err)
	}
	return &Place{Path: path, Day: day, Warn: func(text string) { t.Error(text) }, Note: func(line string) { t.Error(line) }}
}

func desk(t *testing.T) *Desk {
	t.Helper()
	d, err := Open(t.Context(), here(t))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// A name means one group, person or address; what it may mean otherwise is said.
func TestNames(t *testing.T) {
	d := desk(t)
	said := func(id estate.ID, err error) string {
		if err != nil {
			return strings.TrimPrefix(err.Error(), "yorvet: ")
		}
		return d.Estate.Address(id).String()
	}
	for _, c := range []struct {
		ask        func(string) (estate.ID, error)
		text, want string
	}{
		{d.Group, "crew", "crew@kelp.example"}, {d.Group, "FOOD", "galley@kelp.example"},
		{d.Group, "crew@kelp.example", "crew@kelp.example"},
		{d.Group, "crw", `no group "crw"; did you mean crew@kelp.example?`},
		{d.Group, "ann@kelp.example", "ann@kelp.example is a person, expected a group"},
		{d.Group, "gally@kelp.example", `no group "gally@kelp.example"; did you mean galley@kelp.example?`},
		{d.Person, "ann", "ann@kelp.example"}, {d.Person, "bo pier", "bo@kelp.example"}, {d.Person, "lark", "crew@far.example"},
		{d.Person, "pier", `"pier" may be Ann Pier (ann@kelp.example) or Bo Pier (bo@kelp.example)`},
		{d.Person, "galley", "galley@kelp.example is a group; try yorvet who receives galley@kelp.example"},
		{d.Person, "nobody", `no person "nobody"`},
	} {
		if got := said(c.ask(c.text)); got != c.want {
			t.Errorf("%s: %s, want %s", c.text, got, c.want)
		}
	}
	if a, err := d.Address("from", "ann"); err != nil || a.String() != "ann@kelp.example" {
		t.Errorf("ann is %v, %v", a, err)
	}
	if _, err := d.Address("from", "crew"); err == nil || !strings.Contains(err.Error(), "name the whole address") {
		t.Errorf("crew is %v", err)
	}
}

// Groups are chosen by names, patterns and filters.
func TestGroups(t *testing.T) {
	d := desk(t)
	for _, c := range []struct {
		which Groups
		want  string
	}{
		{Groups{}, "crew galley empty"}, {Groups{Names: []string{"*e*"}}, "crew galley empty"},
		{Groups{Names: []string{"foo*", "crew"}}, "crew galley"}, {Groups{Except: []string{"c*"}}, "galley empty"},
		{Groups{Filter: "(outside=admit)"}, "crew galley"}, {Groups{Names: []string{"g*"}, Filter: "(outside=refuse)"}, ""},
		{Groups{Names: []string{"x*"}}, "yorvet: no group matches x*"},
		{Groups{Filter: "(outsde=admit)"}, "no setting, column or attribute"},
	} {
		groups, err := d.Groups(c.which)
		var names []string
		for _, g := range groups {
			names = append(names, d.Estate.Address(g).Local())
		}
		if err != nil {
			names = []string{err.Error()}
		}
		if got := strings.Join(names, " "); got != c.want && (err == nil || !strings.Contains(got, c.want)) {
			t.Errorf("%+v: %s, want %s", c.which, got, c.want)
		}
	}
}

// A check tells of the groups that are asked about, and of no other.
func TestCheckTellsOfWhatWasAsked(t *testing.T) {
	at := here(t)
	groups := func(which Groups) string {
		r, err := (&Check{Groups: which, FailOn: "never"}).Ask(t.Context(), at)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for h := range r.Answer.(*present.Hazards).Brief() {
			if !slices.Contains(names, h.Group) {
				names = append(names, h.Group)
			}
		}
		slices.Sort(names)
		return strings.Join(names, " ")
	}
	all := groups(Groups{})
	if !strings.Contains(all, "crew@") || !strings.Contains(all, "galley@") {
		t.Fatal(all)
	}
	if got := groups(Groups{Names: []string{"galley"}}); got != "galley@kelp.example" {
		t.Errorf("of galley it tells %s", got)
	}
	if got := groups(Groups{Except: []string{"galley"}}); strings.Contains(got, "galley") {
		t.Errorf("without galley it tells %s", got)
	}
}

// What a probe found is known by what it is about: a message more, which numbers the others anew, resolves nothing.
func TestProbeFactsGoByWhatTheyAreAbout(t *testing.T) {
	at := here(t)
	answer := func(numbers ...string) *present.Probe {
		a := &present.Probe{Run: "x"}
		for i, group := range []string{"crew@kelp.example", "galley@kelp.example"} {
			a.Cases = append(a.Cases, present.ProbeCase{Case: numbers[i], Kind: "insider", Group: group, From: "ann@kelp.example",
				Predicted: "admit", Seen: "refuse"})
			a.Members = append(a.Members, present.ProbeMember{Case: numbers[i], Address: "bo@kelp.example", Predicted: "inbox",
				Seen: "junk"})
		}
		return a
	}
	names := func(facts []store.Fact) (list []string) {
		for _, f := range facts {
			if f.Group == "" {
				t.Errorf("it is about no group: %+v", f)
			}
			list = append(list, f.Name)
		}
		slices.Sort(list)
		return slices.Compact(list)
	}
	before := names(at.probe(time.Time{}, answer("1", "2")).Facts)
	if after := names(at.probe(time.Time{}, answer("7", "8")).Facts); len(before) != 4 || !slices.Equal(before, after) {
		t.Errorf("%v was found, and then %v", before, after)
	}
}

// Logs are read from the time on that the last look began, whatever the zone of their times.
func TestLogIsReadFromWhereItWas(t *testing.T) {
	at := here(t)
	path := filepath.Join(t.TempDir(), "mail.log")
	var lines strings.Builder
	for i, clock := range []string{"08:00:01", "09:00:01"} {
		id := []string{"4A0000001", "4A0000002"}[i]
		for _, text := range []string{"smtpd[1]: " + id + ": client=a[192.0.2.1]", "cleanup[1]: " + id + ": message-id=<" + id + "@far.example>",
			"qmgr[1]: " + id + ": from=<x@far.example>, size=1, nrcpt=1 (queue active)",
			"smtp[1]: " + id + ": to=<ann@kelp.example>, relay=b[192.0.2.2]:25, delay=1, delays=0/0/0/1, dsn=5.1.1, status=bounced (no)",
			"qmgr[1]: " + id + ": removed"} {
			lines.WriteString("2026-11-20T" + clock + "+02:00 mx postfix/" + text + "\n")
		}
	}
	if err := os.WriteFile(path, []byte(lines.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		after time.Time
		want  int
	}{{time.Time{}, 2}, {time.Date(2026, 11, 20, 6, 30, 0, 0, time.UTC), 1}, {time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC), 0}} {
		r, err := (&Log{Files: []string{path}, After: c.after, Zone: "Europe/Oslo"}).Ask(t.Context(), at)
		if err != nil {
			t.Fatal(err)
		}
		if o := r.Kept(); o.Bad != c.want || len(o.Facts) != c.want || o.Wrong != (c.want > 0) {
			t.Errorf("after %s: %+v", c.after, o)
		}
	}
}
