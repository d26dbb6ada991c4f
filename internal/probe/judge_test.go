package probe

import (
	"slices"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/sample"
)

// pontoon has a list with a forum and a held group nested in it.
const pontoon = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example}
  - {address: cy@kelp.example}
  - {address: dee@kelp.example, mailbox: full}
  - {address: eli@kelp.example}
groups:
  - address: main@kelp.example
    gate: [admit anyone]
    owners: [cy@kelp.example]
    members: [ada@kelp.example, bo@kelp.example, dee@kelp.example, shelf@kelp.example, held@kelp.example]
  - {address: shelf@kelp.example, kind: forum, gate: [admit anyone], members: [{address: cy@kelp.example, copy: none}]}
  - {address: held@kelp.example, gate: [hold anyone], owners: [bo@kelp.example], members: [eli@kelp.example]}
  - {address: lone@kelp.example, gate: [admit anyone], owners: [cy@kelp.example], members: [ada@kelp.example]}
  - {address: pair@kelp.example, gate: [admit anyone], owners: [dee@kelp.example], members: [ada@kelp.example, bo@kelp.example]}
  - {address: outer@kelp.example, gate: [admit anyone], members: [ada@kelp.example, kept@kelp.example]}
  - {address: kept@kelp.example, kind: forum, gate: [hold anyone], owners: [bo@kelp.example], members: [cy@kelp.example]}
  - {address: mute@kelp.example, gate: [admit anyone], members: [dee@kelp.example]}
  - {address: shut@kelp.example, gate: [refuse anyone], members: [ada@kelp.example]}
`

// seen is one sighting of the only case, made by hand.
func seen(what, box string, change ...func(*Sighting)) Sighting {
	s := Sighting{Place: mailbox.Place{Account: box, Folder: "INBOX", Role: mailbox.Inbox}, What: what}
	for _, c := range change {
		c(&s)
	}
	return s
}

func names(groups ...string) func(*Sighting) {
	return func(s *Sighting) { s.Text = strings.Join(groups, " ") }
}

func failed(who, action, status string) func(*Sighting) {
	return func(s *Sighting) {
		s.Failed = append(s.Failed, read.Failure{Final: who, Action: action, Status: status})
	}
}

// judging is what is looked at of one case, and what it comes to.
type judging struct {
	name     string
	to       string // the group; main@kelp.example by default
	from     string // bo@kelp.example by default
	reply    send.Reply
	unproven bool
	unsent   bool
	unsure   bool
	approved bool
	watched  []string // all of them by default
	seen     []Sighting
	want     string
	verdicts infer.Verdicts
	people   map[string]infer.Outcomes // of those who are named
}

func (c judging) run(t *testing.T) *judge {
	t.Helper()
	r := sample.Load(t, pontoon)
	if c.to == "" {
		c.to = "main@kelp.example"
	}
	if c.from == "" {
		c.from = "bo@kelp.example"
	}
	if c.watched == nil {
		for _, id := range r.Estate().PeopleByAddress() {
			c.watched = append(c.watched, r.Estate().Address(id).String())
		}
		for id := range estate.ID(r.Estate().Groups()) {
			c.watched = append(c.watched, r.Estate().Address(id).String())
		}
	}
	if c.reply == (send.Reply{}) {
		c.reply = send.Reply{Stage: "message", Code: 250}
	}
	id, ok := r.Estate().Find(address.MustParse(c.to))
	if !ok {
		id = 0 // a member of main@kelp.example answers somebody outside
	}
	p := &RunPlan{resolver: r, Cases: []Case{{Group: id, From: address.MustParse(c.from), To: address.MustParse(c.to),
		Traits: resolve.Message{Unproven: c.unproven}}}}
	run := &Run{Plan: p, Replies: map[int]send.Reply{0: c.reply}, Unsure: map[int]bool{0: c.unsure}, Sightings: c.seen, Approved: map[int]bool{0: c.approved}}
	if c.unsent {
		run.Replies = nil
	}
	w := &judge{run: run, c: &p.Cases[0], e: run.gather()[0], watched: map[string]bool{}, p: p.Predict(0)}
	for _, name := range c.watched {
		w.watched[name] = true
	}
	return w
}

// What the gate said is told from what was seen, and no more than that.
func TestVerdictOfSightings(t *testing.T) {
	admit, hold, refuse, drop := infer.OneOf(estate.Admit), infer.OneOf(estate.Hold), infer.OneOf(estate.Refuse), infer.OneOf(estate.Drop)
	all := ^infer.Verdicts(0)
	everywhere := send.Reply{Stage: "to", Code: 550, Text: "no", Plain: &send.Reply{Stage: "to", Code: 550, Text: "no"}}
	ada, bo, cy, main := "ada@kelp.example", "bo@kelp.example", "cy@kelp.example", "main@kelp.example"
	for _, c := range []judging{
		{name: "a copy", seen: []Sighting{seen(agent.Copy, ada)}, want: "admit", verdicts: admit},
		{name: "a digest", seen: []Sighting{seen(agent.Digest, ada)}, want: "admit", verdicts: admit},
		{name: "somebody is asked", seen: []Sighting{seen(agent.Approval, cy, names(main))}, want: "hold", verdicts: hold},
		{name: "somebody is asked, without a name", seen: []Sighting{seen(agent.Approval, cy)}, want: "hold", verdicts: hold},
		{name: "the sender is told", seen: []Sighting{seen(agent.Notice, bo, names(main))}, want: "hold", verdicts: hold},
		{name: "the sender is told, without a name", seen: []Sighting{seen(agent.Notice, bo)}, want: "hold", verdicts: hold},
		{name: "somebody else is told", seen: []Sighting{seen(agent.Notice, ada, names(main))}, want: Silence, verdicts: drop},
		{name: "the sender is told of another group", seen: []Sighting{seen(agent.Notice, bo, names("held@kelp.example"))}, want: Silence, verdicts: drop},
		{name: "asked and a copy, as somebody released it", seen: []Sighting{seen(agent.Approval, cy, names(main)), seen(agent.Copy, ada)}, want: "hold", verdicts: hold},
		{name: "asked without a name, which a nested group does, and a copy", seen: []Sighting{seen(agent.Approval, cy), seen(agent.Copy, ada)}, want: "admit", verdicts: admit},
		{name: "asked without a name, and a copy", to: "lone@kelp.example", seen: []Sighting{seen(agent.Approval, cy), seen(agent.Copy, ada)}, want: "hold", verdicts: hold},
		{name: "asked, released, and a copy", approved: true, seen: []Sighting{seen(agent.Approval, cy, names(main)), seen(agent.Copy, ada)}, want: "hold", verdicts: hold},
		{name: "a nested group alone asks", seen: []Sighting{seen(agent.Approval, bo, names("held@kelp.example"))}, want: "admit", verdicts: admit},
		{name: "a nested group asks, and so does this one", want: "hold", verdicts: hold,
			seen: []Sighting{seen(agent.Approval, bo, names("held@kelp.example")), seen(agent.Approval, cy, names(main))}},
		{name: "all requests name a nested group, too", want: "admit", verdicts: admit,
			seen: []Sighting{seen(agent.Approval, bo, names("held@kelp.example", main))}},
		{name: "refused", reply: send.Reply{Stage: "to", Code: 550}, want: "refuse", verdicts: refuse},
		{name: "refused, as everywhere", reply: everywhere, want: NotSent, verdicts: all},
		{name: "forged, and refused everywhere", to: "shut@kelp.example", unproven: true, reply: everywhere, want: "refuse", verdicts: refuse},
		{name: "forged, let in, and refused everywhere", unproven: true, reply: everywhere, want: NotSent, verdicts: all},
		{name: "refused for good, and not by the group", to: "shut@kelp.example", reply: everywhere, want: NotSent, verdicts: all},
		{name: "put off", reply: send.Reply{Stage: "to", Code: 451}, want: Deferred, verdicts: all},
		{name: "put off, and a copy yet", reply: send.Reply{Stage: "to", Code: 451}, seen: []Sighting{seen(agent.Copy, ada)}, want: "admit", verdicts: admit},
		{name: "cut off", reply: send.Reply{Stage: "message"}, unsure: true, want: Unknown, verdicts: all},
		{name: "not sent", unsent: true, want: NotSent, verdicts: all},
		{name: "a login that fails", reply: send.Reply{Stage: "login", Code: 535, Text: "wrong"}, want: NotSent, verdicts: all},
		{name: "a server that nobody reaches", reply: send.Reply{Stage: "connect", Text: "nobody listens there"}, want: NotSent, verdicts: all},
		{name: "a rate limit", reply: send.Reply{Stage: "to", Code: 550, Text: "Too many messages"}, want: NotSent, verdicts: all},
		{name: "a request that is not believed", want: NotLookedAt, verdicts: all,
			seen: []Sighting{seen(agent.Approval, cy, names(main), func(s *Sighting) { s.Doubt = "it is not from inside" })}},
		{name: "the group bounces as not allowed", seen: []Sighting{seen(agent.Bounce, bo, failed(main, "failed", "5.7.1"))}, want: "refuse", verdicts: refuse},
		{name: "the group bounces as nobody", seen: []Sighting{seen(agent.Bounce, bo, failed(main, "failed", "5.1.1"))}, want: "refuse", verdicts: refuse},
		{name: "the group bounces for another reason", seen: []Sighting{seen(agent.Bounce, bo, failed(main, "failed", "5.4.6"))}, want: "admit", verdicts: admit | refuse},
		{name: "the group bounces, without an action", seen: []Sighting{seen(agent.Bounce, bo, failed(main, "", "5.7.1"))}, want: "refuse", verdicts: refuse},
		{name: "the group is only late", seen: []Sighting{seen(agent.Bounce, bo, failed(main, "delayed", "4.4.7"))}, want: Silence, verdicts: drop},
		{name: "a member bounces", seen: []Sighting{seen(agent.Bounce, bo, failed(ada, "failed", "5.7.1"))}, want: "admit", verdicts: admit},
		{name: "silence where several get it", to: "pair@kelp.example", want: Silence, verdicts: drop | hold},
		{name: "silence where several get it and an approver is looked at", want: Silence, verdicts: drop},
		{name: "silence where one gets it", to: "lone@kelp.example", want: Silence, verdicts: admit | drop},
		{name: "silence where one gets it and nobody who approves is looked at", to: "lone@kelp.example", watched: []string{ada}, want: Silence, verdicts: admit | drop | hold},
		{name: "silence where nobody gets it", to: "mute@kelp.example", want: Silence, verdicts: admit | drop | hold},
		{name: "silence where nobody is looked at", watched: []string{}, want: NotLookedAt, verdicts: all},
	} {
		w := c.run(t)
		sent, _ := w.sent()
		got, _, verdicts := w.outcome(sent)
		if got != c.want || verdicts != c.verdicts {
			t.Errorf("%s: %s, %b; want %s, %b", c.name, got, verdicts, c.want, c.verdicts)
		}
	}
}

// A message whose turn never came is told with why.
func TestNeverSent(t *testing.T) {
	large := judging{reply: send.Reply{Stage: "from", Code: 552, Status: "5.3.4", Text: "too big"}}.run(t)
	if sent, why := large.sent(); sent != SentNot || why != "from: 552 5.3.4 too big: the server takes no message of this size" {
		t.Errorf("%s, %s", sent, why)
	}
	w := judging{unsent: true}.run(t)
	for broken, want := range map[bool]string{true: "the run was interrupted before its turn came", false: "its turn did not come in time"} {
		w.run.Broken = broken
		if sent, why := w.sent(); sent != SentNot || !strings.HasPrefix(why, want) {
			t.Errorf("interrupted %t: %s, %s", broken, sent, why)
		}
	}
}

// What somebody may have got is told from their mailbox, and from what would have been
// seen elsewhere.
func TestOutcomesOfSightings(t *testing.T) {
	ada, bo, cy, dee, eli, main := "ada@kelp.example", "bo@kelp.example", "cy@kelp.example", "dee@kelp.example", "eli@kelp.example", "main@kelp.example"
	either := infer.Either
	nothing := either(infer.None, resolve.Nothing, resolve.Stopped)
	lost := nothing | either(resolve.Undeliverable)
	for _, c := range []judging{
		{name: "a copy, a digest", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Digest, bo)},
			people: map[string]infer.Outcomes{ada: either(resolve.Inbox), bo: either(resolve.Digest), eli: lost}},
		{name: "a bounce that names somebody", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Bounce, bo, failed(dee, "failed", "5.2.2"))},
			people: map[string]infer.Outcomes{dee: either(resolve.Undeliverable), ada: either(resolve.Inbox), eli: nothing}},
		{name: "a bounce that was not seen by an outsider", from: "guest@far.example", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Bounce, bo, failed(dee, "failed", "5.2.2"))},
			people: map[string]infer.Outcomes{eli: lost}},
		{name: "a nested group asks", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Approval, bo, names("held@kelp.example"))},
			people: map[string]infer.Outcomes{eli: lost | either(resolve.Waiting), cy: lost}},
		{name: "somebody asks, without a name", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Approval, bo)},
			people: map[string]infer.Outcomes{eli: lost | either(resolve.Waiting), cy: lost | either(resolve.Waiting)}},
		{name: "this group asks", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Approval, cy, names(main))},
			people: map[string]infer.Outcomes{eli: lost, cy: lost}},
		{name: "no approver of a nested group is looked at", watched: []string{ada, eli}, seen: []Sighting{seen(agent.Copy, ada)},
			people: map[string]infer.Outcomes{eli: lost | either(resolve.Waiting, resolve.Archive)}},
		{name: "a copy is in the archive", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Copy, "shelf@kelp.example")},
			people: map[string]infer.Outcomes{cy: lost | either(resolve.Archive)}},
		{name: "the archive is not looked at", watched: []string{ada, bo, cy, dee, eli}, seen: []Sighting{seen(agent.Copy, ada)},
			people: map[string]infer.Outcomes{cy: lost | either(resolve.Archive)}},
	} {
		w := c.run(t)
		w.verdict()
		got := w.seen()
		for name, want := range c.people {
			id, _ := w.estate().Find(address.MustParse(name))
			if got.People[id] != want {
				t.Errorf("%s: %s may have got %b, want %b", c.name, name, got.People[id], want)
			}
		}
		if _, told := got.People[w.c.Group]; told {
			t.Errorf("%s: a group is told of as a person", c.name)
		}
	}
	unseen := judging{watched: []string{ada}, seen: []Sighting{seen(agent.Copy, ada)}}.run(t)
	if got := unseen.seen(); len(got.People) != 1 {
		t.Errorf("of %d people something is told, and one was looked at", len(got.People))
	}
}

// inLook has a sighting seen last in the look that began at a second.
func inLook(second int64) func(*Sighting) {
	return func(s *Sighting) { s.Look = time.Unix(second, 0) }
}

// Beside what was predicted stands what was seen, of each mailbox.
func TestMembersOfSightings(t *testing.T) {
	ada, bo, shelf := "ada@kelp.example", "bo@kelp.example", "shelf@kelp.example"
	junk := func(s *Sighting) { s.Place.Role, s.Folder = mailbox.Junk, "Junk" }
	type row struct {
		who, predicted, seen string
		as                   bool
	}
	for _, c := range []struct {
		judging
		rows []row // some of them
	}{
		{judging{name: "as predicted", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Copy, bo), seen(agent.Copy, shelf)}},
			[]row{{ada, "inbox", "inbox", true}, {bo, "inbox", "inbox", true}, {shelf, "archive", "archive", true}, {"dee@kelp.example", "undeliverable", NoBounce, false}, {"eli@kelp.example", "waiting", SeenNot, false}}},
		{judging{name: "released", to: "held@kelp.example", approved: true, seen: []Sighting{seen(agent.Approval, bo), seen(agent.Copy, "eli@kelp.example")}}, []row{{"eli@kelp.example", "inbox", "inbox", true}}},
		{judging{name: "released by somebody else", to: "held@kelp.example", seen: []Sighting{seen(agent.Approval, bo, names("held@kelp.example")), seen(agent.Copy, "eli@kelp.example")}}, []row{{"eli@kelp.example", "inbox", "inbox", true}}},
		{judging{name: "refused, and so never released", to: "held@kelp.example", approved: true, reply: send.Reply{Stage: "to", Code: 550}}, []row{{"eli@kelp.example", "inbox", SeenNot, false}}},
		{judging{name: "in junk", seen: []Sighting{seen(agent.Copy, ada, junk)}}, []row{{ada, "inbox", SeenJunk, false}, {bo, "inbox", SeenNot, false}}},
		{judging{name: "twice", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Copy, ada)}}, []row{{ada, "inbox", SeenTwice, false}}},
		{judging{name: "moved, or with another UID, before the last look", seen: []Sighting{seen(agent.Copy, ada, inLook(1)), seen(agent.Copy, ada, inLook(2))}}, []row{{ada, "inbox", "inbox", true}}},
		{judging{name: "twice in the last look", seen: []Sighting{seen(agent.Copy, ada, inLook(1)), seen(agent.Copy, ada, inLook(2)), seen(agent.Copy, ada, inLook(2))}}, []row{{ada, "inbox", SeenTwice, false}}},
		{judging{name: "another outcome", seen: []Sighting{seen(agent.Digest, ada)}}, []row{{ada, "inbox", "digest", false}}},
		{judging{name: "an archive behind a gate that holds", to: "outer@kelp.example", seen: []Sighting{seen(agent.Copy, ada)}}, []row{{ada, "inbox", "inbox", true}, {"kept@kelp.example", "", "none", false}}},
		{judging{name: "no archive", seen: []Sighting{seen(agent.Copy, ada)}}, []row{{shelf, "archive", SeenNot, false}}},
		{judging{name: "an archive that nobody predicted", to: "lone@kelp.example", seen: []Sighting{seen(agent.Copy, shelf)}}, []row{{shelf, "", "archive", false}}},
		{judging{name: "somebody outside", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Copy, "far@away.example")}}, []row{{"far@away.example", "", "inbox", false}}},
		{judging{name: "somebody who was not to get it", to: "lone@kelp.example", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Copy, bo)}}, []row{{ada, "inbox", "inbox", true}, {bo, "", "inbox", false}}},
		{judging{name: "an answer to somebody outside", to: "guest@far.example", watched: []string{"guest@far.example"}, seen: []Sighting{seen(agent.Copy, "guest@far.example")}},
			[]row{{"guest@far.example", "inbox", "inbox", true}}},
		{judging{name: "an answer that did not come", to: "guest@far.example", watched: []string{"guest@far.example"}}, []row{{"guest@far.example", "inbox", SeenNot, false}}},
		{judging{name: "an answer that nobody looked for", to: "guest@far.example", watched: []string{ada}}, []row{{"guest@far.example", "inbox", NotLookedAt, false}}},
		{judging{name: "nobody looked", watched: []string{bo, shelf}, seen: []Sighting{seen(agent.Copy, bo)}},
			[]row{{ada, "inbox", NotLookedAt, false}, {bo, "inbox", "inbox", true}, {shelf, "archive", SeenNot, false}, {"eli@kelp.example", "", "none", false}}},
		{judging{name: "filed away", seen: []Sighting{seen(agent.Copy, ada, func(s *Sighting) { s.Place.Role, s.Folder = mailbox.Other, "Work" })}},
			[]row{{ada, "inbox", Elsewhere, false}}},
		{judging{name: "a bounce as predicted", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Bounce, bo, failed("dee@kelp.example", "failed", "5.2.2"))}},
			[]row{{"dee@kelp.example", "undeliverable", SeenBounced, true}}},
		{judging{name: "a bounce in the group's name", seen: []Sighting{seen(agent.Copy, ada), seen(agent.Bounce, bo, failed("main@kelp.example", "failed", "5.2.2"))}},
			[]row{{"dee@kelp.example", "undeliverable", SeenBounced, true}, {"main@kelp.example", "undeliverable", SeenBounced, true}}},
		{judging{name: "a bounce that nobody predicted", seen: []Sighting{seen(agent.Copy, bo), seen(agent.Bounce, bo, failed(ada, "failed", "5.1.1"))}},
			[]row{{ada, "inbox", SeenBounced, false}}},
		{judging{name: "a bounce of somebody whose mailbox nobody opens", watched: []string{bo, shelf}, seen: []Sighting{seen(agent.Copy, bo), seen(agent.Bounce, bo, failed(ada, "failed", "5.1.1"))}},
			[]row{{ada, "inbox", SeenBounced, false}}},
		{judging{name: "no bounce to somebody outside who would see it", from: "guest@far.example", watched: []string{ada, "guest@far.example"}, seen: []Sighting{seen(agent.Copy, ada)}},
			[]row{{"dee@kelp.example", "undeliverable", NoBounce, false}}},
		{judging{name: "no bounce to somebody outside whose mailbox nobody opens", from: "guest@far.example", watched: []string{ada}, seen: []Sighting{seen(agent.Copy, ada)}},
			[]row{{"dee@kelp.example", "", "none", false}}},
		{judging{name: "a bounce of somebody unknown", seen: []Sighting{seen(agent.Copy, bo), seen(agent.Bounce, bo, failed("who@away.example", "failed", "5.1.1"))}},
			[]row{{"who@away.example", "", SeenBounced, false}}},
		{judging{name: "a member named beside the group", seen: []Sighting{seen(agent.Copy, bo), seen(agent.Bounce, bo, failed("main@kelp.example", "failed", "5.2.2"), failed("dee@kelp.example", "failed", ""))}},
			[]row{{"dee@kelp.example", "undeliverable", SeenBounced, true}, {"main@kelp.example", "", "none", false}}},
		{judging{name: "not sent", reply: send.Reply{Stage: "login", Code: 535}}, []row{{ada, "", "none", false}}},
		{judging{name: "refused", reply: send.Reply{Stage: "to", Code: 550}}, []row{{ada, "inbox", SeenNot, false}}},
	} {
		w := c.run(t)
		result := w.verdict()
		list := w.members(&result)
		for _, want := range c.rows {
			i := slices.IndexFunc(list, func(m MemberResult) bool { return m.Address == want.who })
			if want.seen == "none" {
				if i >= 0 {
					t.Errorf("%s: %s is told of: %+v", c.name, want.who, list[i])
				}
				continue
			}
			if i < 0 {
				t.Errorf("%s: nothing is told of %s", c.name, want.who)
				continue
			}
			if got := (row{list[i].Address, list[i].Predicted, list[i].Seen, list[i].AsPredicted}); got != want {
				t.Errorf("%s: %+v, want %+v", c.name, got, want)
			}
		}
	}
}

// What servers said stands beside what differs, with what it comes to where that is no setting; then
// no setting is guessed.
func TestReasons(t *testing.T) {
	ada, bo, dee, main := "ada@kelp.example", "bo@kelp.example", "dee@kelp.example", "main@kelp.example"
	refused := func(stage string, code int, status, text string) send.Reply {
		return send.Reply{Stage: stage, Code: code, Status: status, Text: text, Rcpt: main, Plain: &send.Reply{Stage: "to", Code: 250}}
	}
	bounced := func(who, status, text, action string) Sighting {
		return seen(agent.Bounce, bo, func(s *Sighting) {
			s.Failed = append(s.Failed, read.Failure{Final: who, Action: action, Status: status, Diagnostic: text})
		})
	}
	said := func(text string) func(*Sighting) { return func(s *Sighting) { s.Text = text } }
	for _, c := range []struct {
		judging
		words, says string // of the reason
		who         string
		guessed     bool // a setting may be the cause
	}{
		{judging{name: "nobody has the address", reply: refused("to", 550, "5.1.1", "no such group")}, "550 5.1.1 no such group",
			"the server does not know main@kelp.example: it is not there, or not yet; or it refuses the group for a member to whom it cannot deliver (dee@kelp.example)", "", false},
		{judging{name: "nobody has the address, and no member is dead", to: "lone@kelp.example", reply: refused("to", 550, "", "Invalid recipient")}, "550 Invalid recipient",
			"the server does not know lone@kelp.example: it is not there, or not yet", "", false},
		{judging{name: "the group refuses", reply: refused("to", 550, "5.7.1", "not you")}, "550 5.7.1 not you", "", "", true},
		{judging{name: "a ring", reply: refused("to", 550, "5.4.6", "alias expansion")}, "550 5.4.6 alias expansion", "the server finds that the address leads back to itself", "", false},
		{judging{name: "a full mailbox", seen: []Sighting{seen(agent.Copy, bo), bounced(ada, "5.2.2", "mailbox is full", "failed")}}, "5.2.2 mailbox is full", "", ada, true},
		{judging{name: "no route", seen: []Sighting{seen(agent.Copy, bo), bounced(ada, "5.4.4", "no route", "failed")}}, "5.4.4 no route", "there is no way to deliver to them", ada, false},
		{judging{name: "late", seen: []Sighting{seen(agent.Copy, bo), bounced(ada, "4.2.2", "No space left", "delayed")}}, "4.2.2 No space left", "put off so far, it may yet come", ada, true},
		{judging{name: "a member whom the group's bounce names", seen: []Sighting{seen(agent.Copy, bo), seen(agent.Bounce, bo, failed(main, "failed", "5.7.1"), said("It failed:\n  ada@kelp.example: away\nFrom: bo@kelp.example\n  dee@kelp.example"))}},
			"5.7.1", "refused by a policy of the server that has the mailbox", ada, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := c.run(t)
			run := w.run
			run.Boxes = map[string]Box{}
			for name := range w.watched {
				run.Boxes[w.run.Plan.key(name)] = Box{Account: name, Opened: true, Through: true}
			}
			j := Judge(run)
			i := slices.IndexFunc(j.Reasons, func(r Reason) bool { return r.Words == c.words })
			if i < 0 {
				t.Fatalf("%q is not among %+v", c.words, j.Reasons)
			}
			if r := j.Reasons[i]; r.Says != c.says || c.who != "" && !slices.Contains(r.Who, c.who) || c.who == "" && r.Who != nil || slices.Contains(r.Who, dee) {
				t.Errorf("%+v, want %q of %s", r, c.says, c.who)
			}
			about := func(cause infer.Cause) bool {
				return slices.ContainsFunc(cause.Explains, func(m infer.Miss) bool {
					return m.Person == estate.None || w.estate().Address(m.Person).String() == c.who
				})
			}
			if got := slices.ContainsFunc(j.Causes, about); got != c.guessed {
				t.Errorf("a setting is guessed: %t, want %t", got, c.guessed)
			}
		})
	}
}

// A bounce comes to the status that it gives, or to what its words say where that is bare.
func TestMeanings(t *testing.T) {
	for _, c := range []struct{ status, words, want string }{
		{"5.2.2", "user unknown", "5.2.2"},
		{"5.0.0", "SMTP error from remote mail server after RCPT TO:<pol@strict.example>: 550 5.7.1 refused", "5.7.1"},
		{"", "all relevant MX records point to non-existent hosts", "5.4.4"},
		{"5.0.0", "Unrouteable address", "5.1.1"},
		{"", "Unrouteable mail domain \"nowhere.example\"", "5.4.4"},
		{"", "mailbox is full: retry timeout exceeded", "5.2.2"},
		{"5.0.0", "User is over quota", "5.2.2"},
		{"", "550 this account is disabled", "5.2.1"},
		{"", "Sorry, no mailbox here by that name. (#5.1.1)", "5.1.1"},
		{"", "554 message rejected: looks like spam", "5.7.1"},
		{"", "5.0.0 unspecified: too many hops", "5.4.6"},
		{"5.0.0", "it did not work", "5.0.0"},
		{"", "", ""},
	} {
		if got := (&bounce{status: c.status, diagnostic: c.words}).means(); got != c.want {
			t.Errorf("%s %q comes to %q, want %q", c.status, c.words, got, c.want)
		}
	}
}
