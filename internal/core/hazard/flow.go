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

// nobody is the empty set. It is not to be changed.
var nobody = roaring.New()

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

// without returns those who are not among others.
func (s senders) without(other senders) senders {
	rest := senders{known: s.known}
	switch {
	case s.known == other.known:
		rest.known = nobody
	case !s.known.IsEmpty() && s.known.Intersects(other.known):
		rest.known = roaring.AndNot(s.known, other.known)
	}
	for i := range rest.strangers {
		rest.strangers[i] = s.strangers[i] && !other.strangers[i]
	}
	return rest
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

// letIn are the senders of a default message whom a group's gate admits, and those
// whom it holds. It stops the others.
type letIn struct{ admitted, held senders }

func (p *Pass) letIn(id estate.ID) letIn {
	key := p.gateKey(id)
	in, ok := p.gates[key]
	if ok {
		return in
	}
	in = letIn{senders{known: roaring.New()}, senders{known: roaring.New()}}
	by := map[estate.Verdict]*senders{estate.Admit: &in.admitted, estate.Hold: &in.held}
	g := p.E.Group(id)
	for i, class := range p.deciding(id, resolve.Message{}) {
		if set := by[g.Gate[i].Verdict]; set != nil {
			set.known.Or(class)
		}
	}
	strangers := p.R.Strangers()
	for i, s := range []resolve.Sender{strangers.Outside, strangers.Inside} {
		if set := by[p.R.Judge(id, s, resolve.Message{}).Verdict]; set != nil {
			set.strangers[i] = true
		}
	}
	in.admitted.known.RunOptimize() // they are kept for all groups
	in.held.known.RunOptimize()
	p.gates[key] = in
	return in
}

// ownGate begins the key of a gate that judges in its group alone.
const ownGate = "own "

// gateKey stands for a group's gate: equal ones judge alike.
func (p *Pass) gateKey(id estate.ID) string {
	if p.keys[id] == "" {
		if g := p.E.Group(id); resolve.SameForAll(g) {
			var key strings.Builder
			for _, rule := range g.Gate {
				key.WriteString("\n" + rule.Text)
			}
			p.keys[id] = "\n" + key.String()
		} else {
			p.keys[id] = ownGate + p.name(id)
		}
	}
	return p.keys[id]
}

// shared reports whether a gate that is written as that of a group judges alike
// in others.
func (p *Pass) shared(id estate.ID) bool { return !strings.HasPrefix(p.gateKey(id), ownGate) }

// Deciding returns what Resolver.Deciding does for a default message to the group
// that has been looked at last.
func (p *Pass) Deciding() []*roaring.Bitmap { return p.deciding(p.group, resolve.Message{}) }

// deciding returns what Resolver.Deciding does. What the group at hand says, and
// gates that are equal, are asked once.
func (p *Pass) deciding(id estate.ID, m resolve.Message) []*roaring.Bitmap {
	memory := p.classes
	if !p.shared(id) {
		if id != p.group {
			return p.R.Deciding(id, m)
		}
		memory = p.own
	}
	key := gateMessage{p.gateKey(id), m}
	classes, ok := memory[key]
	if !ok {
		classes = p.R.Deciding(id, m)
		memory[key] = classes
	}
	return classes
}

// flow returns the groups that a default message to the group at hand comes to by
// nesting, in the order of entries, for all who are admitted there.
func (p *Pass) flow(id estate.ID) []flow {
	if p.flows != nil {
		return p.flows
	}
	admitted := p.letIn(id).admitted
	none := senders{known: nobody}
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
	p.flows = flows
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
	in := p.letIn(f.group)
	passing, held := open.and(in.admitted), reaching.and(in.held)
	f.open = f.open.or(passing)
	f.held = f.held.or(held)
	f.stopped = f.stopped.or(reaching.without(in.admitted).without(in.held))
	if open.known != reaching.known {
		passing = passing.or(reaching.and(in.admitted))
	}
	reach[f.group] = reach[f.group].or(passing).or(held)
}

// witness returns one of some senders: a person if there is one, else a stranger,
// else a group.
func (p *Pass) witness(s senders) *Witness {
	strangers := p.R.Strangers()
	if !s.known.IsEmpty() {
		if id := p.first(s.known); p.E.IsPerson(id) || !s.strangers[0] && !s.strangers[1] {
			return &Witness{From: p.E.Address(id)}
		}
	}
	if s.strangers[0] {
		return &Witness{From: strangers.Outside.Address}
	}
	return &Witness{From: strangers.Inside.Address}
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
	for i, name := range []string{"anyone outside", "unknown inside addresses"} {
		if s.strangers[i] {
			if text != "" {
				text += " and "
			}
			text += name
		}
	}
	return text
}
