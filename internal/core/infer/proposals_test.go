package infer

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/change/changetest"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/golden"
	"yorvet.example/yorvet/internal/sample"
)

// moorings has much of what proposals are about.
const moorings = `yorvet: 1
domains: [kelp.example, {domain: old.example, same-as: kelp.example}]
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example, attributes: {post: deck}}
  - {address: cy@kelp.example, mailbox: full}
  - {address: dee@kelp.example}
groups:
  - address: main@kelp.example
    also: [other@kelp.example]
    gate: [refuse suspect, admit in crew@kelp.example, admit members]
    owners: [cy@kelp.example]
    send-as: [as ada@kelp.example, for bo@kelp.example]
    members: [{address: ada@kelp.example, paused: true}, nested@kelp.example, {address: shut@kelp.example, copy: none}, guest@far.example]
  - {address: nested@kelp.example, kind: forum, gate: [admit anyone], echo: false, members: [{where: (post=deck)}, {everyone: true, copy: digest}]}
  - {address: shut@kelp.example, gate: [], members: [{address: dee@kelp.example, since: 2026-01-05}]}
  - {address: crew@kelp.example, kind: roster, members: [bo@kelp.example]}
`

// What is proposed for a miss, and how likely each is, lightest first.
func TestProposals(t *testing.T) {
	r := sample.Load(t, moorings)
	at := address.MustParse
	main, none := at("main@kelp.example"), ""
	var lines []string
	for _, c := range []struct {
		name   string
		trial  Trial
		person string // "" where the verdict was missed
	}{
		{"a stranger's verdict", Trial{From: at("x@far.example"), To: main}, none},
		{"a forger's verdict", Trial{From: at("ada@kelp.example"), To: main, Message: resolve.Message{Unproven: true}}, none},
		{"a suspect invitation of a program", Trial{From: at("bo@kelp.example"), To: main, Message: resolve.Message{Suspect: true, Invitation: true, Automatic: true}}, none},
		{"a member's verdict", Trial{From: at("ada@kelp.example"), To: main}, none},
		{"an owner's verdict, by another address", Trial{From: at("cy@kelp.example"), To: at("other@kelp.example")}, none},
		{"a verdict in another domain", Trial{From: at("ada@kelp.example"), To: at("main@old.example")}, none},
		{"send-as", Trial{From: main, By: at("ada@kelp.example"), To: at("x@far.example")}, none},
		{"send-as to a group", Trial{From: main, By: at("dee@kelp.example"), To: at("nested@kelp.example")}, none},
		{"send-as of a person", Trial{From: at("ada@kelp.example"), By: at("dee@kelp.example"), To: at("x@far.example")}, none},
		{"what a member got", Trial{From: at("bo@kelp.example"), To: main}, "ada@kelp.example"},
		{"what somebody by a rule got", Trial{From: at("bo@kelp.example"), To: main}, "bo@kelp.example"},
		{"what somebody in a shut group got", Trial{From: at("bo@kelp.example"), To: main}, "dee@kelp.example"},
		{"what a guest got", Trial{From: at("bo@kelp.example"), To: main}, "guest@far.example"},
		{"what somebody got of a nested group", Trial{From: at("bo@kelp.example"), To: at("nested@kelp.example")}, "cy@kelp.example"},
		{"what somebody got of a roster", Trial{From: at("bo@kelp.example"), To: at("crew@kelp.example")}, "ada@kelp.example"},
		{"what somebody got of nobody", Trial{From: at("bo@kelp.example"), To: at("none@kelp.example")}, "ada@kelp.example"},
	} {
		x := &search{r: r, trials: []Trial{c.trial}}
		miss := Miss{0, estate.None}
		if c.person != none {
			miss.Person, _ = r.Estate().Find(at(c.person))
		}
		proposals := x.candidates(miss)
		slices.SortStableFunc(proposals, func(a, b proposal) int { return a.weight - b.weight })
		lines = append(lines, "# "+c.name)
		for _, p := range proposals {
			line := fmt.Sprintf("%2d %s", p.weight, changetest.Tell(r.Estate(), p.change))
			if p.lostAddress.IsValid() {
				line += " without " + p.lostAddress.String()
			}
			if p.lostDomain != "" {
				line += " without " + p.lostDomain
			}
			if !slices.Contains(lines[len(lines)-min(len(lines), 300):], line) {
				lines = append(lines, line)
			}
		}
	}
	golden.Compare(t, "proposals.txt", strings.Join(lines, "\n")+"\n")
}

// What is found, in its order, for single differences.
func TestRanking(t *testing.T) {
	var lines []string
	for _, d := range []struct{ old, new string }{
		{"{address: cy@kelp.example, copy: digest}", "{address: cy@kelp.example, copy: none}"},
		{"{address: cy@kelp.example, copy: digest}, ", ""},
		{", guest@far.example]", ", {address: guest@far.example, copy: digest}]"},
		{"nested@kelp.example, guest", "{address: nested@kelp.example, copy: none}, guest"},
		{"gate: [admit anyone]", "gate: [admit inside]"},
		{"gate: [admit anyone]", "gate: [hold anyone]"},
		{"hold suspect, ", ""},
		{"refuse unproven, ", "refuse unproven, refuse outside, "},
		{", admit outside]", "]"},
		{"    moderators: [cy@kelp.example]\n", "    echo: false\n    moderators: [cy@kelp.example]\n"},
		{"    moderators: [cy@kelp.example]\n", "    moderators: [cy@kelp.example, dee@kelp.example]\n"},
		{"    moderators: [cy@kelp.example]\n", "    outside-copy: none\n    moderators: [cy@kelp.example]\n"},
		{"    moderators: [cy@kelp.example]\n", "    kind: roster\n    moderators: [cy@kelp.example]\n"},
		{"    also: [other@kelp.example]\n", ""},
		{"    send-as: [as ada@kelp.example]\n", ""},
		{"{address: ada@kelp.example}", "{address: ada@kelp.example, mailbox: full}"},
		{"members: [ada@kelp.example, {", "members: [{address: ada@kelp.example, paused: true}, {"},
		{"members: [{where: (post=deck)}]", "members: [{where: (post=deck), copy: digest}]"},
		{"bo@kelp.example, attributes: {post: deck}", "bo@kelp.example, attributes: {post: pier}"},
		{"cy@kelp.example}\n", "cy@kelp.example, attributes: {post: deck}}\n"},
	} {
		if !strings.Contains(pier, d.old) {
			t.Fatalf("%q is not in the estate", d.old)
		}
		r, real := sample.Load(t, pier), sample.Load(t, strings.Replace(pier, d.old, d.new, 1))
		list := trials(r)
		look(real, list)
		moveTo(r.Estate(), real.Estate(), list)
		causes, lost := Explain(r, list)
		lines = append(lines, fmt.Sprintf("# %q for %q: %d lost", d.new, d.old, len(lost)))
		for _, cause := range causes {
			lines = append(lines, fmt.Sprintf("explains %d", len(cause.Explains)))
			for _, h := range cause.Hypotheses[:min(6, len(cause.Hypotheses))] {
				line := "  " + changetest.Tell(r.Estate(), h.Change)
				if h.And != nil {
					line += " and " + changetest.Tell(r.Estate(), h.And)
				}
				lines = append(lines, line)
			}
		}
	}
	golden.Compare(t, "ranking.txt", strings.Join(lines, "\n")+"\n")
}

// A prediction names the group whose gate decides, and no other.
func TestPredict(t *testing.T) {
	r := sample.Load(t, moorings)
	at := address.MustParse
	main, _ := r.Estate().Find(at("main@kelp.example"))
	for _, c := range []struct {
		from, by, to string
		verdict      estate.Verdict
		rule         int
		group        estate.ID
		gets         int
	}{
		{"bo@kelp.example", "", "main@kelp.example", estate.Admit, 2, main, 5},
		{"x@far.example", "", "other@kelp.example", estate.Refuse, 0, main, 0},
		{"bo@kelp.example", "", "ada@kelp.example", estate.Admit, 0, estate.None, 1},
		{"bo@kelp.example", "", "x@far.example", estate.Admit, 0, estate.None, 0},
		{"bo@kelp.example", "", "none@kelp.example", estate.Refuse, 0, estate.None, 0},
		{"main@kelp.example", "dee@kelp.example", "main@kelp.example", estate.Refuse, 0, estate.None, 0},
		{"main@kelp.example", "ada@kelp.example", "x@far.example", estate.Admit, 0, estate.None, 0},
	} {
		trial := Trial{From: at(c.from), To: at(c.to)}
		if c.by != "" {
			trial.By = at(c.by)
		}
		p := Predict(r, &trial)
		if p.Verdict != c.verdict || p.Rule != c.rule || p.Group != c.group || len(p.Outcomes) != c.gets {
			t.Errorf("from %s to %s: %v by rule %d of %d, %d outcomes; want %+v", c.from, c.to, p.Verdict, p.Rule, p.Group, len(p.Outcomes), c)
		}
	}
}

// Changes clash where the second would not find what it changes as it was.
func TestClashes(t *testing.T) {
	r := sample.Load(t, moorings)
	x := &search{r: r}
	e := r.Estate()
	ada := change.AddMember{Group: 0, Member: change.Member{Address: e.Address(e.PersonID(0))}}
	bo := change.AddMember{Group: 0, Member: change.Member{Address: e.Address(e.PersonID(1))}}
	gate := change.RemoveRule{Group: 0, Setting: "gate"}
	other := change.RemoveRule{Group: 1, Setting: "gate"}
	kind := change.SetSetting{Group: 0, Setting: "kind", Texts: []string{"list"}}
	for _, c := range []struct {
		a, b    change.Change
		clashes bool
	}{
		{ada, ada, true}, {ada, bo, false}, {gate, gate, true}, {gate, other, false}, {gate, kind, false}, {ada, gate, false},
		{change.SetMemberRule{Group: 1}, change.RemoveMemberRule{Group: 1}, true}, {change.SetMemberRule{Group: 0}, ada, true}, {ada, change.RemoveMemberRule{Group: 0}, true},
		{change.SetMember{Group: 0, Entry: 0}, change.RemoveMember{Group: 0, Entry: 0}, true}, {change.SetMember{Group: 0, Entry: 0}, change.RemoveMember{Group: 0, Entry: 1}, false},
	} {
		a, b := x.propose(1, c.a), x.propose(1, c.b)
		if a.clashes(b) != c.clashes || b.clashes(a) != c.clashes {
			t.Errorf("%T and %T clash: %v and %v, want %v", c.a, c.b, a.clashes(b), b.clashes(a), c.clashes)
		}
	}
}

// What a change can matter to, and which addresses lead nowhere by it.
func TestReach(t *testing.T) {
	r := sample.Load(t, moorings)
	at := address.MustParse
	x := &search{r: r, trials: []Trial{
		{From: at("bo@kelp.example"), To: at("main@kelp.example")}, {From: at("bo@kelp.example"), To: at("shut@kelp.example")},
		{From: at("shut@kelp.example"), To: at("ada@kelp.example")}, {From: at("bo@kelp.example"), To: at("x@far.example")},
	}}
	x.reach()
	for i, want := range [][]estate.ID{{0, 1, 2, 3}, {2}, {2}, {}} {
		var got []estate.ID
		for id := range x.touches[i] {
			got = append(got, id)
		}
		if slices.Sort(got); !slices.Equal(got, want) {
			t.Errorf("trial %d touches %v, want %v", i, got, want)
		}
	}
	lost := x.propose(1, change.RemoveDomain{Name: "old.example"})
	lost.lostDomain = "old.example"
	gone := x.propose(1, change.RemoveGroup{Group: 0})
	gone.lostAddress = at("main@kelp.example")
	plain := x.propose(1, change.RemoveRule{Group: 0, Setting: "gate"})
	for _, c := range []struct {
		p    proposal
		to   string
		gone bool
	}{
		{lost, "main@old.example", true}, {lost, "main@kelp.example", false}, {gone, "Main@Kelp.example", true}, {gone, "other@kelp.example", false}, {plain, "main@kelp.example", false},
	} {
		if got := c.p.gone(at(c.to)); got != c.gone {
			t.Errorf("%T: %s is gone: %v", c.p.change, c.to, got)
		}
	}
	box := x.propose(1, change.SetPerson{Person: r.Estate().PersonID(0), Field: "mailbox", Text: "full"})
	seen := &Trial{Seen: Seen{People: map[estate.ID]Outcomes{r.Estate().PersonID(0): 0}}}
	if !box.matters(nil, seen) || box.matters(nil, &Trial{}) || !plain.matters(map[estate.ID]bool{0: true}, &Trial{}) || plain.matters(map[estate.ID]bool{1: true}, seen) || !gone.matters(nil, &Trial{}) {
		t.Error("changes matter to other trials")
	}
}
