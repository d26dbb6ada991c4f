package probe

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/mail/read"
)

// bounce is what bounces say about one recipient.
type bounce struct {
	address, status, diagnostic string
	delayed                     bool
}

func (b *bounce) String() string {
	text := strings.TrimSpace(b.status + " " + b.diagnostic)
	if text == "" {
		return "no reason is given"
	}
	return text
}

// evidence is what was seen of one case.
type evidence struct {
	copies    map[string][]*Sighting // by mailbox: see Plan.key
	digests   map[string]*Sighting
	bounced   map[string]*bounce // by address that failed, likewise
	delayed   map[string]*bounce
	approvals []*Sighting // those that are believed
	doubted   []*Sighting // the others
	notices   []*Sighting
	answers   []*Sighting // the automatic answer of the group
	codes     []*Sighting // in the mailbox of who asked for it
}

func (run *Run) gather() []evidence {
	all := make([]evidence, len(run.Plan.Cases))
	for i := range all {
		all[i] = evidence{copies: map[string][]*Sighting{}, digests: map[string]*Sighting{}, bounced: map[string]*bounce{},
			delayed: map[string]*bounce{}}
	}
	for i := range run.Sightings {
		s := &run.Sightings[i]
		e := &all[s.Case]
		box := run.Plan.key(s.Account)
		switch s.What {
		case agent.Copy:
			e.copies[box] = append(e.copies[box], s)
		case agent.Digest:
			e.digests[box] = s
		case agent.Bounce:
			run.gatherBounce(e, s)
		case agent.Code:
			e.codes = append(e.codes, s)
		case agent.Approval:
			if s.Doubt == "" {
				e.approvals = append(e.approvals, s)
			} else {
				e.doubted = append(e.doubted, s)
			}
		case agent.Notice:
			if run.Plan.isAutoAnswer(s) {
				e.answers = append(e.answers, s)
			} else {
				e.notices = append(e.notices, s)
			}
		}
	}
	for i := range all {
		for box, copies := range all[i].copies {
			all[i].copies[box] = inLastLook(copies)
		}
		all[i].tellAnswers(run.Plan.key(run.Plan.Cases[i].sender().String()), run.Plan)
	}
	return all
}

// inLastLook returns the copies that the last look into a mailbox saw of those that any saw: what
// was moved, or has got another UID since, is the same message.
func inLastLook(copies []*Sighting) []*Sighting {
	last := slices.MaxFunc(copies, func(a, b *Sighting) int { return a.Look.Compare(b.Look) }).Look
	seen := slices.DeleteFunc(slices.Clone(copies), func(s *Sighting) bool { return s.Look.Before(last) })
	seen[0].Seconds = copies[0].Seconds // when it came, not when it was moved
	return seen
}

// tellAnswers takes notices to the author of a message that was let in for an automatic answer:
// nobody is notified that such a message is held.
func (e *evidence) tellAnswers(author string, p *RunPlan) {
	if len(e.copies) == 0 || len(e.approvals)+len(e.doubted) > 0 {
		return
	}
	e.notices = slices.DeleteFunc(e.notices, func(s *Sighting) bool {
		if p.key(s.Account) != author {
			return false
		}
		e.answers = append(e.answers, s)
		return true
	})
}

// gatherBounce notes who failed by a bounce. Some systems name the group as the one that
// failed, with why, and the member beside it.
func (run *Run) gatherBounce(e *evidence, s *Sighting) {
	group := run.Plan.key(run.Plan.Cases[s.Case].To.String())
	var found []*bounce
	var ofGroup *bounce
	for _, f := range s.Failed {
		if f.Action != "failed" && f.Action != "" && f.Action != "delayed" {
			continue
		}
		final := f.Final
		// Systems that rewrite addresses name the one that was written as the original.
		if _, known := run.Plan.known(final); !known && f.Original != "" {
			if _, known := run.Plan.known(f.Original); known {
				final = f.Original
			}
		}
		one := &bounce{final, f.Status, f.Diagnostic, f.Action == "delayed"}
		if run.Plan.key(final) == group {
			ofGroup = one
			continue
		}
		found = append(found, one)
	}
	switch {
	case len(found) > 0:
	case ofGroup != nil:
		if found = run.membersNamed(s, ofGroup); len(found) == 0 {
			found = append(found, ofGroup)
		}
	case len(s.Failed) == 0: // it names nobody
		found = append(found, &bounce{address: run.Plan.Cases[s.Case].To.String(), diagnostic: squeezed(s.Subject)})
	}
	for _, one := range found {
		if one.status == "" && one.diagnostic == "" && ofGroup != nil {
			one.status, one.diagnostic, one.delayed = ofGroup.status, ofGroup.diagnostic, ofGroup.delayed
		}
		if one.delayed {
			e.delayed[run.Plan.key(one.address)] = one
		} else {
			e.bounced[run.Plan.key(one.address)] = one
		}
	}
}

// membersNamed returns those that a bounce that reports the group names as failed: in what the
// server said of the group, or before the message that is returned.
func (run *Run) membersNamed(s *Sighting, ofGroup *bounce) (found []*bounce) {
	p, c := run.Plan, &run.Plan.Cases[s.Case]
	named := func(text string) {
		for _, one := range read.Named(text) {
			key := p.key(one)
			id, known := p.known(one)
			if key == p.key(c.To.String()) || key == p.key(c.sender().String()) || !known || p.resolver.Estate().IsGroup(id) ||
				!p.resolver.Members(c.Group).Contains(uint32(id)) ||
				slices.ContainsFunc(found, func(b *bounce) bool { return p.key(b.address) == key }) {
				continue
			}
			found = append(found, &bounce{one, ofGroup.status, ofGroup.diagnostic, ofGroup.delayed})
		}
	}
	if named(ofGroup.diagnostic); len(found) == 0 {
		named(s.Text)
	}
	return found
}

// known returns who has an address in the estate.
func (p *RunPlan) known(text string) (estate.ID, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, false
	}
	return p.resolver.Estate().Find(a)
}

// isAutoAnswer reports whether a program's answer is the automatic answer of a group.
func (p *RunPlan) isAutoAnswer(s *Sighting) bool {
	e := p.resolver.Estate()
	to, ok := e.Find(p.Cases[s.Case].To)
	if !ok || !e.IsGroup(to) || e.Group(to).AutoAnswer == "" {
		return false
	}
	return strings.Contains(squeezed(s.Text), squeezed(e.Group(to).AutoAnswer))
}

// squeezed is a text without how it is broken into lines.
func squeezed(text string) string { return strings.Join(strings.Fields(text), " ") }
