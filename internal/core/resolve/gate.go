package resolve

import (
	"slices"
	"strings"
	"sync"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Gate decides about mail to a group: what its own gate says, and the edge of the estate.
type Gate struct {
	r     *Resolver
	group estate.ID
}

// Gate returns the gate of a group, or with estate.None the edge of the estate.
func (r *Resolver) Gate(group estate.ID) Gate { return Gate{r, group} }

// A Decision is what a gate says, or the edge of the estate.
type Decision struct {
	Verdict estate.Verdict
	Rule    int // of the group's gate, from 1; 0: none of it decides
	Edge    int // of the edge, from 1; 0: none of it decides
}

// rules returns those of the gate. Mail to a roster is refused without a rule.
func (g Gate) rules() []estate.GateRule {
	if g.group == estate.None {
		return g.r.e.Settings().Edge
	}
	if group := g.r.e.Group(g.group); group.Kind != estate.Roster {
		return group.Gate
	}
	return nil
}

// Post returns what becomes of a message that is sent to the group: what the edge says,
// and else the group's own gate.
func (g Gate) Post(s Sender, m Message) Decision {
	if edge := g.r.Gate(estate.None).Judge(s, m); edge.Rule > 0 {
		return Decision{Verdict: edge.Verdict, Edge: edge.Rule}
	}
	return g.Judge(s, m)
}

// Judge returns what the own gate of the group says, whatever the edge. Mail to a roster is
// refused whatever its gate. Of the edge, it is about its rules.
func (g Gate) Judge(s Sender, m Message) Decision {
	for i, rule := range g.rules() {
		if g.r.Eval(g.group, rule.Selector, s, m) {
			return Decision{Verdict: rule.Verdict, Rule: i + 1}
		}
	}
	return Decision{Verdict: estate.Refuse}
}

// Holds reports whether mail of anybody tried is held at the group.
func (g Gate) Holds() bool {
	r, group := g.r, g.r.e.Group(g.group)
	holds := func(rule estate.GateRule) bool { return rule.Verdict == estate.Hold }
	if group.Kind == estate.Roster || !slices.ContainsFunc(group.Gate, holds) {
		return false
	}
	asks, strangers := r.AsksOf(r.e.Settings().Edge, group.Gate), r.Strangers()
	for _, m := range asks.Messages() {
		tried := []Sender{strangers.Inside}
		if asks.KnownTried(m) {
			tried = append(append(tried, strangers.Outside), r.FurtherAddresses()...)
			for _, a := range asks.Named {
				tried = append(tried, r.Sender(a))
			}
			held := func(class Class) bool { return class.Verdict == estate.Hold && !class.Senders.IsEmpty() }
			if slices.ContainsFunc(g.Posters(m), held) {
				return true
			}
		}
		if slices.ContainsFunc(tried, func(s Sender) bool { return g.Post(s, m).Verdict == estate.Hold }) {
			return true
		}
	}
	return false
}

// A Tried is a rule that was asked, and the answers that settle it.
type Tried struct {
	Rule    int // from 1
	Matched bool
	Answers []selector.Truth
}

// Trace returns the rules of the own gate that are asked, up to the one that decides. It agrees with Judge.
func (g Gate) Trace(s Sender, m Message) []Tried {
	var trace []Tried
	for i, rule := range g.rules() {
		matched, answers := selector.Witness(rule.Selector, g.r.asker(g.group, s, m))
		trace = append(trace, Tried{i + 1, matched, answers})
		if matched {
			break
		}
	}
	return trace
}

// Rule returns the rule of the group's gate or of the edge that decides, or nil.
func (g Gate) Rule(d Decision) *estate.GateRule {
	switch {
	case d.Edge > 0:
		return &g.r.e.Settings().Edge[d.Edge-1]
	case d.Rule > 0:
		return &g.r.e.Group(g.group).Gate[d.Rule-1]
	}
	return nil
}

// Because returns what a decision about mail to the group says to the sender, or "".
func (g Gate) Because(d Decision) string {
	if rule := g.Rule(d); rule != nil {
		return rule.Because
	}
	return ""
}

// Deciding returns, for each rule of the own gate, the people and groups for
// who it decides when they write from their main address: rule 1 at 0. Mail to a
// roster is refused without a rule. The sets are not to be changed.
func (g Gate) Deciding(m Message) []*roaring.Bitmap {
	if g.group != estate.None && !g.r.gates.shared(g.r.e, g.group) {
		return g.deciding(m)
	}
	key := gateMessage{"", m}
	if g.group != estate.None {
		key.gate = g.key()
	}
	classes, known := g.r.classes[key]
	if !known {
		classes = g.deciding(m)
		g.r.classes[key] = classes
	}
	return classes
}

func (g Gate) deciding(m Message) []*roaring.Bitmap {
	rules := g.rules()
	decided := roaring.New()
	classes := make([]*roaring.Bitmap, len(rules))
	for i, rule := range rules {
		classes[i] = g.r.Set(g.group, rule.Selector, m)
		if i > 0 {
			classes[i] = roaring.AndNot(classes[i], decided)
		}
		if i+1 < len(classes) {
			decided.Or(classes[i])
		}
	}
	return classes
}

// stopped returns those that the edge refuses or drops, or nil where there is no edge.
func (r *Resolver) stopped(m Message) *roaring.Bitmap {
	classes := r.Gate(estate.None).Deciding(m)
	if len(classes) == 0 {
		return nil
	}
	return roaring.FastOr(classes...)
}

// A Class is a decision about a message, and the people and groups who get it when they
// write from their main address.
type Class struct {
	Decision
	Senders *roaring.Bitmap
}

// Posters returns everybody by what becomes of a message that they send to the group, as
// Post says: first those that no rule decides about.
func (g Gate) Posters(m Message) []Class {
	rest := g.r.everyone()
	decided := g.Decided(m)
	for _, class := range decided {
		rest.AndNot(class.Senders)
	}
	return append([]Class{{Decision{Verdict: estate.Refuse}, rest}}, decided...)
}

// Decided returns what Posters does, without those that no rule decides about.
func (g Gate) Decided(m Message) []Class {
	var list []Class
	for i, class := range g.r.Gate(estate.None).Deciding(m) {
		list = append(list, Class{Decision{Verdict: g.r.e.Settings().Edge[i].Verdict, Edge: i + 1}, class})
	}
	stopped := g.r.stopped(m)
	for i, class := range g.Deciding(m) {
		if stopped != nil {
			class = roaring.AndNot(class, stopped)
		}
		list = append(list, Class{Decision{Verdict: g.rules()[i].Verdict, Rule: i + 1}, class})
	}
	return list
}

// LetIn are the people and groups that a gate admits when they write from their main address, and those
// that it holds. It stops the others. The sets are not to be changed.
type LetIn struct{ Admitted, Held *roaring.Bitmap }

// none is the empty set. It is not to be changed.
var none = roaring.New()

// LetIn returns what the own gate says to everybody. Equal gates are asked once.
func (g Gate) LetIn(m Message) LetIn {
	key := gateMessage{g.key(), m}
	in, known := g.r.letIn[key]
	if known {
		return in
	}
	in = LetIn{none, none}
	rules := g.rules()
	for i, class := range g.Deciding(m) {
		switch rules[i].Verdict {
		case estate.Admit:
			in.Admitted = union(in.Admitted, class)
		case estate.Hold:
			in.Held = union(in.Held, class)
		}
	}
	g.r.letIn[key] = in
	return in
}

// LetInOf returns what the own gate says to some senders, by their index.
func (g Gate) LetInOf(senders []Sender, m Message) LetIn {
	in := LetIn{roaring.New(), roaring.New()}
	for i, s := range senders {
		switch g.Judge(s, m).Verdict {
		case estate.Admit:
			in.Admitted.Add(uint32(i))
		case estate.Hold:
			in.Held.Add(uint32(i))
		}
	}
	return in
}

// Posted returns what becomes of everybody's mail to the group: what the edge says, and else the gate.
func (g Gate) Posted(m Message) LetIn {
	in := g.LetIn(m)
	if stopped := g.r.stopped(m); stopped != nil {
		in = LetIn{roaring.AndNot(in.Admitted, stopped), roaring.AndNot(in.Held, stopped)}
	}
	return in
}

// union returns a set with those of two, which are not to be changed: one of them, if the other
// is empty.
func union(x, y *roaring.Bitmap) *roaring.Bitmap {
	switch {
	case x.IsEmpty():
		return y
	case y.IsEmpty():
		return x
	}
	both := roaring.Or(x, y)
	both.RunOptimize() // they are kept for all groups
	return both
}

// Split divides a set into those that a gate admits, those that it holds and the rest, without the empty ones.
func (in LetIn) Split(set *roaring.Bitmap) []*roaring.Bitmap {
	admitted, held := roaring.And(set, in.Admitted), roaring.And(set, in.Held)
	rest := roaring.AndNot(set, admitted)
	rest.AndNot(held)
	return slices.DeleteFunc([]*roaring.Bitmap{admitted, held, rest}, (*roaring.Bitmap).IsEmpty)
}

// Kinds divides a set of senders by what gates say to them, one after the other, and reports whether those are
// all kinds: it finds no more than most.
func Kinds(set *roaring.Bitmap, gates []LetIn, most int) (kinds []*roaring.Bitmap, all bool) {
	if set.IsEmpty() {
		return nil, true
	}
	kinds, all = []*roaring.Bitmap{set}, true
	met := map[LetIn]bool{}
	for _, in := range gates {
		if met[in] {
			continue
		}
		met[in] = true
		var finer []*roaring.Bitmap
		for _, kind := range kinds {
			finer = append(finer, in.Split(kind)...)
		}
		if len(finer) > most {
			finer, all = finer[:most], false
		}
		kinds = finer
	}
	return kinds, all
}

// FirstKind returns the first kind of Kinds that some of among are of; among is not empty.
func FirstKind(set *roaring.Bitmap, gates []LetIn, among *roaring.Bitmap) *roaring.Bitmap {
	for _, in := range gates {
		for _, one := range in.Split(set) {
			if one.Intersects(among) {
				set = one
				break
			}
		}
	}
	return set
}

// SameForAll reports whether a gate that is written like that of g says the same
// in every group of the estate: whether it does not speak of its own group.
func SameForAll(g *estate.Group) bool {
	same := g.Kind != estate.Roster
	for _, rule := range g.Gate {
		same = same && SameSelector(rule.Selector)
	}
	return same
}

// SameSelector reports whether a selector picks the same in every group of the estate.
func SameSelector(x selector.Expr) bool {
	same := true
	selector.Atoms(x, func(a *selector.Atom) {
		switch a.Kind {
		case selector.Members, selector.Owners, selector.Moderators, selector.Newcomers:
			same = false
		}
	})
	return same
}

// gateMessage is a gate, by its key, and a message that it was asked about.
type gateMessage struct {
	gate    string
	message Message
}

// gateKeys stand for the gates of groups: equal ones judge alike. Several goroutines may use them.
type gateKeys struct {
	once sync.Once
	keys []string       // by group
	uses map[string]int // how many groups have it
}

// ownGate begins the key of a gate that judges in its group alone.
const ownGate = "own "

func (k *gateKeys) prepare(e *estate.Estate) {
	k.once.Do(func() {
		k.keys, k.uses = make([]string, e.Groups()), map[string]int{}
		for id := range estate.ID(e.Groups()) {
			g := e.Group(id)
			if !SameForAll(g) {
				k.keys[id] = ownGate + e.Address(id).String()
				continue
			}
			var key strings.Builder
			for _, rule := range g.Gate {
				key.WriteString("\n" + rule.Text)
			}
			k.keys[id] = "\n" + key.String()
			k.uses[k.keys[id]]++
		}
	})
}

// shared reports whether several groups have a gate that judges alike.
func (k *gateKeys) shared(e *estate.Estate, group estate.ID) bool {
	k.prepare(e)
	return k.uses[k.keys[group]] > 1
}

// key stands for the gate.
func (g Gate) key() string {
	g.r.gates.prepare(g.r.e)
	return g.r.gates.keys[g.group]
}

// Key stands for the gate, and reports whether one of another group with the same key judges alike.
func (g Gate) Key() (key string, alike bool) {
	key = g.key()
	return key, !strings.HasPrefix(key, ownGate)
}
