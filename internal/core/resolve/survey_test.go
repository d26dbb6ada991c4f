package resolve_test

import (
	"math/rand/v2"
	"path/filepath"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/sample"
)

// What is worked out about all groups at once is what a delivery to each of them gives: on
// random estates, and on one of several blocks of people.
func TestSurvey(t *testing.T) {
	estates := 400
	if testing.Short() {
		estates = 100
	}
	for seed := range estates {
		if r, ok := sample.Try(t, sample.Estate(rand.New(rand.NewPCG(uint64(seed), 43)))); ok {
			agreeSurvey(t, r)
		}
	}
	dir := t.TempDir()
	if _, err := sample.Heavy(dir, sample.Size{People: 3_000, Groups: 150, Memberships: 9_000}, 7); err != nil {
		t.Fatal(err)
	}
	e, err := estatefile.Load(t.Context(), filepath.Join(dir, "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	agreeSurvey(t, resolve.New(e, estate.Day(739_000)))
}

func agreeSurvey(t *testing.T, r *resolve.Resolver) {
	t.Helper()
	e := r.Estate()
	surveyed := r.Fork()
	s := surveyed.Survey()
	prints := map[uint64]resolve.Fingerprint{}
	for group := range estate.ID(e.Groups()) {
		name := e.Address(group)
		if got, want := s.Counts(group), r.Flow(group, resolve.Message{}).Counts(); got != want {
			t.Fatalf("%s gives %v, by a survey %v", name, want, got)
		}
		if got, want := s.Reaches(group), len(r.Flow(group, resolve.Message{}).Outcomes()) > 0; got != want {
			t.Fatalf("%s reaches anybody: %t, by a survey %t", name, want, got)
		}
		invited := map[estate.ID]bool{}
		for _, x := range r.Deliver(resolve.Query{Group: group, Message: resolve.Message{Invitation: true}}).Outcomes() {
			if x.Outcome == resolve.Inbox {
				invited[x.Person] = true
			}
		}
		if s.Invited(group) != len(invited) {
			t.Fatalf("%s invites %d, by a survey %d", name, len(invited), s.Invited(group))
		}
		outside, uninvited := false, 0
		got := map[estate.ID]bool{}
		for _, x := range r.Flow(group, resolve.Message{}).Outcomes() {
			got[x.Person] = true
			outside = outside || !e.Inside(x.Person) && x.Outcome != resolve.Nothing && x.Outcome != resolve.Stopped
			if x.Outcome <= resolve.Digest && !invited[x.Person] {
				uninvited++
				if set := s.Uninvited(group); set == nil || !set.Contains(uint32(x.Person)) {
					t.Fatalf("%s gets the mail of %s and no invitations, not by a survey", e.Address(x.Person), name)
				}
			}
			if outcome, has, known := s.Best(group, x.Person); known && (outcome != x.Outcome || !has) {
				t.Fatalf("%s gets %s of %s, by a survey %s, %t", e.Address(x.Person), x.Outcome, name, outcome, has)
			}
		}
		for _, owner := range r.Owners(group) {
			if _, has, known := s.Best(group, owner); !known && e.Group(group).Kind != estate.Roster || known && has != got[owner] {
				t.Fatalf("%s owns %s and gets anything: %t, by a survey %t", e.Address(owner), name, got[owner], has)
			}
		}
		if set := s.Uninvited(group); set != nil && int(set.GetCardinality()) != uninvited {
			t.Fatalf("%s gives %d people no invitations, by a survey %d", name, uninvited, set.GetCardinality())
		}
		if outside && !s.ReachesOutside(group) {
			t.Fatalf("%s reaches somebody outside, not by a survey", name)
		}
		agreeMembers(t, r, s, group)
		print := r.Flow(group, resolve.Message{}).Fingerprint()
		print[0] -= uint64(e.Group(group).Kind)
		if s.Reaches(group) {
			prints[s.Print(group)] = print
		}
	}
	for group := range estate.ID(e.Groups()) {
		print := r.Flow(group, resolve.Message{}).Fingerprint()
		print[0] -= uint64(e.Group(group).Kind)
		for other, same := range prints {
			if print == same && other != s.Print(group) && s.Reaches(group) {
				t.Fatalf("%s has what another group has, and not the same print", e.Address(group))
			}
		}
	}
}

func agreeMembers(t *testing.T, r *resolve.Resolver, s *resolve.Survey, group estate.ID) {
	t.Helper()
	e := r.Estate()
	people := 0
	for it := r.Members(group).Iterator(); it.HasNext(); {
		if e.IsPerson(estate.ID(it.Next())) {
			people++
		}
	}
	if s.People(group) != people {
		t.Fatalf("%s has %d members, by a survey %d", e.Address(group), people, s.People(group))
	}
	twice, seen := false, map[estate.ID]bool{}
	for _, entry := range e.Entries(group) {
		if e.IsPerson(entry.Member) {
			twice = twice || seen[entry.Member]
			seen[entry.Member] = true
		}
	}
	if twice && !s.ListsTwice(group) {
		t.Fatalf("%s lists somebody twice, not by a survey", e.Address(group))
	}
}
