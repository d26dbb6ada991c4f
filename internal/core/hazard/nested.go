package hazard

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// turn is a group nested in the one at hand that turns mail away, or lets it wait, which
// the one at hand admits.
type turn struct {
	group   estate.ID
	place   estate.Place // of the entry that nests it
	verdict estate.Verdict
	from    senders
	message resolve.Message
	misses  estate.ID // one of its members, who gets it no other way
}

func (t *turn) use() use {
	if isUsual(t.message) {
		return usual
	}
	return seldom
}

// child is a group that is nested directly, or within rosters alone.
type child struct {
	group estate.ID
	place estate.Place
}

// children returns the groups nested directly in a group over which mail passes, with
// rosters between looked through, in the order of the entries.
func (p *Pass) children(id estate.ID) []child {
	var list []child
	met := map[estate.ID]bool{id: true}
	for queue := []estate.ID{id}; len(queue) > 0; queue = queue[1:] {
		if p.E.Group(queue[0]).Kind == estate.Mailbox {
			continue
		}
		for _, nesting := range p.E.Children(queue[0]) {
			if !nesting.Passes || met[nesting.Group] {
				continue
			}
			met[nesting.Group] = true
			if p.E.Group(nesting.Group).Kind == estate.Roster {
				queue = append(queue, nesting.Group)
			} else {
				list = append(list, child{nesting.Group, nesting.Place})
			}
		}
	}
	return list
}

// turnings returns where the groups nested in a group turn away what it admits.
func (p *Pass) turnings(id estate.ID) []turn {
	if p.looked || p.E.Settings().OpenNestedGates {
		return p.turns
	}
	p.looked = true
	for _, c := range p.children(id) {
		for _, verdict := range []estate.Verdict{estate.Refuse, estate.Hold} {
			if t, found := p.turning(id, c, verdict); found {
				p.turns = append(p.turns, t)
			}
		}
	}
	return p.turns
}

// turning looks for a message that a group admits and one nested in it holds, or refuses
// or drops, so that one of its members misses it.
func (p *Pass) turning(id estate.ID, c child, verdict estate.Verdict) (turn, bool) {
	a := p.R.AsksOf(p.E.Settings().Edge, p.E.Group(id).Gate, p.E.Group(c.group).Gate)
	for _, m := range a.Messages() {
		from := senders{known: nobody}
		if a.KnownTried(m) {
			from.known = p.turnedAway(id, c.group, m, verdict)
		}
		for _, s := range p.others(&a, m.Unproven) {
			if p.R.Post(id, s, m).Verdict == estate.Admit && turns(p.R.Judge(c.group, s, m).Verdict, verdict) {
				from.others = append(from.others, s)
			}
		}
		if from.isEmpty() {
			continue
		}
		if shown, person, found := p.missing(id, c.group, from, m); found {
			return turn{c.group, c.place, verdict, shown, m, person}, true
		}
	}
	return turn{}, false
}

// turns reports whether a verdict is as bad as one: refuse stands for drop, too.
func turns(says, verdict estate.Verdict) bool {
	return says == verdict || verdict == estate.Refuse && says == estate.Drop
}

// turnedAway returns the known senders whom a group admits, and whom one nested in it
// holds, or refuses or drops.
func (p *Pass) turnedAway(id, nested estate.ID, m resolve.Message, verdict estate.Verdict) *roaring.Bitmap {
	admitted := p.posted(id, m).admitted
	if admitted.IsEmpty() {
		return nobody
	}
	in := p.judged(nested, m)
	if verdict == estate.Hold {
		return roaring.And(admitted, in.held)
	}
	away := roaring.AndNot(admitted, in.admitted)
	away.AndNot(in.held)
	return away
}

// missing returns a member of a nested group who gets what some senders write to the
// outer one by no other way, and for which of them that is.
func (p *Pass) missing(id, nested estate.ID, from senders, m resolve.Message) (senders, estate.ID, bool) {
	wanting := map[estate.ID]bool{} // of the members of the nested group
	for _, x := range p.R.Elsewhere(nested, estate.None, nil, m) {
		if x.Outcome != resolve.Nothing {
			wanting[x.Person] = true
		}
	}
	if len(wanting) == 0 {
		return senders{}, estate.None, false
	}
	// If every gate admits, who still gets nothing by other ways never does.
	gets := outcomesOf(p.R.Elsewhere(id, nested, nil, m))
	if person, found := p.firstOf(wanting, turned{id, from, m}, func(person estate.ID) bool {
		outcome, any := gets[person]
		return !any || outcome == resolve.Nothing
	}); found {
		return from, person, true
	}
	// Else it hangs on the gates that each kind of sender comes to.
	for _, part := range p.alike(from, p.gatesIn(id, nested), m) {
		s := p.one(part)
		gets := outcomesOf(p.R.Elsewhere(id, nested, &s, m))
		if person, found := p.firstOf(wanting, turned{id, part, m}, func(person estate.ID) bool {
			outcome, any := gets[person]
			return !any || outcome == resolve.Nothing || outcome == resolve.Stopped || outcome == resolve.Archive
		}); found {
			return part, person, true
		}
	}
	return senders{}, estate.None, false
}

// firstOf returns the first person by address who wants something and misses it, unless
// it would be their own message that their groups do not send them back.
func (p *Pass) firstOf(
	wanting map[estate.ID]bool, m turned, misses func(estate.ID) bool,
) (estate.ID, bool) {
	first := estate.None
	for person := range wanting {
		if (first == estate.None || p.E.Rank(person) < p.E.Rank(first)) && misses(person) && !p.isEcho(person, m) {
			first = person
		}
	}
	return first, first != estate.None
}

// turned is a message of some senders that a group nested in another turns away.
type turned struct {
	group   estate.ID // the outer one
	from    senders
	message resolve.Message
}

// isEcho reports whether a message is somebody's own, and their groups do not send it
// back.
func (p *Pass) isEcho(person estate.ID, m turned) bool {
	known := m.from.known.GetCardinality()
	if known > 1 || known == 1 && !m.from.known.Contains(uint32(person)) ||
		slices.ContainsFunc(m.from.others, func(s resolve.Sender) bool { return s.ID != person }) {
		return false
	}
	list := slices.Clone(m.from.others)
	if known == 1 {
		list = append(list, p.R.Sender(p.E.Address(person)))
	}
	for _, s := range list {
		for _, recipient := range p.R.Deliver(m.group, &s, m.message).Recipients {
			if recipient.ID == person && (recipient.Outcome == resolve.Stopped || recipient.Outcome == resolve.Waiting) {
				return false
			}
		}
	}
	return true
}

func outcomesOf(list []resolve.PersonOutcome) map[estate.ID]resolve.Outcome {
	outcomes := make(map[estate.ID]resolve.Outcome, len(list))
	for _, x := range list {
		outcomes[x.Person] = x.Outcome
	}
	return outcomes
}

// gatesIn returns the groups nested in a group whose own gates mail comes to, but for one.
func (p *Pass) gatesIn(id, except estate.ID) []estate.ID {
	var list []estate.ID
	for _, way := range p.R.Deliver(id, nil, resolve.Message{}).Ways[1:] {
		if way.Group != except && p.E.Group(way.Group).Kind != estate.Roster {
			list = append(list, way.Group)
		}
	}
	return list
}

// nested reports the groups nested in one that turn senders away with a verdict.
func (p *Pass) nested(id estate.ID, verdict estate.Verdict, verb string) {
	for _, t := range p.turnings(id) {
		if t.verdict != verdict {
			continue
		}
		p.reportAs(t.use(), Finding{
			Group: id, Address: p.name(t.group), Place: t.place, Witness: p.witness(t.from, t.message),
			text: func() (says, fix string) {
				return p.name(t.group) + " " + verb + " mail that " + p.name(id) + " admits from " +
						p.who(t.from, t.message) + like(t.message) + ". " + p.name(t.misses) + " gets it no other way.",
					"Let the gate of " + p.name(t.group) + " admit them."
			}})
	}
}

// admitsOnlyInside returns the inside senders of a message whom a group admits, if no
// outside one is admitted or held, and a person is among them.
func (p *Pass) admitsOnlyInside(id estate.ID, a *resolve.Asks, m resolve.Message) (senders, bool) {
	from := senders{known: nobody}
	if a.KnownTried(m) {
		in := p.posted(id, m)
		if in.admitted.Intersects(p.outside) || in.held.Intersects(p.outside) {
			return from, false
		}
		from.known = in.admitted
	}
	for _, s := range p.others(a, m.Unproven) {
		verdict := p.R.Post(id, s, m).Verdict
		switch {
		case verdict != estate.Admit && verdict != estate.Hold:
		case p.isOutside(s):
			return from, false
		case verdict == estate.Admit:
			from.others = append(from.others, s)
		}
	}
	_, people := p.people(from.known)
	inside := slices.ContainsFunc(from.others, func(s resolve.Sender) bool { return p.E.IsPerson(s.ID) })
	return from, people > 0 || inside
}
