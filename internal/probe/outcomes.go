package probe

import (
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
)

// seen returns what agrees with what was seen.
func (w *judge) seen() infer.Seen {
	s := infer.Seen{Verdicts: w.verdicts, People: map[estate.ID]infer.Outcomes{}}
	e := w.estate()
	to, ok := e.Find(w.c.To)
	if !ok || !e.IsGroup(to) {
		return s
	}
	for _, id := range e.PeopleByAddress() {
		name := w.key(id)
		b, bounced := w.e.bounced[name]
		switch {
		case bounced && !b.isMailboxes() && len(w.e.copies[name]) == 0: // no setting says so
			continue
		case !w.watched[name] && !bounced: // a bounce tells, whether or not their mailbox opens
			continue
		case len(w.e.copies[name]) > 0:
			s.People[id] = infer.Either(resolve.Inbox)
		case w.e.digests[name] != nil:
			s.People[id] = infer.Either(resolve.Digest)
		case bounced:
			s.People[id] = infer.Either(resolve.Undeliverable)
		default:
			s.People[id] = w.nothing(id)
		}
	}
	return s
}

// nothing returns the outcomes of which nothing is seen in a mailbox.
func (w *judge) nothing(id estate.ID) infer.Outcomes {
	set := infer.Either(infer.None, resolve.Nothing, resolve.Stopped)
	if w.mayWait(id) {
		set |= infer.Either(resolve.Waiting)
	}
	if !w.bouncesSeen() {
		set |= infer.Either(resolve.Undeliverable)
	}
	if w.archiveMay() {
		set |= infer.Either(resolve.Archive)
	}
	return set
}

// mayWait reports whether a message may wait for somebody at a nested group: a
// request to release it was seen that names a group of their own, or none could have
// been seen.
func (w *judge) mayWait(id estate.ID) bool {
	if !w.approversSeen() {
		return true
	}
	e := w.estate()
	for _, s := range w.e.approvals {
		groups := w.run.Plan.named(&s.Details)
		if len(groups) == 0 {
			return true
		}
		for _, name := range groups {
			a, err := address.Parse(name)
			if err != nil || name == w.groupName() {
				continue
			}
			if group, ok := e.Find(a); ok && e.IsGroup(group) &&
				w.run.Plan.resolver.Members(group).Contains(uint32(id)) {
				return true
			}
		}
	}
	return false
}

// bouncesSeen reports whether a bounce that names a member would have been seen:
// the sender is inside, their own mailbox was looked into, and they are who they
// say.
func (w *judge) bouncesSeen() bool {
	sender := w.c.sender()
	id, known := w.estate().Find(sender)
	return known && w.estate().Inside(id) && !w.c.Traits.Unproven && w.sees(id) && len(w.e.bounced) > 0
}

// approversSeen reports whether a request to the approvers of any nested group
// would have been seen.
func (w *judge) approversSeen() bool {
	r := w.run.Plan.resolver
	for it := r.Members(w.c.Group).Iterator(); it.HasNext(); {
		id := estate.ID(it.Next())
		if !w.estate().IsGroup(id) {
			break
		}
		people, _ := r.Approvers(id)
		if slices.ContainsFunc(people, w.sees) {
			return true
		}
	}
	return false
}

// archiveMay reports whether the message may be kept in an archive: a copy was seen
// in one, or one could not be looked into.
func (w *judge) archiveMay() bool {
	r := w.run.Plan.resolver
	groups := []estate.ID{w.c.Group}
	for it := r.Members(w.c.Group).Iterator(); it.HasNext(); {
		id := estate.ID(it.Next())
		if !w.estate().IsGroup(id) {
			break
		}
		groups = append(groups, id)
	}
	for _, id := range groups {
		name := w.key(id)
		if len(w.e.copies[name]) > 0 || w.estate().Group(id).Kind.Keeps() && !w.watched[name] {
			return true
		}
	}
	return false
}
