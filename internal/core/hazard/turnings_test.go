package hazard

import (
	"math"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// AgreeTurnings compares what is found of groups that turn away mail of those that they are
// nested in with what laying it out says, and returns how many do.
func AgreeTurnings(t *testing.T, r *resolve.Resolver) int {
	t.Helper()
	turned := 0
	p := NewPass(r, all, func(Finding) {})
	for id := range estate.ID(r.Estate().Groups()) {
		p.Look(id)
		for _, c := range p.children(id) {
			for _, verdict := range []estate.Verdict{estate.Refuse, estate.Hold} {
				turned += agreeTurning(t, p, id, c, verdict)
			}
		}
	}
	return turned
}

func agreeTurning(t *testing.T, p *Pass, id estate.ID, c child, verdict estate.Verdict) int {
	t.Helper()
	got, found := p.turning(id, c, verdict)
	a := p.R.AsksOf(p.E.Settings().Edge, p.E.Group(id).Gate, p.E.Group(c.group).Gate)
	for _, m := range a.Messages() {
		one := turn{outer: id, group: c.group, place: c.place, verdict: verdict, message: m}
		from := p.turnedFrom(&one, &a)
		if from.isEmpty() {
			continue
		}
		shown, person, misses := missing(p, &one, from)
		if !misses {
			continue
		}
		if !found || got.message != m {
			t.Fatalf("%s misses mail of %s that %s turns away: found %t", p.name(person), p.name(id),
				p.name(c.group), found)
		}
		s, first := p.shown(&got)
		if first != person || !s.known.Equals(shown.known) || len(s.others) != len(shown.others) {
			t.Fatalf("%s misses mail of %s from %s; shown is %s from %s", p.name(person), p.name(id),
				p.who(shown, m), p.name(first), p.who(s, m))
		}
		return 1
	}
	if found {
		t.Fatalf("nobody misses mail of %s that %s turns away, and it is found", p.name(id), p.name(c.group))
	}
	return 0
}

// missing lays mail out for every part of the senders.
func missing(p *Pass, t *turn, from senders) (senders, estate.ID, bool) {
	wanting := map[estate.ID]bool{}
	for _, x := range p.R.Deliver(resolve.Query{Group: t.group, Message: t.message}).Outcomes() {
		if x.Outcome != resolve.Nothing {
			wanting[x.Person] = true
		}
	}
	firstOf := func(from senders, without *resolve.Sender, misses func(outcome resolve.Outcome) bool) estate.ID {
		gets := map[estate.ID]resolve.Outcome{}
		for _, x := range p.R.Deliver(resolve.Query{Group: t.outer, Sender: without, Message: t.message, Author: resolve.NoAuthor,
			Over: func(id estate.ID) bool { return id != t.group }}).Outcomes() {
			gets[x.Person] = x.Outcome
		}
		for _, person := range p.E.PeopleByAddress() {
			outcome, any := gets[person]
			if wanting[person] && (!any || misses(outcome)) && !p.isEcho(person, turned{t.outer, from, t.message}) {
				return person
			}
		}
		return estate.None
	}
	person := firstOf(from, nil, func(o resolve.Outcome) bool { return o == resolve.Nothing })
	if person != estate.None {
		return from, person, true
	}
	for _, part := range p.alike(from, p.gatesIn(t.outer, t.group), t.message) {
		s := p.one(part)
		person := firstOf(part, &s, func(o resolve.Outcome) bool {
			return o == resolve.Nothing || o == resolve.Stopped || o == resolve.Archive
		})
		if person != estate.None {
			return part, person, true
		}
	}
	return senders{}, estate.None, false
}

// alike divides some senders by what all of some gates say to them.
func (p *Pass) alike(s senders, gates []estate.ID, m resolve.Message) []senders {
	kinds, _ := resolve.Kinds(s.known, p.letIn(gates, m), math.MaxInt)
	var list []senders
	for _, kind := range kinds {
		list = append(list, senders{known: kind})
	}
	for _, other := range s.others {
		list = append(list, senders{known: nobody, others: []resolve.Sender{other}})
	}
	return list
}
