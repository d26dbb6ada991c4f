package resolve

import "yorvet.example/yorvet/internal/core/estate"

// A Candidate is one path by which a message comes to a person.
type Candidate struct {
	Path    Path
	Outcome Outcome // of this path; mailboxes that do not work make it Undeliverable
	Decides bool    // this is the best one, which counts

	recipient Recipient
}

// To returns all paths by which a message comes to a person, in the order of the paths.
func (d *Delivery) To(person estate.ID) []Candidate {
	var candidates []Candidate
	best := -1
	for i, path := range d.Paths {
		recipient, ok := d.r.membershipOutcome(d, int32(i), person)
		if !ok {
			continue
		}
		if best < 0 || recipient.Outcome < candidates[best].recipient.Outcome {
			best = len(candidates)
		}
		candidates = append(candidates, Candidate{Path: path, Outcome: d.r.final(recipient), recipient: recipient})
	}
	if best >= 0 {
		candidates[best].Decides = true
	}
	return candidates
}

// Best returns the path that counts for a person, with what it gives, and false if nothing of the message is for them.
func (d *Delivery) Best(person estate.ID) (Candidate, bool) {
	for _, c := range d.To(person) {
		if c.Decides {
			return c, true
		}
	}
	return Candidate{Outcome: Nothing}, false
}

// membershipOutcome returns what a person's membership in the group of a path
// gives, and false if they are no member.
func (r *Resolver) membershipOutcome(d *Delivery, path int32, person estate.ID) (Recipient, bool) {
	id := d.Paths[path].Group
	g := r.e.Group(id)
	recipient := Recipient{ID: person, path: path, member: inMailbox}
	if g.Kind == estate.Mailbox {
		recipient.Outcome = outcomes(g.Kind, estate.CopyEvery, d.Paths[path].State)
		return recipient, r.isMember(id, person)
	}
	entry, rule := r.Membership(id, person)
	var says estate.Membership
	switch {
	case entry != nil:
		says = entry.Membership()
		entries := r.e.Entries(id)
		for i := range entries {
			if &entries[i] == entry {
				recipient.member = int32(i)
			}
		}
	case rule != nil:
		says = rule.Membership
		rules := r.e.Rules(id)
		for i := range rules {
			if &rules[i] == rule {
				recipient.member = ^int32(i)
			}
		}
	default:
		return recipient, false
	}
	recipient.Outcome = outcomes(g.Kind, r.wish(g, person, says, &d.Query).Copy, d.Paths[path].State)
	return recipient, true
}

// Recipient returns a candidate as a recipient of the delivery that it came with.
func (c Candidate) Recipient() Recipient {
	c.recipient.Outcome = c.Outcome
	return c.recipient
}

// GroupsOf returns the groups that a person or group is a member of, directly or
// through nested groups, in the order of the estate.
func (r *Resolver) GroupsOf(id estate.ID) []estate.ID {
	var groups []estate.ID
	if r.e.Groups() == 0 {
		return nil
	}
	r.isMember(0, id) // works out the standing
	for group, in := range r.standings[id] {
		if in {
			groups = append(groups, estate.ID(group))
		}
	}
	return groups
}
