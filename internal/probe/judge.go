package probe

import (
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/store"
)

// A Judgement sets what was seen beside what was predicted.
type Judgement struct {
	Run     *Run
	Cases   []CaseResult
	Members []MemberResult // of all cases, in their order
	Causes  []infer.Cause
	// Lost are what no change of the estate explains.
	Lost []infer.Miss
	// Reasons are what servers said of what differs.
	Reasons []Reason
	// Trials are the cases as package infer sees them, by the index of the case;
	// Explained is the case of each trial.
	Trials    []infer.Trial
	Explained []int
}

// A CaseResult is what became of one message as a whole.
type CaseResult struct {
	Case        *Case
	Predicted   estate.Verdict
	Seen        string // a verdict; or one of the words below
	AsPredicted bool
	Unlooked    bool   // nothing can be said, as nobody looked where something would show
	Sent        string // accepted, refused, deferred or not sent
	Why         string // it was not sent, or nothing can be said
	Reply       string // of the server
	Notices     []string
	View        *View // of one of the copies
	Facets      []Facet

	number int // of the case
}

// A MemberResult is what one person, or a group's archive, got of a message.
type MemberResult struct {
	Case        int
	Address     string
	Predicted   string // an outcome, or "" where none
	Seen        string // an outcome, or one of the words below
	AsPredicted bool
	Unlooked    bool   // nothing can be said: Why
	Why         string // it was not looked at, or what a bounce says
	Seconds     float64
	Where       string // the folder
}

// Words for what became of a message on its way to the server.
const (
	SentAccepted = "accepted"
	SentRefused  = "refused" // by the group: its address or the message, and not a login or a limit
	SentDeferred = "deferred"
	SentNot      = "not sent"
)

// Words for what was seen that are no verdicts or outcomes.
const (
	Silence     = "silence"  // accepted, and nothing came anywhere
	Unknown     = "unknown"  // the connection broke: nobody knows whether it was accepted
	Deferred    = "deferred" // the server put it off again and again
	NotSent     = "not sent"
	SeenJunk    = "junk"
	SeenTwice   = "twice"
	SeenNot     = "not seen"      // the mailbox was gone through to the end
	NotLookedAt = "not looked at" // there is no login, or it failed, or the server was gone
	Elsewhere   = "elsewhere"     // in a folder that is neither for incoming mail nor for junk
	SeenBounced = "bounced"
	NoBounce    = "no bounce"
	AutoAnswer  = "auto-answer"
	CodeMailed  = "code mailed" // refused until the code that came is sent back
	CodeMissing = "no code"     // refused, and the code did not come
)

// Judge compares what a run saw with what was predicted, and looks for what
// explains the difference.
func Judge(run *Run) *Judgement {
	j := &Judgement{Run: run}
	watched := map[string]bool{}
	for key, box := range run.Boxes {
		watched[key] = box.Through
	}
	for i, e := range run.gather() {
		w := &judge{run: run, number: i, c: &run.Plan.Cases[i], e: e, watched: watched, p: run.Plan.Predict(i)}
		result := w.verdict()
		j.Cases = append(j.Cases, result)
		j.Members = append(j.Members, w.members(&result)...)
		if result.Unlooked || j.settled(&result) {
			continue // there is nothing to learn from it
		}
		t := w.c.Trial()
		t.Seen = w.seen()
		j.Trials = append(j.Trials, t)
		j.Explained = append(j.Explained, i)
	}
	if !run.Broken && !run.Elsewhere { // else what has not been seen may yet come
		j.Causes, j.Lost = infer.Explain(run.Plan.resolver, j.Trials)
		j.preferBounced()
	}
	j.Reasons = j.reasons()
	return j
}

// mailboxBy is what a mailbox is by the status of a bounce (RFC 3463, section 3.2 and 3.3).
var mailboxBy = []struct{ status, word string }{{"5.2.1", "closed"}, {"5.2.2", "full"}, {"4.2.2", "full"}, {"5.1.",
	"none"}}

// preferBounced puts first what bounces say of a mailbox, among changes that explain the same.
func (j *Judgement) preferBounced() {
	said := map[estate.ID]string{}
	for _, e := range j.Run.gather() {
		for _, b := range e.bounced {
			id, known := j.Run.Plan.known(b.address)
			for _, one := range mailboxBy {
				if known && strings.HasPrefix(b.means(), one.status) {
					said[id] = one.word
				}
			}
		}
	}
	fits := func(h infer.Hypothesis) bool {
		set, ok := h.Change.(change.SetPerson)
		return ok && h.And == nil && set.Field == "mailbox" && said[set.Person] == set.Text
	}
	for i := range j.Causes {
		slices.SortStableFunc(j.Causes[i].Hypotheses, func(a, b infer.Hypothesis) int {
			switch x, y := fits(a), fits(b); {
			case x == y:
				return 0
			case x:
				return -1
			}
			return 1
		})
	}
}

// judge judges one case.
type judge struct {
	run     *Run
	number  int
	c       *Case
	e       evidence
	watched map[string]bool
	p       infer.Prediction

	verdicts infer.Verdicts // that agree with what was seen
}

func (w *judge) estate() *estate.Estate { return w.run.Plan.resolver.Estate() }

// key returns what the mailbox of a person or group is known by.
func (w *judge) key(id estate.ID) string { return w.estate().Key(w.estate().Address(id)) }

func (w *judge) senderKey() string { return w.estate().Key(w.c.sender()) }

// groupName is the name of the group as messages are searched for it.
func (w *judge) groupName() string { return strings.ToLower(w.estate().Address(w.c.Group).String()) }

// verdict works out what the gate said.
func (w *judge) verdict() CaseResult {
	r := CaseResult{Case: w.c, Predicted: w.p.Verdict, number: w.number}
	reply, sent := w.run.Replies[w.number]
	if sent {
		r.Reply = reply.String()
	}
	r.Sent, r.Why = w.sent()
	for _, s := range w.e.notices {
		r.Notices = append(r.Notices, s.Account)
	}
	if s := w.specimen(); s != nil {
		r.View = w.run.Plan.view(w.c, &s.Details, s.Account)
		r.Facets = w.facets(s)
	}
	r.Facets = append(r.Facets, w.autoAnswer()...)
	var why string
	r.Seen, why, w.verdicts = w.outcome(r.Sent)
	if why != "" {
		r.Why = why
	}
	switch r.Seen {
	case NotLookedAt, NotSent, Deferred, Unknown:
		r.Unlooked = true
	default:
		r.AsPredicted = w.verdicts.Has(w.p.Verdict)
	}
	return r
}

// specimen returns the copy whose reader tells what readers see: one that came straight from
// the group, if there is one, and not the author's own; or nil.
func (w *judge) specimen() *Sighting {
	var nested *Sighting
	for _, account := range slices.Sorted(maps.Keys(w.e.copies)) {
		for _, s := range w.e.copies[account] {
			switch {
			case w.run.Plan.key(s.Account) == w.senderKey():
			case !w.isNested(s, w.c.Group):
				return s
			case nested == nil:
				nested = s
			}
		}
	}
	return nested
}

// sent returns what became of the message on its way to the server, and why.
func (w *judge) sent() (word, why string) {
	reply, tried := w.run.Replies[w.number]
	switch {
	case w.run.Unsure[w.number]:
		return "", ""
	case !tried && w.run.Broken:
		return SentNot, "the run was interrupted before its turn came"
	case !tried:
		return SentNot, "its turn did not come in time, or no machine at work has the connection " + w.c.Connection
	case reply.Accepted():
		return SentAccepted, ""
	case w.refuses(reply):
		return SentRefused, ""
	case reply.Later() && !reply.Certain && reply.Code != 0 && (reply.Stage == "to" || reply.Stage == "message"):
		return SentDeferred, w.unsent(reply)
	}
	return SentNot, w.unsent(reply)
}

// unsent returns the answer of a server that did not accept a message, and what the answer means for the
// case.
func (w *judge) unsent(reply send.Reply) string {
	why := stageOf(reply) + reply.String()
	if says := w.run.Plan.cause(w.c, reply); says != "" {
		why += ": " + says
	}
	return why
}

// refuses reports whether a reply is the group's answer: also one with the very words of the
// rule that is predicted to decide. A refusal that was predicted has come where the server refuses
// all forged mail, or all of that size.
func (w *judge) refuses(reply send.Reply) bool {
	if reply.Refusal() {
		return true
	}
	if w.p.Verdict == estate.Refuse && (w.c.Traits.Unproven && reply.IsForAll() || w.c.Traits.Size > 0 && reply.TooLarge()) {
		return true
	}
	if reply.IsForAll() {
		return false
	}
	because := ""
	if w.p.Group != estate.None {
		because = w.run.Plan.resolver.Gate(w.p.Group).Because(w.p.Decision())
	}
	return because != "" && reply.Code >= 500 && strings.Contains(squeezed(reply.Text), squeezed(because))
}

// outcome returns what the gate said, by what was seen, and why nothing can be said.
func (w *judge) outcome(sent string) (seen, why string, verdicts infer.Verdicts) {
	const anything = ^infer.Verdicts(0)
	arrived := len(w.e.copies)+len(w.e.digests) > 0
	held := w.heldHere()
	switch {
	case held && !arrived, arrived && w.wasReleased():
		return estate.Hold.String(), "", infer.OneOf(estate.Hold)
	case arrived:
		return estate.Admit.String(), "", infer.OneOf(estate.Admit)
	case w.run.Plan.asksForCode(w.c) && (sent == SentRefused || sent == SentNot && w.refusedAtAll()):
		return w.code()
	case sent == SentDeferred:
		return Deferred, "", anything
	case sent == SentRefused:
		return estate.Refuse.String(), "", infer.OneOf(estate.Refuse)
	case sent == SentNot:
		return NotSent, "", anything
	}
	if b, ok := w.e.bounced[w.key(w.c.Group)]; ok {
		if says := b.means(); strings.HasPrefix(says, "5.7.") || strings.HasPrefix(says, "5.1.") {
			return estate.Refuse.String(), "", infer.OneOf(estate.Refuse)
		}
		return estate.Admit.String(), "", infer.OneOf(estate.Admit, estate.Refuse)
	}
	switch {
	case len(w.e.bounced) > 0, len(w.e.approvals) > 0: // it failed, or waits, at somebody further on
		return estate.Admit.String(), "", infer.OneOf(estate.Admit)
	case len(w.e.doubted) > 0:
		return NotLookedAt, "a request to an approver is not believed: " + w.e.doubted[0].Doubt, anything
	case w.run.Unsure[w.number]:
		return Unknown, "", anything
	case !w.anybodyLooked() && w.run.Broken:
		return NotLookedAt, interrupted, anything
	case !w.anybodyLooked():
		return NotLookedAt, "nobody's mailbox was looked into in which it would show", anything
	}
	// Accepted, and nothing came. If several should have got it, it was the gate;
	// otherwise it may be them. A silent hold looks like this, too.
	expected := w.expected()
	switch {
	case expected == 0:
		return Silence, "", infer.OneOf(estate.Admit, estate.Hold, estate.Drop)
	case expected == 1:
		return Silence, "", infer.OneOf(estate.Admit, estate.Drop) | w.silentHold()
	}
	return Silence, "", infer.OneOf(estate.Drop) | w.silentHold()
}

// refusedAtAll reports whether the server refused who the message is from: a group that asks for a
// code first is refused there, too.
func (w *judge) refusedAtAll() bool {
	reply := w.run.Replies[w.number]
	return reply.Code >= 500 && reply.Stage == "from" || reply.IsForAll()
}

// code returns what became of the code that a group asks for. Anyone who gets it may write once
// they have sent it back; without one it stays refused.
func (w *judge) code() (seen, why string, verdicts infer.Verdicts) {
	switch {
	case len(w.e.codes) > 0:
		return CodeMailed, "", infer.OneOf(estate.Admit)
	case w.watched[w.estate().Key(w.c.By)]:
		return CodeMissing, "", infer.OneOf(estate.Refuse)
	}
	return NotLookedAt, "the mailbox of " + w.c.By.String() + ", where the code should come, was not looked into",
		^infer.Verdicts(0)
}

// anybodyLooked reports whether somebody's mailbox was looked into in which the message would
// show if it were let in, or a request if it were held. Where it would show nowhere, that is
// nobody's fault.
func (w *judge) anybodyLooked() bool {
	r := w.run.Plan.resolver
	if w.p.Group == estate.None {
		return w.watched[w.estate().Key(w.c.To)]
	}
	from := r.Sender(w.c.From)
	shows := false
	d := r.Deliver(resolve.Query{Group: w.p.Group, Sender: &from, Message: w.c.Traits})
	for _, recipient := range d.Recipients() {
		if recipient.Outcome <= resolve.Waiting {
			shows = true
			if w.watched[w.key(recipient.ID)] {
				return true
			}
		}
	}
	for _, way := range d.Paths {
		if w.estate().Group(way.Group).Kind.Keeps() && w.watched[w.key(way.Group)] {
			return true
		}
	}
	people, _ := r.Approvers(w.p.Group)
	return !shows || slices.ContainsFunc(people, w.sees)
}

// heldHere reports whether somebody was asked, or told, that the message waits at
// the group that it was sent to.
func (w *judge) heldHere() bool {
	names := func(s *Sighting) bool {
		groups := w.run.Plan.named(&s.Details)
		return len(groups) == 0 || slices.Contains(groups, w.groupName())
	}
	if slices.ContainsFunc(w.e.approvals, names) && !w.nestedOnly() {
		return true
	}
	return slices.ContainsFunc(w.e.notices, func(s *Sighting) bool {
		return w.run.Plan.key(s.Account) == w.senderKey() && names(s)
	})
}

// wasReleased reports whether the message waited at the group, and has been let in since: by this run,
// or by somebody else who was asked. A request that names no group may be of a nested one.
func (w *judge) wasReleased() bool {
	if w.run.Approved[w.number] {
		return w.heldHere()
	}
	if len(w.e.copies)+len(w.e.digests) == 0 {
		return false
	}
	waits := false
	for _, outcome := range w.p.Outcomes {
		waits = waits || outcome == resolve.Waiting
	}
	return slices.ContainsFunc(w.e.approvals, func(s *Sighting) bool {
		groups := w.run.Plan.named(&s.Details)
		return len(groups) == 0 && !waits || len(groups) == 1 && groups[0] == w.groupName()
	})
}

// nestedOnly reports whether all requests name a nested group, apart from this one
// perhaps.
func (w *judge) nestedOnly() bool {
	return !slices.ContainsFunc(w.e.approvals, func(s *Sighting) bool {
		groups := w.run.Plan.named(&s.Details)
		return !slices.ContainsFunc(groups, func(name string) bool { return name != w.groupName() })
	})
}

// silentHold is Hold where a held message could wait without a sign: no approver's
// mailbox was looked into.
func (w *judge) silentHold() infer.Verdicts {
	people, _ := w.run.Plan.resolver.Approvers(w.c.Group)
	for _, id := range people {
		if w.sees(id) {
			return 0
		}
	}
	return infer.OneOf(estate.Hold)
}

// sees reports whether somebody's mailbox was looked into, and takes mail.
func (w *judge) sees(id estate.ID) bool {
	return w.watched[w.key(id)] && w.estate().IsPerson(id) &&
		w.estate().Person(id).Mailbox == estate.MailboxOpen
}

// expected returns how many of those who are predicted to get a copy were looked
// at.
func (w *judge) expected() int {
	n := 0
	for id, outcome := range w.p.Outcomes {
		if outcome <= resolve.Digest && w.watched[w.key(id)] {
			n++
		}
	}
	return n
}

// Counts returns how many verdicts, mailboxes and things that readers see were as predicted,
// how many were not, and of how many nothing can be said, as nobody looked.
func (j *Judgement) Counts() (as, not, unlooked int) {
	count := func(ok, un bool) {
		switch {
		case un:
			unlooked++
		case ok:
			as++
		default:
			not++
		}
	}
	for i := range j.Cases {
		count(j.Cases[i].AsPredicted, j.Cases[i].Unlooked)
		for _, f := range j.Cases[i].Facets {
			count(f.AsPredicted, false)
		}
	}
	for i := range j.Members {
		count(j.Members[i].AsPredicted, j.Members[i].Unlooked)
	}
	return as, not, unlooked
}

// Nothing reports whether no message was sent, or no mailbox was looked into.
func (j *Judgement) Nothing() bool {
	sent, looked := false, false
	for i := range j.Cases {
		sent = sent || j.Cases[i].Sent != SentNot
		looked = looked || j.Cases[i].Seen == estate.Refuse.String()
	}
	for _, box := range j.Run.Boxes {
		looked = looked || box.Opened
	}
	return len(j.Cases) > 0 && (!sent || !looked)
}

// Checks returns what the store keeps of a judgement.
func (j *Judgement) Checks() []store.Check {
	var list []store.Check
	for i := range j.Cases {
		c := &j.Cases[i]
		if !c.Unlooked {
			list = append(list, store.Check{N: i, Predicted: c.Predicted.String(), Seen: c.Seen, OK: c.AsPredicted})
		}
	}
	for i := range j.Members {
		m := &j.Members[i]
		if !m.Unlooked {
			list = append(list, store.Check{N: m.Case, Who: m.Address, Predicted: m.Predicted, Seen: m.Seen, OK: m.AsPredicted,
				Seconds: m.Seconds})
		}
	}
	return list
}
