package hazard

import (
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// flow is a group that mail to another one comes to by nesting, and for which
// senders it does what. Strangers are those of package resolve, by index:
// outside, inside.
type flow struct {
	group   estate.ID
	place   estate.Place // of the entry that leads there first
	open    senders      // let in by all gates on a way
	held    senders      // let in up to here, and held by this group's gate
	stopped senders      // let in or held up to here, and not let in by this group's gate
}

// senders are some of the estate's people and groups, writing from their main
// addresses, and of the strangers.
type senders struct {
	known     *roaring.Bitmap
	strangers [2]bool
}

func (s senders) isEmpty() bool { return s.known.IsEmpty() && !s.strangers[0] && !s.strangers[1] }

// and returns those in both. Sets are shared where they can be; none is changed.
func (s senders) and(other senders) senders {
	var both senders
	switch {
	case s.known.IsEmpty():
		both.known = s.known
	case other.known.IsEmpty() || s.known == other.known:
		both.known = other.known
	default:
		both.known = roaring.And(s.known, other.known)
	}
	for i := range both.strangers {
		both.strangers[i] = s.strangers[i] && other.strangers[i]
	}
	return both
}

// or returns those in either.
func (s senders) or(other senders) senders {
	var either senders
	switch {
	case s.known.IsEmpty():
		either.known = other.known
	case other.known.IsEmpty() || s.known == other.known:
		either.known = s.known
	default:
		either.known = roaring.Or(s.known, other.known)
	}
	for i := range either.strangers {
		either.strangers[i] = s.strangers[i] || other.strangers[i]
	}
	return either
}

func (s senders) size() uint64 {
	size := s.known.GetCardinality()
	for _, yes := range s.strangers {
		if yes {
			size++
		}
	}
	return size
}

// verdicts returns the senders of a default message for whom a group's gate has
// each verdict.
func (p *Pass) verdicts(id estate.ID) [estate.Drop + 1]senders {
	sets := p.verdictSets(id)
	var result [estate.Drop + 1]senders
	for v := range result {
		result[v].known = sets[v]
	}
	strangers := p.R.Strangers()
	for i, s := range []resolve.Sender{strangers.Outside, strangers.Inside} {
		result[p.R.Judge(id, s, resolve.Message{}).Verdict].strangers[i] = true
	}
	return result
}

// gateKey stands for a group's gate: equal ones judge alike.
func (p *Pass) gateKey(id estate.ID) string {
	if p.keys[id] != "" {
		return p.keys[id]
	}
	var key strings.Builder
	for _, rule := range p.E.Group(id).Gate {
		key.WriteString("\n" + rule.Text)
	}
	p.keys[id] = "\n" + key.String()
	if !resolve.SameForAll(p.E.Group(id)) {
		p.keys[id] = p.name(id) + key.String()
	}
	return p.keys[id]
}

// posters returns what Resolver.Posters does. Equal gates are asked once.
func (p *Pass) posters(id estate.ID, m resolve.Message) []*roaring.Bitmap {
	key := gateMessage{p.gateKey(id), m}
	classes, ok := p.gates[key]
	if !ok {
		classes = p.R.Posters(id, m)
		p.gates[key] = classes
	}
	return classes
}

// verdictSets returns the people and groups by verdict, for a default message.
func (p *Pass) verdictSets(id estate.ID) []*roaring.Bitmap {
	key := p.gateKey(id)
	if sets, ok := p.verdict[key]; ok {
		return sets
	}
	sets := make([]*roaring.Bitmap, estate.Drop+1)
	for v := range sets {
		sets[v] = roaring.New()
	}
	for rule, class := range p.posters(id, resolve.Message{}) {
		sets[p.R.Verdict(id, rule)].Or(class)
	}
	p.verdict[key] = sets
	return sets
}

// flow returns the groups that a default message to a group comes to by nesting,
// in the order of entries, for all who are admitted there.
func (p *Pass) flow(id estate.ID) []flow {
	if flows, ok := p.flows[id]; ok {
		return flows
	}
	admitted := p.verdicts(id)[estate.Admit]
	none := senders{known: roaring.New()}
	reach := map[estate.ID]senders{id: admitted} // over open and waiting ways
	found := map[estate.ID]*flow{id: {group: id, open: admitted}}
	order := []estate.ID{}
	for queue := []estate.ID{id}; len(queue) > 0; queue = queue[1:] {
		at := queue[0]
		if p.E.Group(at).Kind == estate.Mailbox {
			continue
		}
		for _, child := range p.E.Children(at) {
			if !child.Passes || child.Group == id {
				continue
			}
			f, seen := found[child.Group]
			if !seen {
				f = &flow{group: child.Group, place: child.Place, open: none, held: none, stopped: none}
				found[child.Group], reach[child.Group] = f, none
				order = append(order, child.Group)
			}
			before := f.open.size() + reach[child.Group].size()
			p.enter(f, reach, found[at].open, reach[at])
			if !seen || f.open.size()+reach[child.Group].size() > before {
				queue = append(queue, child.Group)
			}
		}
	}
	flows := make([]flow, 0, len(order))
	for _, group := range order {
		flows = append(flows, *found[group])
	}
	p.flows[id] = flows
	return flows
}

// enter adds to a flow those who come to its group over a parent: open and
// reaching are those who come to the parent over open ways, and over any that are
// not stopped.
func (p *Pass) enter(f *flow, reach map[estate.ID]senders, open, reaching senders) {
	if p.E.Settings().OpenNestedGates || p.E.Group(f.group).Kind == estate.Roster {
		f.open = f.open.or(open)
		reach[f.group] = reach[f.group].or(reaching)
		return
	}
	says := p.verdicts(f.group)
	passing, held := open.and(says[estate.Admit]), reaching.and(says[estate.Hold])
	f.open = f.open.or(passing)
	f.held = f.held.or(held)
	f.stopped = f.stopped.or(reaching.and(says[estate.Refuse])).or(reaching.and(says[estate.Drop]))
	if open.known != reaching.known {
		passing = passing.or(reaching.and(says[estate.Admit]))
	}
	reach[f.group] = reach[f.group].or(passing).or(held)
}

// witness returns one of some senders: a person if there is one, else a stranger,
// else a group.
func (p *Pass) witness(s senders) Witness {
	strangers := p.R.Strangers()
	if !s.known.IsEmpty() {
		if id := p.first(s.known); p.E.IsPerson(id) || !s.strangers[0] && !s.strangers[1] {
			return Witness{From: p.E.Address(id)}
		}
	}
	if s.strangers[0] {
		return Witness{From: strangers.Outside.Address}
	}
	return Witness{From: strangers.Inside.Address}
}

// who names some senders: people, groups and strangers.
func (p *Pass) who(s senders) string {
	// People first: they mean more to the reader than groups that write.
	some, total := p.people(s.known)
	for it := s.known.Iterator(); len(some) < mostNames && it.HasNext(); {
		id := estate.ID(it.Next())
		if p.E.IsPerson(id) {
			break
		}
		some = append(some, id)
	}
	text := p.some(some, max(total, len(some)))
	for i, name := range []string{"strangers from outside", "unknown senders from inside"} {
		if s.strangers[i] {
			if text != "" {
				text += " and "
			}
			text += name
		}
	}
	return text
}
