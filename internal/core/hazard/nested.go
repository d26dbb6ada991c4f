package hazard

import (
	"slices"
	"sync"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// turn is a group nested in the one at hand that turns mail away, or lets it wait, which
// the one at hand admits.
type turn struct {
	outer   estate.ID // the one at hand
	group   estate.ID
	place   estate.Place // of the entry that nests it
	verdict estate.Verdict
	message resolve.Message
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
	children := p.children(id)
	for _, c := range children {
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
		t := turn{outer: id, group: c.group, place: c.place, verdict: verdict, message: m}
		if several := a.KnownTried(m) && p.severalTurned(&t); several && p.bypass(&t).anyMissesAll() {
			return t, true
		}
		if from := p.turnedFrom(&t, &a); !from.isEmpty() && p.bypass(&t).anyMisses(from) {
			return t, true
		}
	}
	return turn{}, false
}

// severalTurned reports whether several known senders are admitted and turned away, without
// saying who.
func (p *Pass) severalTurned(t *turn) bool {
	admitted, in := p.R.Gate(t.outer).Posted(t.message).Admitted, p.R.Gate(t.group).LetIn(t.message)
	held := admitted.AndCardinality(in.Held)
	if t.verdict == estate.Hold {
		return held > 1
	}
	return admitted.GetCardinality() > held+admitted.AndCardinality(in.Admitted)+1
}

// turnedFrom returns the senders whose message a group admits and one nested in it turns away.
func (p *Pass) turnedFrom(t *turn, a *resolve.Asks) senders {
	from := senders{known: nobody}
	if a.KnownTried(t.message) {
		from.known = p.turnedAway(t.outer, t.group, t.message, t.verdict)
	}
	for _, s := range p.others(a, t.message.Unproven) {
		if p.R.Gate(t.outer).Post(s, t.message).Verdict == estate.Admit &&
			turns(p.R.Gate(t.group).Judge(s, t.message).Verdict, t.verdict) {
			from.others = append(from.others, s)
		}
	}
	return from
}

// turns reports whether a verdict is as bad as one: refuse stands for drop, too.
func turns(says, verdict estate.Verdict) bool {
	return says == verdict || verdict == estate.Refuse && says == estate.Drop
}

// turnedAway returns the known senders that a group admits, and that one nested in it
// holds, or refuses or drops.
func (p *Pass) turnedAway(id, nested estate.ID, m resolve.Message, verdict estate.Verdict) *roaring.Bitmap {
	admitted := p.R.Gate(id).Posted(m).Admitted
	if admitted.IsEmpty() {
		return nobody
	}
	in := p.R.Gate(nested).LetIn(m)
	if verdict == estate.Hold {
		return roaring.And(admitted, in.Held)
	}
	away := roaring.AndNot(admitted, in.Admitted)
	away.AndNot(in.Held)
	return away
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
		for _, recipient := range p.R.Deliver(resolve.Query{Group: m.group, Sender: &s, Message: m.message}).Recipients() {
			if recipient.ID == person && (recipient.Outcome == resolve.Stopped || recipient.Outcome == resolve.Waiting) {
				return false
			}
		}
	}
	return true
}

// gatesIn returns the groups nested in a group whose own gates mail comes to, but for one.
func (p *Pass) gatesIn(id, except estate.ID) []estate.ID {
	return slices.DeleteFunc(p.R.Flow(id, resolve.Message{}).Gates(), func(nested estate.ID) bool { return nested == except })
}

// nested reports the groups nested in one that turn senders away with a verdict.
func (p *Pass) nested(id estate.ID, verdict estate.Verdict, verb string) {
	for _, t := range p.turnings(id) {
		if t.verdict != verdict {
			continue
		}
		shown := sync.OnceValues(func() (senders, estate.ID) { return p.shown(&t) })
		p.reportAs(t.use(), Finding{
			Group: id, Address: p.name(t.group), Place: t.place,
			more: &more{
				witness: func() *Witness {
					from, _ := shown()
					return p.witness(from, t.message)
				},
				cure: func() string { return p.admitThem(t.group) },
			},
			text: func() (says, fix string) {
				from, person := shown()
				return p.name(t.group) + " " + verb + " mail that " + p.name(id) + " admits from " +
						p.who(from, t.message) + like(t.message) + ". " + p.name(person) + " gets it no other way.",
					p.admitThem(t.group)
			},
		})
	}
}

func (p *Pass) admitThem(id estate.ID) string {
	return "Let the gate of " + p.name(id) + " admit them."
}

// admitsOnlyInside returns the inside senders of a message that a group admits, if no
// outside one is admitted or held, and a person is among them.
func (p *Pass) admitsOnlyInside(id estate.ID, a *resolve.Asks, m resolve.Message) (senders, bool) {
	from := senders{known: nobody}
	if a.KnownTried(m) {
		in := p.R.Gate(id).Posted(m)
		if in.Admitted.Intersects(p.outside) || in.Held.Intersects(p.outside) {
			return from, false
		}
		from.known = in.Admitted
	}
	for _, s := range p.others(a, m.Unproven) {
		verdict := p.R.Gate(id).Post(s, m).Verdict
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
