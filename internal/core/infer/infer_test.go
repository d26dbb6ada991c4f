package infer

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change/changetest"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

const pier = `yorvet: 1
domains: [kelp.example, {domain: old.example, same-as: kelp.example}]
code-sender: codes@post.example
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example, attributes: {post: deck}}
  - {address: cy@kelp.example}
  - {address: dee@kelp.example}
  - {address: eli@kelp.example, attributes: {post: deck}}
groups:
  - address: main@kelp.example
    also: [other@kelp.example]
    gate: [refuse unproven, hold suspect, admit members or moderators, admit outside]
    moderators: [cy@kelp.example]
    send-as: [as ada@kelp.example]
    members: [ada@kelp.example, {address: cy@kelp.example, copy: digest}, nested@kelp.example, guest@far.example]
  - address: nested@kelp.example
    gate: [admit anyone]
    members: [{where: (post=deck)}]
`

// trials are messages to the main group by everybody and the strangers.
func trials(r *resolve.Resolver) []Trial {
	strangers := r.Strangers()
	main := address.MustParse("main@kelp.example")
	list := []Trial{
		{From: strangers.Outside.Address, To: main}, {From: strangers.Inside.Address, To: main, Message: resolve.Message{Unproven: true}},
		{From: strangers.Outside.Address, To: main, Message: resolve.Message{Suspect: true}},
		{From: address.MustParse("ada@kelp.example"), To: main, Message: resolve.Message{Invitation: true}},
		{From: address.MustParse("ada@kelp.example"), To: address.MustParse("other@kelp.example")},
		{From: address.MustParse("ada@kelp.example"), To: address.MustParse("main@old.example")},
		{From: main, By: address.MustParse("ada@kelp.example"), To: address.MustParse("reader@away.example")},
	}
	for _, id := range r.Estate().PeopleByAddress() {
		list = append(list, Trial{From: r.Estate().Address(id), To: main})
	}
	return list
}

// look fills in what would be seen of trials by an estate: told by the resolver, whose
// own test has a second implementation, and not by what is tested here.
func look(r *resolve.Resolver, list []Trial) {
	e := r.Estate()
	for i := range list {
		t := &list[i]
		t.Seen = Seen{Verdicts: OneOf(estate.Refuse), People: map[estate.ID]Outcomes{}}
		from := r.Sender(t.From)
		if t.By.IsValid() {
			by := r.Sender(t.By)
			if !e.IsGroup(from.ID) {
				continue
			}
			if sendAs, _ := r.Rights(from.ID).SendAs(by); sendAs == estate.NoSendAs || r.Rights(from.ID).Proof(by.ID) == resolve.ProofImpossible {
				continue
			}
		}
		to, known := e.Find(t.To)
		switch {
		case !known && !e.InsideDomain(t.To.Domain()):
			t.Seen.Verdicts = OneOf(estate.Admit)
			continue
		case !known || !e.IsGroup(to):
			continue
		}
		verdict := r.Gate(to).Post(from, t.Message).Verdict
		t.Seen.Verdicts = OneOf(verdict)
		for _, id := range e.PeopleByAddress() {
			t.Seen.People[id] = Either(None)
		}
		if verdict != estate.Admit {
			continue
		}
		for _, recipient := range r.Deliver(resolve.Query{Group: to, Sender: &from, Message: t.Message}).Recipients() {
			if e.IsPerson(recipient.ID) {
				t.Seen.People[recipient.ID] = Either(recipient.Outcome)
			}
		}
	}
}

// What is otherwise is named first or second.
func TestExplain(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"{address: cy@kelp.example, copy: digest}", "{address: cy@kelp.example, copy: none}", "SetMember main@kelp.example cy@kelp.example {Group:0 Entry:1 Membership:{Copy:none"},
		{"{address: cy@kelp.example, copy: digest}, ", "", "RemoveMember main@kelp.example cy@kelp.example"},
		{"members: [ada@kelp.example, {", "members: [{address: ada@kelp.example, invitations: none}, {", "SetMember main@kelp.example ada@kelp.example {Group:0 Entry:0 Membership:{Copy: Invitations:none"},
		{", guest@far.example]", ", {address: guest@far.example, copy: digest}]", "SetMember main@kelp.example guest@far.example {Group:0 Entry:3 Membership:{Copy:digest"},
		{"nested@kelp.example, guest", "{address: nested@kelp.example, copy: none}, guest", "SetMember main@kelp.example nested@kelp.example {Group:0 Entry:2 Membership:{Copy:none"},
		{"gate: [admit anyone]", "gate: [admit inside]", "Rule nested@kelp.example - {Group:1 Setting:gate"},
		{"hold suspect, ", "", "RemoveRule main@kelp.example - {Group:0 Setting:gate At:1}"},
		{"hold suspect", "refuse suspect", "SetRule main@kelp.example - {Group:0 Setting:gate At:1 Text:refuse suspect}"},
		{"refuse unproven, ", "", "RemoveRule main@kelp.example - {Group:0 Setting:gate At:0}"},
		{", admit outside]", "]", "Rule main@kelp.example - {Group:0 Setting:gate At:3"},
		{", admit outside]", ", hold outside]", "SetRule main@kelp.example - {Group:0 Setting:gate At:3 Text:hold outside}"},
		{"{address: ada@kelp.example}", "{address: ada@kelp.example, mailbox: full}", "SetPerson - ada@kelp.example {Person:2 Field:mailbox Text:full}"},
		{"    moderators: [cy@kelp.example]\n", "    echo: false\n    moderators: [cy@kelp.example]\n", "SetSetting main@kelp.example - {Group:0 Setting:echo Texts:[false]}"},
		{"    moderators: [cy@kelp.example]\n", "    moderators: [cy@kelp.example, dee@kelp.example]\n", "Text:admit "},
		{"    also: [other@kelp.example]\n", "", "SetList main@kelp.example - {Group:0 Setting:also Drop:[other@kelp.example] Add:[]}"},
		{"    send-as: [as ada@kelp.example]\n", "", "RemoveRule main@kelp.example - {Group:0 Setting:send-as At:0}"},
		{"bo@kelp.example, attributes: {post: deck}", "bo@kelp.example, attributes: {post: pier}", "SetMemberRule nested@kelp.example - {Group:1 Rule:0 Filter:(&(post=deck)(!(address=bo@kelp.example)))"},
		{"members: [{where: (post=deck)}]", "copy: every\n    members: [{where: (post=deck)}]", ""},
		{"  - address: nested@kelp.example\n", "  - address: nested@kelp.example\n    kind: forum\n    copy: none\n", "SetSetting nested@kelp.example - {Group:1 Setting:kind Texts:"},
		{"code-sender: codes@post.example\n", "code-sender: codes@post.example\nnested-gates: open\n", ""},
	} {
		if !strings.Contains(pier, c.old) {
			t.Fatalf("%q is not in the estate", c.old)
		}
		r, real := sample.Load(t, pier), sample.Load(t, strings.Replace(pier, c.old, c.new, 1))
		list := trials(r)
		look(real, list)
		moveTo(r.Estate(), real.Estate(), list)
		found := Misses(r, list)
		causes, lost := Explain(r, list)
		var said []string
		for _, cause := range causes {
			for _, h := range cause.Hypotheses[:min(2, len(cause.Hypotheses))] {
				says := changetest.Tell(r.Estate(), h.Change)
				if h.And != nil {
					says += " and " + changetest.Tell(r.Estate(), h.And)
				}
				said = append(said, says)
			}
		}
		if len(found) == 0 != (c.want == "") {
			t.Errorf("%q for %q: %d misses", c.new, c.old, len(found))
		}
		if c.want != "" && !slices.ContainsFunc(said, func(s string) bool { return strings.Contains(s, c.want) }) {
			t.Errorf("%q for %q: %q, %d lost; want %q", c.new, c.old, said, len(lost), c.want)
		}
	}
}

// moveTo numbers what was seen of people as another estate does.
func moveTo(e, from *estate.Estate, list []Trial) {
	for i := range list {
		people := map[estate.ID]Outcomes{}
		for id, set := range list[i].Seen.People {
			if to, ok := e.Find(from.Address(id)); ok {
				people[to] = set
			}
		}
		list[i].Seen.People = people
	}
}

// What happens as predicted needs no explanation, and what nobody gets although
// others do, by no setting, is lost.
func TestNothingToExplain(t *testing.T) {
	for seed := range 60 {
		r := sample.Load(t, sample.Estate(rand.New(rand.NewPCG(uint64(seed), 11))))
		e := r.Estate()
		var list []Trial
		for group := range estate.ID(e.Groups()) {
			for _, id := range e.PeopleByAddress() {
				list = append(list, Trial{From: e.Address(id), To: e.Address(group)})
			}
		}
		look(r, list)
		if causes, lost := Explain(r, list); len(causes)+len(lost) > 0 {
			t.Fatalf("estate %d: %d causes, %d lost", seed, len(causes), len(lost))
		}
	}
	r := sample.Load(t, pier)
	list := trials(r)
	look(r, list)
	ada, _ := r.Estate().Find(address.MustParse("ada@kelp.example"))
	list[0].Seen.People[ada] = Either(None) // one copy of many
	if causes, lost := Explain(r, list); len(lost) != 1 && (len(causes) != 1 || causes[0].Hypotheses[0].And == nil) {
		t.Errorf("a lost copy: %d causes, %d lost", len(causes), len(lost))
	}
}

// Two settings that hide each other are found together.
func TestPair(t *testing.T) {
	r := sample.Load(t, pier)
	real := sample.Load(t, strings.NewReplacer("hold suspect", "refuse suspect", "{address: cy@kelp.example, copy: digest}", "{address: cy@kelp.example, copy: every}").Replace(pier))
	list := trials(r)
	look(real, list)
	causes, lost := Explain(r, list)
	if len(causes) != 2 || len(lost) > 0 {
		t.Fatalf("%d causes, %d lost", len(causes), len(lost))
	}
	if a, b := len(causes[0].Explains), len(causes[1].Explains); a <= b {
		t.Errorf("the first cause explains %d, the second %d", a, b)
	}
}

// Of several causes the one that explains most comes first.
func TestCausesByWeight(t *testing.T) {
	replaced := strings.NewReplacer("    also: [other@kelp.example]\n", "", "{address: ada@kelp.example}", "{address: ada@kelp.example, mailbox: full}").Replace(pier)
	r, real := sample.Load(t, pier), sample.Load(t, replaced)
	list := trials(r)
	look(real, list)
	moveTo(r.Estate(), real.Estate(), list)
	causes, lost := Explain(r, list)
	if len(causes) != 2 || len(lost) > 0 {
		t.Fatalf("%d causes, %d lost: %+v", len(causes), len(lost), causes)
	}
	if len(causes[0].Explains) <= len(causes[1].Explains) {
		t.Errorf("the first explains %d, the second %d", len(causes[0].Explains), len(causes[1].Explains))
	}
}
