package probe

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/mailbox"
)

// members sets what each mailbox got beside what was predicted.
func (w *judge) members(result *CaseResult) []MemberResult {
	e := w.estate()
	var list []MemberResult
	predicted := w.p.Outcomes
	if (w.run.Approved[w.number] || w.wasReleased()) && w.p.Verdict == estate.Hold && w.p.Group != estate.None {
		predicted = w.run.Plan.released(w.number)
	}
	if result.Seen == CodeMailed || result.Seen == CodeMissing || result.Seen == NotSent ||
		result.Seen == Deferred || result.Seen == Unknown {
		return nil // nobody could get it, or nobody knows
	}
	seen := w.seen()
	for _, id := range e.PeopleByAddress() {
		outcome, expected := predicted[id]
		if !expected {
			outcome = infer.None
		}
		m := MemberResult{Case: w.number, Address: e.Address(id).String()}
		if expected {
			m.Predicted = outcome.String()
		}
		name := w.key(id)
		w.describe(&m, name)
		switch {
		case outcome == resolve.Undeliverable && m.Seen != resolve.Inbox.String():
			if !w.judgeBounce(&m, name) {
				continue
			}
		case !w.watched[name] && m.Seen == "":
			if outcome > resolve.Digest || !w.mayHaveCome(result) {
				continue
			}
			m.Seen, m.Unlooked, m.Why = NotLookedAt, true, w.whyNot(name)
		case m.Predicted == "" && m.Seen == "":
			continue
		default:
			m.AsPredicted = !slices.Contains([]string{SeenJunk, SeenTwice, Elsewhere, SeenBounced}, m.Seen)
			if set, ok := seen.People[id]; ok {
				m.AsPredicted = m.AsPredicted && set.Has(outcome)
			}
			if !result.AsPredicted && w.p.Verdict == estate.Admit && outcome <= resolve.Digest && m.Seen == "" {
				m.AsPredicted = false
			}
		}
		if m.Seen == "" {
			m.Seen = SeenNot
		}
		list = append(list, m)
	}
	return slices.Concat(list, w.others(), w.strangeBounces())
}

// mayHaveCome reports whether a case may have been let in.
func (w *judge) mayHaveCome(result *CaseResult) bool {
	return result.Unlooked || w.verdicts.Has(estate.Admit) || w.run.Approved[w.number] || w.wasReleased()
}

// whyNot says why a mailbox was not looked at.
func (w *judge) whyNot(name string) string {
	box, ok := w.run.Boxes[name]
	switch {
	case !ok:
		return "the connections do not open it"
	case box.Problem != "":
		return box.Problem
	case w.run.Broken:
		return interrupted
	}
	return fmt.Sprintf("it could not be gone through to the end while there was patience (%s); limits: patience waits longer",
		w.run.Plan.connections.Limits.Patience)
}

// interrupted is why nothing can be said of what had not come when a run was ended.
const interrupted = "the run was interrupted before it was gone through to the end"

// judgeBounce judges somebody that a message cannot be delivered to: a bounce should say so,
// where it would be seen. It reports whether there is anything to say.
func (w *judge) judgeBounce(m *MemberResult, name string) bool {
	if b, ok := w.e.bounced[name]; ok {
		m.Seen, m.AsPredicted, m.Why = SeenBounced, true, b.String()
		return true
	}
	if b, ok := w.e.bounced[w.key(w.c.Group)]; ok { // which does not show its members
		m.Seen, m.AsPredicted, m.Why = SeenBounced, true, "in the group's name: "+b.String()
		return true
	}
	if b, ok := w.e.delayed[name]; ok {
		m.Seen, m.AsPredicted, m.Why = SeenBounced, true, "late: "+b.String()
		return true
	}
	if !w.bounceWouldShow() {
		return false
	}
	m.Seen = NoBounce
	return true
}

// bounceWouldShow reports whether a bounce would be seen by the sender: they are who they say,
// their mailbox was gone through, the message was let in, and the group does not count bounces
// itself.
func (w *judge) bounceWouldShow() bool {
	id, known := w.estate().Find(w.c.sender())
	sees := w.watched[w.run.Plan.key(w.c.sender().String())]
	if known {
		sees = w.sees(id)
	}
	return sees && !w.c.Traits.Unproven && len(w.e.copies) > 0 &&
		w.p.Group != estate.None && w.estate().Group(w.p.Group).PauseAfter == 0
}

// strangeBounces returns the addresses that bounced and of which nothing was said so far: they
// are in no group of the estate, or of the group itself where that is not how it refuses.
func (w *judge) strangeBounces() []MemberResult {
	var list []MemberResult
	predicted := map[string]bool{}
	if w.p.Group != estate.None && w.p.Verdict == estate.Admit {
		from := w.run.Plan.resolver.Sender(w.c.From)
		for _, recipient := range w.run.Plan.deliver(w.p.Group, &from, w.c.Traits).Recipients() {
			if recipient.Outcome == resolve.Undeliverable {
				predicted[w.key(recipient.ID)], predicted[w.key(w.c.Group)] = true, true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(w.e.bounced)) {
		b := w.e.bounced[name]
		id, known := w.run.Plan.known(b.address)
		if known && w.estate().IsPerson(id) || name == w.key(w.c.Group) && !w.verdicts.Has(estate.Admit) {
			continue
		}
		m := MemberResult{Case: w.number, Address: b.address, Seen: SeenBounced, Why: b.String(),
			AsPredicted: predicted[name]}
		if predicted[name] {
			m.Predicted = resolve.Undeliverable.String()
		}
		list = append(list, m)
	}
	return list
}

// describe notes what was seen in a mailbox.
func (w *judge) describe(m *MemberResult, name string) {
	b, bounced := w.e.bounced[name]
	switch copies := w.e.copies[name]; {
	case len(copies) > 0:
		m.Seen, m.Where, m.Seconds = resolve.Inbox.String(), copies[0].Folder, copies[0].Seconds
		switch {
		case len(copies) > 1:
			m.Seen = SeenTwice
		case copies[0].Place.Role == mailbox.Junk:
			m.Seen = SeenJunk
		case copies[0].Place.Role == mailbox.Other:
			m.Seen = Elsewhere
		}
	case w.e.digests[name] != nil:
		m.Seen, m.Where, m.Seconds = resolve.Digest.String(), w.e.digests[name].Folder, w.e.digests[name].Seconds
	case bounced:
		m.Seen, m.Why = SeenBounced, b.String()
	case w.e.delayed[name] != nil:
		m.Why = "put off so far: " + w.e.delayed[name].String()
	}
}

// others returns the archives, and the people outside the estate, that a copy was
// seen with or should have been.
func (w *judge) others() []MemberResult {
	e := w.estate()
	to, known := e.Find(w.c.To)
	if !known && !e.InsideDomain(w.c.To.Domain()) {
		return w.reader()
	}
	list := w.strangers()
	if known && e.IsGroup(to) {
		list = append(list, w.archives(to)...)
	}
	return list
}

// reader returns what the recipient of a message outside the estate got, if their
// mailbox was looked into.
func (w *judge) reader() []MemberResult {
	name := w.estate().Key(w.c.To)
	m := MemberResult{Case: w.number, Address: w.c.To.String()}
	if w.p.Verdict == estate.Admit {
		m.Predicted = resolve.Inbox.String()
	}
	w.describe(&m, name)
	m.AsPredicted = m.Seen == m.Predicted
	switch {
	case m.Seen == "" && !w.watched[name] && m.Predicted == "":
		return nil
	case m.Seen == "" && !w.watched[name]:
		m.Seen, m.Unlooked, m.AsPredicted, m.Why = NotLookedAt, true, false, w.whyNot(name)
	case m.Seen == "":
		m.Seen = SeenNot
	}
	return []MemberResult{m}
}

// strangers returns those outside the estate in whose mailbox a copy was seen.
func (w *judge) strangers() []MemberResult {
	var list []MemberResult
	for _, copies := range w.e.copies {
		a, err := address.Parse(copies[0].Account)
		if err != nil {
			continue
		}
		if _, ours := w.estate().Find(a); !ours {
			list = append(list, MemberResult{
				Case:    w.number,
				Address: a.String(),
				Seen:    resolve.Inbox.String(),
				Seconds: copies[0].Seconds,
				Where:   copies[0].Folder,
			})
		}
	}
	slices.SortFunc(list, func(a, b MemberResult) int { return strings.Compare(a.Address, b.Address) })
	return list
}

// archives returns the archives that a message to a group was seen in or should have
// been.
func (w *judge) archives(to estate.ID) []MemberResult {
	e := w.estate()
	from := w.run.Plan.resolver.Sender(w.c.From)
	predicted := map[estate.ID]bool{}
	if w.p.Verdict == estate.Admit {
		for _, way := range w.run.Plan.deliver(to, &from, w.c.Traits).Paths {
			predicted[way.Group] = way.State == resolve.PathOpen && e.Group(way.Group).Kind.Keeps()
		}
	}
	var list []MemberResult
	for id := range estate.ID(e.Groups()) {
		name := w.key(id)
		copies := w.e.copies[name]
		if !predicted[id] && len(copies) == 0 {
			continue
		}
		m := MemberResult{Case: w.number, Address: e.Address(id).String()}
		if predicted[id] {
			m.Predicted = resolve.Archive.String()
		}
		if len(copies) > 0 {
			m.Seen, m.Where, m.Seconds = resolve.Archive.String(), copies[0].Folder, copies[0].Seconds
		}
		m.AsPredicted = m.Seen == m.Predicted || w.run.Approved[w.number] || w.wasReleased()
		if !w.watched[name] && m.Seen == "" {
			m.Seen, m.Unlooked, m.AsPredicted, m.Why = NotLookedAt, true, false, w.whyNot(name)
		}
		if m.Seen == "" {
			m.Seen = SeenNot
		}
		list = append(list, m)
	}
	return list
}
