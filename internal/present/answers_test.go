package present

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// The first line of an answer says what is listed behind it, on any estate.
func TestFirstLines(t *testing.T) {
	for seed := range uint64(40) {
		r := sample.Load(t, sample.Estate(rand.New(rand.NewPCG(seed, 17))))
		e := r.Estate()
		for group := range estate.ID(e.Groups()) {
			for _, id := range e.PeopleByAddress() {
				s := r.Sender(e.Address(id))
				checkReceives(t, NewReceives(r, group, &s, resolve.Message{}))
			}
			checkReceives(t, NewReceives(r, group, nil, resolve.Message{}))
			a := NewSendsAs(r, group)
			if first := a.answer(); len(a.People) > 0 != strings.Contains(first, fmt.Sprintf(" %d p", len(a.People))) ||
				len(a.People) == 0 != strings.HasSuffix(first, "nobody may send as it") {
				t.Errorf("%q of %d", first, len(a.People))
			}
		}
		m := NewMatrix(r)
		hazards, forged := 0, 0
		for _, g := range m.Groups {
			hazards += min(1, g.Hazards)
			forged += min(1, g.Known+strings.Count(g.Forged, "admit"))
		}
		want := fmt.Sprintf(": %d with hazards", hazards)
		if forged > 0 {
			want += fmt.Sprintf(", %d that admit forged mail", forged)
		}
		if len(m.Groups) > 1 {
			median, p95, most, all := spreadOf(m.Groups)
			want += fmt.Sprintf("; get: median %d, 95 %% at most %d, most %d, in all %d", median, p95, most, all)
		}
		if first := m.answer(); !strings.HasSuffix(first, want) || !strings.HasPrefix(first, fmt.Sprint(e.Groups())) {
			t.Errorf("%q, want %q", first, want)
		}
		for _, id := range e.PeopleByAddress() {
			checkPerson(t, NewPerson(r, id))
		}
	}
}

// spreadOf looks for the least numbers that half of the rows, 95 in 100 and all do not exceed.
func spreadOf(rows []MatrixRow) (median, p95, most, all int) {
	get := func(r MatrixRow) int { return r.Receives["inbox"] + r.Receives["digest"] + r.Receives["archive"] }
	least := func(share float64) int {
		for n := 0; ; n++ {
			within := 0
			for _, r := range rows {
				if get(r) <= n {
					within++
				}
			}
			if float64(within) >= share*float64(len(rows)) {
				return n
			}
		}
	}
	for _, r := range rows {
		all += get(r)
	}
	return least(0.5), least(0.95), least(1), all
}

func checkReceives(t *testing.T, a *Receives) {
	t.Helper()
	counts := map[string]int{}
	for _, one := range a.Recipients {
		counts[one.Outcome]++
	}
	first := a.answer()
	all, gets := len(a.Recipients), counts["inbox"]+counts["digest"]
	missing := all - gets - counts["archive"]
	want := fmt.Sprintf(": %d of %d addresses get it", gets, all)
	switch {
	case a.Decision != nil && a.Verdict == "hold":
		want = ": held for approval, nobody gets it before that"
	case a.Decision != nil && a.Verdict != "admit":
		want = "ed, nobody gets it"
	case all == 0:
		want = ": nobody receives it"
	case all == 1:
		want = ": one address, " + a.Recipients[0].Outcome
	default:
		if strings.Contains(strings.Replace(first, "does", "do", 1), fmt.Sprintf(", %d do not", missing)) != (missing > 0) {
			t.Errorf("%q, with %d who do not", first, missing)
		}
	}
	if !strings.Contains(first, want) {
		t.Errorf("%q, want %q", first, want)
	}
}

func checkPerson(t *testing.T, a *Person) {
	t.Helper()
	gets := 0
	for _, g := range a.Receives {
		if g.Outcome == "inbox" || g.Outcome == "digest" || g.Outcome == "archive" {
			gets++
		}
	}
	want := fmt.Sprintf("gets mail of %d of %d group", gets, len(a.Receives))
	if len(a.Receives) == 0 {
		want = "gets no group's mail"
	}
	first := a.answer()
	if !strings.Contains(first, want) || len(a.Receives) > 0 && !strings.HasSuffix(first, ", if every gate admits") {
		t.Errorf("%q, want %q", first, want)
	}
	if worst, misses := a.worst(), len(a.Receives) > gets; misses != (worst != nil) {
		t.Errorf("the worst is %+v, with %d of %d", worst, gets, len(a.Receives))
	}
}

// An explanation begins with what becomes of the message, and for whom it waits.
func TestExplanationFirst(t *testing.T) {
	r := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}, {address: bob@kelp.example}]
groups:
  - {address: desk@kelp.example, gate: [refuse suspect, hold bob@kelp.example, admit inside], owners: [ann@kelp.example], members: [ann@kelp.example, bob@kelp.example]}
  - {address: lone@kelp.example, gate: [hold anyone]}
`)
	for _, c := range []struct{ from, to, answer, rule, waits string }{
		{"ann@kelp.example", "desk@kelp.example", "Admitted: ann@kelp.example to desk@kelp.example, 2 of 2 addresses get it", "rule 3: admit inside", ""},
		{"bob@kelp.example", "desk@kelp.example", "Held: bob@kelp.example to desk@kelp.example", "rule 2: hold bob@kelp.example", "; waits for ann@kelp.example (owner)"},
		{"bob@kelp.example", "lone@kelp.example", "Held: bob@kelp.example to lone@kelp.example", "rule 1: hold anyone", "; nobody can release it: there is no moderator or owner"},
		{"out@far.example", "desk@kelp.example", "Refused: out@far.example to desk@kelp.example", noMatch, ""},
		{"ann@kelp.example", "bob@kelp.example", "Admitted: ann@kelp.example to bob@kelp.example, one address, inbox", "mail to a person passes no gate", ""},
	} {
		a := NewExplanation(r, Case{As: estate.None, From: address.MustParse(c.from), To: address.MustParse(c.to)})
		rule, waits := a.reason()
		if first := a.answer(); first != c.answer || rule != c.rule || waits != c.waits {
			t.Errorf("%q, %q, %q; want %q, %q, %q", first, rule, waits, c.answer, c.rule, c.waits)
		}
	}
}
