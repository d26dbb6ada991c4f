package resolve_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/sample"
)

// Questions about one person, or about many at once, are answered as a whole delivery and
// single judgements are, on random estates.
func TestQuestionsAgree(t *testing.T) {
	estates := 300
	if testing.Short() {
		estates = 80
	}
	for seed := range estates {
		r, ok := sample.Try(t, sample.Estate(rand.New(rand.NewPCG(uint64(seed), 41))))
		if !ok {
			continue
		}
		e := r.Estate()
		for group := range estate.ID(e.Groups()) {
			for _, m := range []resolve.Message{{}, {Invitation: true}} {
				agreeWithoutSender(t, r, group, m)
				agreePostings(t, r, group, m)
			}
			agreeNewcomers(t, r, group)
		}
		agreeSideBySide(t, r)
	}
}

// agreeWithoutSender compares what people get where nobody in particular writes.
func agreeWithoutSender(t *testing.T, r *resolve.Resolver, group estate.ID, m resolve.Message) {
	t.Helper()
	e := r.Estate()
	want := map[estate.ID]resolve.Outcome{}
	nobodies := map[estate.ID]bool{}
	for _, recipient := range r.Deliver(resolve.Query{Group: group, Message: m}).Recipients() {
		if e.IsPerson(recipient.ID) {
			want[recipient.ID] = recipient.Outcome
		} else {
			nobodies[recipient.ID] = true
		}
	}
	for _, id := range e.PeopleByAddress() {
		best, gets := r.Deliver(resolve.Query{Group: group, Message: m}).Best(id)
		outcome := best.Outcome
		if expected, there := want[id]; there != gets || there && outcome != expected {
			t.Fatalf("%s gets %s, %t of %s; a delivery gives %s, %t", e.Address(id), outcome, gets, e.Address(group), expected, there)
		}
	}
	if m == (resolve.Message{}) {
		all := map[estate.ID]resolve.Outcome{}
		for _, one := range r.Flow(group, resolve.Message{}).Outcomes() {
			all[one.Person] = one.Outcome
		}
		if !maps.Equal(all, want) {
			t.Fatalf("of %s all get %v; a delivery gives %v", e.Address(group), all, want)
		}
	}
	elsewhere := map[estate.ID]resolve.Outcome{}
	for _, one := range r.Deliver(resolve.Query{Group: group, Message: m}).Outcomes() {
		elsewhere[one.Person] = one.Outcome
	}
	if !maps.Equal(elsewhere, want) {
		t.Fatalf("of %s, nothing left out, they get %v; a delivery gives %v", e.Address(group), elsewhere, want)
	}
	got := map[estate.ID]bool{}
	for _, id := range r.Deliver(resolve.Query{Group: group}).Nobodies() {
		got[id] = true
	}
	if !maps.Equal(got, nobodies) {
		t.Fatalf("%s comes to the nobodies %v; a delivery to %v", e.Address(group), got, nobodies)
	}
}

// agreePostings compares the kinds of poster with what each person's message does.
func agreePostings(t *testing.T, r *resolve.Resolver, group estate.ID, m resolve.Message) {
	t.Helper()
	e := r.Estate()
	list, ok := r.Flow(group, resolve.Message{}).Postings(m)
	if !ok {
		return
	}
	// What the paths say to somebody: two of one posting hear the same.
	paths := func(s resolve.Sender) string {
		text := ""
		for _, path := range r.Deliver(resolve.Query{Group: group, Sender: &s, Message: m}).Paths {
			text += fmt.Sprint(path.Group, path.State, " ")
		}
		return text
	}
	count, of := map[string]int{}, map[string]int{}
	for _, id := range e.PeopleByAddress() {
		if s := r.Sender(e.Address(id)); r.Gate(group).Post(s, m).Verdict == estate.Admit {
			count[paths(s)]++
		}
	}
	for _, p := range list {
		if verdict := r.Gate(group).Post(p.One, m).Verdict; verdict != estate.Admit {
			t.Fatalf("%s is a poster of %s: %s", p.One.Address, e.Address(group), verdict)
		}
		if p.Stranger == "" {
			of[paths(p.One)] += p.People
		}
	}
	for text, n := range count {
		if of[text] != n {
			t.Fatalf("%s: %d people are heard as %s, %d by the postings", e.Address(group), n, text, of[text])
		}
	}
	for _, p := range list {
		for _, id := range e.PeopleByAddress() {
			best, gets := r.Deliver(resolve.Query{Group: group, Sender: &p.One, Message: m, Author: resolve.NoAuthor}).Best(id)
			outcome, path := best.Outcome, best.Path
			want, there := wanted(r, group, id, p.One, m)
			if gets != there || gets && outcome != want {
				t.Fatalf("%s gets %s, %t of %s from %s; a delivery gives %s, %t", e.Address(id), outcome, gets, e.Address(group),
					p.One.Address, want, there)
			}
			if gets && !e.IsGroup(path.Group) {
				t.Fatalf("%s gets it over %d", e.Address(id), path.Group)
			}
		}
	}
}

// wanted returns what a delivery gives a person; a person's own message is passed over, as
// groups may not send it back.
func wanted(r *resolve.Resolver, group, person estate.ID, s resolve.Sender, m resolve.Message) (resolve.Outcome, bool) {
	d := r.Deliver(resolve.Query{Group: group, Sender: &s, Message: m})
	if s.ID == person {
		for _, one := range r.Deliver(resolve.Query{Group: group, Sender: &s, Message: m, Author: resolve.NoAuthor}).Outcomes() {
			if one.Person == person {
				return one.Outcome, true
			}
		}
		return resolve.Nothing, false
	}
	for _, recipient := range d.Recipients() {
		if recipient.ID == person {
			return recipient.Outcome, true
		}
	}
	return resolve.Nothing, false
}

// agreeNewcomers compares a set of people, if all were new, with asking about each.
func agreeNewcomers(t *testing.T, r *resolve.Resolver, group estate.ID) {
	t.Helper()
	e := r.Estate()
	for _, rule := range e.Group(group).Gate {
		for _, m := range []resolve.Message{{}, {Suspect: true, Automatic: true}} {
			set := r.Gate(group).AsNewcomers(rule.Selector, m)
			for i := range e.People() {
				id := e.PersonID(i)
				s := r.Sender(e.Address(id))
				if want := r.Gate(group).EvalAsNewcomer(rule.Selector, s, m); set.Contains(uint32(id)) != want {
					t.Fatalf("%q of %s is true for %s as a newcomer: %t, asked alone %t", rule.Text, e.Address(group), s.Address, !want, want)
				}
			}
		}
	}
}

// agreeSideBySide looks at every group once, in order.
func agreeSideBySide(t *testing.T, r *resolve.Resolver) {
	t.Helper()
	var got []estate.ID
	for _, part := range resolve.SideBySide(r, func(fork *resolve.Resolver, from, to estate.ID) (list []estate.ID) {
		for id := from; id < to; id++ {
			if fork.Estate() != r.Estate() || fork.Today() != r.Today() {
				t.Error("a fork has another estate or day")
			}
			list = append(list, id)
		}
		return list
	}) {
		got = append(got, part...)
	}
	want := []estate.ID(nil)
	for id := range estate.ID(r.Estate().Groups()) {
		want = append(want, id)
	}
	if !slices.Equal(got, want) {
		t.Fatalf("looked at %v, want %v", got, want)
	}
}

// What rules ask about is all that has to be tried.
func TestAsks(t *testing.T) {
	const text = `yorvet: 1
domains: [k.example]
people: [{address: ann@k.example, also: [ann@far.example, a@k.example]}]
groups:
  - address: g@k.example
    also: [g2@k.example]
    gate: [refuse suspect and larger(10kB), hold ann@k.example or ANN@k.example or @x.example, admit @*.y.example or larger(1kB) or larger(10kB)]
  - {address: h@k.example, gate: [refuse unproven, admit invitation or automatic]}
`
	r := sample.Load(t, text)
	e := r.Estate()
	a := r.AsksOf(e.Group(0).Gate)
	if got := fmt.Sprint(a.Named); got != "[ann@k.example "+resolve.MadeUp+"@x.example "+resolve.MadeUp+"@"+resolve.Below+"y.example]" {
		t.Errorf("named are %s", got)
	}
	if fmt.Sprint(a.Sizes) != "[0 1001 10001]" || !a.Domains || !a.Kinds[selector.Suspect] || a.Kinds[selector.Automatic] {
		t.Errorf("asked is %+v", a)
	}
	if got := a.Messages(); len(got) != 12 || got[0] != (resolve.Message{}) || got[1] != (resolve.Message{Size: 1001}) ||
		got[3] != (resolve.Message{Suspect: true}) || got[6] != (resolve.Message{Unproven: true}) {
		t.Errorf("messages are %+v", got)
	}
	if a.KnownTried(resolve.Message{Unproven: true}) || !a.KnownTried(resolve.Message{}) {
		t.Error("people are tried with forged messages, though no rule asks about them")
	}
	both := r.AsksOf(e.Group(1).Gate)
	if both.Domains || !both.KnownTried(resolve.Message{Unproven: true}) {
		t.Errorf("asked is %+v", both)
	}
	if got := both.Traits(); len(got) != 4 || got[3] != (resolve.Message{Automatic: true, Invitation: true}) {
		t.Errorf("traits are %+v", got)
	}
	var further []string
	for _, s := range r.FurtherAddresses() {
		further = append(further, s.Address.String())
	}
	if fmt.Sprint(further) != "[ann@far.example]" {
		t.Errorf("further addresses are %v", further)
	}
	for text, want := range map[string]string{
		resolve.MadeUp + "@x.example": "@x.example", resolve.MadeUp + "@" + resolve.Below + "y.example": "@*.y.example",
		"ann@k.example": "ann@k.example",
	} {
		if got := r.Sender(address.MustParse(text)).Claimed(); got != want {
			t.Errorf("%s claims %s, want %s", text, got, want)
		}
	}
}

// The rule that decides is found again by what it decided.
func TestDecidingRule(t *testing.T) {
	r := sample.Load(t, `yorvet: 1
domains: [k.example]
edge: [refuse @bad.example because "Not from there."]
people: []
groups: [{address: g@k.example, gate: [refuse @x.example, hold suspect because "Wait.", admit anyone]}]
`)
	for _, test := range []struct {
		from, text string
		m          resolve.Message
		edge       int
	}{
		{"a@bad.example", "Not from there.", resolve.Message{}, 1},
		{"a@x.example", "", resolve.Message{}, 0},
		{"a@y.example", "Wait.", resolve.Message{Suspect: true}, 0},
		{"a@y.example", "", resolve.Message{}, 0},
	} {
		s := r.Sender(address.MustParse(test.from))
		d := r.Gate(0).Post(s, test.m)
		if got := r.Gate(0).Because(d); got != test.text || d.Edge != test.edge {
			t.Errorf("%s: %q by edge %d, want %q by %d", test.from, got, d.Edge, test.text, test.edge)
		}
		rule := r.Gate(0).Rule(d)
		if rule == nil || rule.Because != test.text || rule.Verdict != d.Verdict {
			t.Errorf("%s: the rule is %+v", test.from, rule)
		}
		trace := r.Gate(estate.None).Trace(s, test.m)
		if len(trace) != 1 || trace[0].Matched != (test.edge > 0) || trace[0].Rule != 1 {
			t.Errorf("%s: the edge is traced as %+v", test.from, trace)
		}
	}
	if rule := r.Gate(0).Rule(resolve.Decision{Verdict: estate.Refuse}); rule != nil {
		t.Errorf("no rule is %+v", rule)
	}
}
