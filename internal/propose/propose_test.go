package propose_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
	"yorvet.example/yorvet/internal/source"
)

const quay = `yorvet: 1
domains: [kelp.example]
people:
  - address: ann@kelp.example   # the boss
    name: Ann Reed
  - address: bob@kelp.example
    attributes: {base: quay}
  - address: cat@kelp.example
groups:
  - address: desk@kelp.example
    owners: [ann@kelp.example]
    gate:
      - refuse suspect   # since spring
      - admit anyone
    members:
      - bob@kelp.example
      - {address: cat@kelp.example, copy: none}   # on leave
  - address: crew@kelp.example
    members: [bob@kelp.example, desk@kelp.example]
`

var today = func() estate.Day {
	day, err := estate.ParseDay("2026-11-23")
	if err != nil {
		panic(err)
	}
	return day
}()

// at returns a place with an estate of its own, and the file that holds it.
func at(t *testing.T, text string) (*ask.Place, string) {
	t.Helper()
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	path := filepath.Join(t.TempDir(), "estate.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return &ask.Place{Path: path, Named: true, Day: today}, path
}

func read(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// lines returns the lines that only one of two texts has, each with a sign in front.
func lines(before, later string) string {
	var b strings.Builder
	for _, side := range []struct{ sign, of, other string }{{"-", before, later}, {"+", later, before}} {
		for line := range strings.Lines(side.of) {
			if !strings.Contains(side.other, line) {
				b.WriteString(side.sign + strings.TrimSpace(line) + "\n")
			}
		}
	}
	return b.String()
}

// Every proposal: a preview writes nothing, a yes writes what is meant, and taking it back leaves the file as it was.
func TestProposals(t *testing.T) {
	desk, who := ask.Groups{Names: []string{"desk"}}, func(names ...string) propose.Who { return propose.Who{Addresses: names} }
	check, err := ask.FindCheck("gets-nothing")
	if err != nil {
		t.Fatal(err)
	}
	for i, one := range []struct {
		p    propose.Proposal
		want []string // some of the lines that come and go
	}{
		{&propose.NewGroup{Address: "storm@kelp.example", Preset: "desk", Owners: []string{"ann"}, Who: who("bob"),
			Settings: []string{"footer=Hi"}}, []string{"+- address: storm@kelp.example", "+footer: Hi", "+replies-as: group"}},
		{&propose.GroupSettings{Groups: desk, Settings: []string{"title=Desk", "gate^=drop unproven"}},
			[]string{"+title: Desk", "+- drop unproven"}},
		{&propose.GroupSettings{Groups: desk, Settings: []string{"gate+=hold inside"}, Before: "2"}, []string{"+- hold inside"}},
		{&propose.GroupRename{Old: "desk@kelp.example", New: "front@kelp.example"}, []string{"-- address: desk@kelp.example",
			"+- address: front@kelp.example", "+members: [bob@kelp.example, front@kelp.example]"}},
		{&propose.GroupRename{Old: "*@kelp.example", New: "all-*@kelp.example", Forget: true},
			[]string{"+- address: all-desk@kelp.example", "+- address: all-crew@kelp.example"}},
		{&propose.GroupRemoval{Groups: desk}, []string{"-- address: desk@kelp.example", "+members: [bob@kelp.example]"}},
		{&propose.NewMembers{Groups: desk, Who: who("ann"), Membership: propose.Membership{"copy": "digest"}},
			[]string{"+- {address: ann@kelp.example, copy: digest, since: 2026-11-23}"}},
		{&propose.NewMembers{Groups: desk, Role: "moderators", Who: who("cat")}, []string{"+moderators:"}},
		{&propose.NewMembers{Groups: desk, Rule: "(base=quay)"}, []string{"+- {where: (base=quay)}"}},
		{&propose.MemberRemoval{Groups: desk, Who: who("cat")}, []string{"-- {address: cat@kelp.example, copy: none}   # on leave"}},
		{&propose.MemberSettings{Groups: desk, Who: who("bob"), Membership: propose.Membership{"paused": "true"}},
			[]string{"+- {address: bob@kelp.example, paused: true}"}},
		{&propose.NewPerson{Address: "dan@kelp.example", Fields: []string{"name=Dan", "attributes.base=pier"}},
			[]string{"+- address: dan@kelp.example", "+name: Dan"}},
		{&propose.PersonSettings{People: []string{"ann"}, Fields: []string{"also+=boss@kelp.example", "attributes.base=quay"}},
			[]string{"+also: [boss@kelp.example]"}},
		{propose.Closing([]string{"b*"}), []string{"+mailbox: closed"}},
		{&propose.PersonRename{Person: "ann", New: "ann.oake@kelp.example"}, []string{"+- address: ann.oake@kelp.example   # the boss",
			"+also: [ann@kelp.example]", "+owners: [ann.oake@kelp.example]"}},
		{&propose.Leaving{Person: "ann", Successor: "cat"}, []string{"-- address: ann@kelp.example   # the boss", "+owners: [cat@kelp.example]"}},
		{&propose.Leaving{Person: "bob", Keep: true}, []string{"+mailbox: closed", "+members: [desk@kelp.example]"}},
		{&propose.PersonRemoval{People: []string{"ann"}}, []string{"-- address: ann@kelp.example   # the boss", "-owners: [ann@kelp.example]"}},
		{&propose.Acceptance{Check: check, Groups: []string{"desk"}, Because: "They know."}, []string{"+accept:"}},
	} {
		t.Run(fmt.Sprintf("%d %T", i, one.p), func(t *testing.T) {
			place, path := at(t, quay)
			r, err := propose.Change(t.Context(), place, &propose.Manner{Preview: true}, one.p)
			if err != nil || r.Then != nil || read(t, path) != quay {
				t.Fatalf("a preview: %v, and the file\n%s", err, lines(quay, read(t, path)))
			}
			r, err = propose.Change(t.Context(), place, &propose.Manner{Yes: true}, one.p)
			if err != nil || !r.Answer.(*present.EstateChange).Written || r.Wrong {
				t.Fatalf("it is not written: %v", err)
			}
			got := lines(quay, read(t, path))
			for _, line := range one.want {
				if !strings.Contains("\n"+got, "\n"+line+"\n") {
					t.Errorf("want %q in\n%s", line, got)
				}
			}
			if _, err := propose.Change(t.Context(), place, &propose.Manner{Yes: true}, &propose.Undo{}); err != nil {
				t.Fatal(err)
			}
			if now := read(t, path); now != quay {
				t.Errorf("taken back it is\n%s", lines(quay, now))
			}
		})
	}
}

// Without a yes somebody is asked once the answer was given, and nothing is written if they do not agree.
func TestAgreement(t *testing.T) {
	for _, agrees := range []bool{false, true} {
		place, path := at(t, quay)
		told := 0
		how := &propose.Manner{Tell: func(string) { told++ }}
		p := &propose.GroupSettings{Groups: ask.Groups{Names: []string{"desk"}}, Settings: []string{"title=Desk"}}
		r, err := propose.Change(t.Context(), place, how, p)
		if err != nil || r.Then == nil || read(t, path) != quay {
			t.Fatalf("%v, %+v", err, r)
		}
		if err := r.Then(); err == nil || !strings.Contains(err.Error(), "no terminal") || read(t, path) != quay {
			t.Errorf("with nobody to ask: %v", err)
		}
		place.Agree = func(string, string) bool { return agrees }
		err = r.Then()
		if written := read(t, path) != quay; written != agrees || agrees != (err == nil) || !agrees && !errors.Is(err, ask.ErrWrong) {
			t.Errorf("agreed: %t, written: %t, %v", agrees, written, err)
		}
		if (told > 0) != agrees {
			t.Errorf("told %d lines", told)
		}
	}
}

// What cannot be done is an error or is told, and nothing is written.
func TestRefusals(t *testing.T) {
	desk := ask.Groups{Names: []string{"desk"}}
	for _, one := range []struct {
		p    propose.Proposal
		want string
	}{
		{&propose.NewGroup{Address: "desk@kelp.example"}, "is taken by the group desk@kelp.example"},
		{&propose.NewGroup{Address: "desk@far.example"}, "is outside"},
		{&propose.NewGroup{Address: "x@kelp.example", Preset: "dezk"}, "there is no preset"},
		{&propose.GroupSettings{Settings: []string{"title=x"}}, "needs a group and what to set"},
		{&propose.GroupSettings{Groups: desk, Settings: []string{"gate=admit them"}}, "gate=admit them"},
		{&propose.GroupSettings{Groups: desk, Settings: []string{"gate+=hold inside"}, After: "9"}, "there is no rule 9"},
		{&propose.GroupRename{Old: "desk", New: "crew@kelp.example"}, "is taken"},
		{&propose.NewMembers{Groups: desk, Who: propose.Who{Addresses: []string{"nobody@kelp.example"}}}, "does not exist"},
		{&propose.NewMembers{Groups: desk, Who: propose.Who{Addresses: []string{"desk"}}}, "cannot be a member of itself"},
		{&propose.NewMembers{Groups: ask.Groups{Names: []string{"x*"}}}, "no group matches"},
		{&propose.PersonRename{Person: "ann", New: "bob@kelp.example"}, "is taken by the person bob@kelp.example"},
		{&propose.Leaving{Person: "ann", Successor: "ann"}, "the successor is the person who leaves"},
		{&propose.Acceptance{Check: hazard.All()[0], Groups: []string{"desk"}, Because: "x", Until: "2001-01-01"}, "is over"},
		{&propose.Undo{}, "no change"},
		{&propose.Undo{Number: 7}, "there is no change 7"},
	} {
		place, path := at(t, quay)
		_, err := propose.Change(t.Context(), place, &propose.Manner{Yes: true}, one.p)
		if err == nil || !strings.Contains(err.Error(), one.want) || read(t, path) != quay {
			t.Errorf("%T: %v, want %q", one.p, err, one.want)
		}
	}
}

// Somebody who is a member by a nested group alone stays, and that is told.
func TestNoDirectMember(t *testing.T) {
	place, path := at(t, quay)
	p := &propose.MemberRemoval{Groups: ask.Groups{Names: []string{"crew"}}, Who: propose.Who{Addresses: []string{"cat"}}}
	r, err := propose.Change(t.Context(), place, &propose.Manner{Yes: true}, p)
	if err != nil || !r.Wrong || read(t, path) != quay {
		t.Fatalf("%v, %+v", err, r)
	}
	notes := strings.Join(r.Answer.(*present.EstateChange).Notes, "\n")
	if !strings.Contains(notes, "cat@kelp.example is no direct member of crew@kelp.example: desk@kelp.example brings them in") {
		t.Errorf("the notes are %q", notes)
	}
}

// A source that lost a good part of its groups changes nothing, unless that is allowed.
func TestImportGuards(t *testing.T) {
	table := func(groups int) string {
		text := "group,address\n"
		for i := range groups {
			text += fmt.Sprintf("g%d@kelp.example,ann@kelp.example\n", i)
		}
		return text
	}
	place, path := at(t, "")
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	list := filepath.Join(t.TempDir(), "groups.csv")
	run := func(groups, allowed int) error {
		t.Helper()
		if err := os.WriteFile(list, []byte(table(groups)), 0o600); err != nil {
			t.Fatal(err)
		}
		x := &propose.Import{Sources: []string{list}, Options: source.Options{Domains: []string{"kelp.example"}},
			AllowRemoval: allowed, AllowOpening: 2}
		_, err := x.Change(t.Context(), place, &propose.Manner{Yes: true})
		return err
	}
	if err := run(40, 10); err != nil {
		t.Fatal(err)
	}
	before := read(t, path)
	if err := run(4, 10); err == nil || !strings.Contains(err.Error(), "--allow-removal") || read(t, path) != before {
		t.Errorf("36 of 40 groups went: %v", err)
	}
	if err := run(4, 36); err != nil || read(t, path) == before {
		t.Errorf("36 may go, and do not: %v", err)
	}
}
