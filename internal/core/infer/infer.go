// Package infer finds the change to an estate that explains what was seen of real
// messages: the smallest one under which everything would have been predicted as
// it was.
package infer

import (
	"cmp"
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// Outcomes are a set of outcomes, or of none, that agree with what was seen of
// somebody.
type Outcomes uint16

// None is the bit of somebody who has no outcome at all.
const None = resolve.Undeliverable + 1

// Either returns the set of some outcomes.
func Either(outcomes ...resolve.Outcome) Outcomes {
	var set Outcomes
	for _, o := range outcomes {
		set |= 1 << o
	}
	return set
}

// Has reports whether an outcome is in the set.
func (s Outcomes) Has(o resolve.Outcome) bool { return s&(1<<o) != 0 }

// Verdicts are a set of verdicts that agree with what was seen of a message.
type Verdicts uint8

// OneOf returns the set of some verdicts.
func OneOf(verdicts ...estate.Verdict) Verdicts {
	var set Verdicts
	for _, v := range verdicts {
		set |= 1 << v
	}
	return set
}

// Has reports whether a verdict is in the set.
func (s Verdicts) Has(v estate.Verdict) bool { return s&(1<<v) != 0 }

// A Trial is a message that was sent, and what was seen of it.
type Trial struct {
	From    address.Address // claimed
	By      address.Address // who submits it in the name of the group From, or the zero Address
	To      address.Address // as it is written
	Message resolve.Message
	Seen    Seen
}

// Seen is what agrees with what was seen of a message.
type Seen struct {
	Verdicts Verdicts
	People   map[estate.ID]Outcomes // of those looked at, where the message was let in
}

// A Prediction is what a message does by an estate.
type Prediction struct {
	Verdict  estate.Verdict
	Rule     int                           // of the group's gate; 0: none
	Edge     int                           // of the edge; 0: none
	Group    estate.ID                     // that it is for, or estate.None
	Outcomes map[estate.ID]resolve.Outcome // of people, where it is let in
}

// Decision returns what decides about the message.
func (p Prediction) Decision() resolve.Decision {
	return resolve.Decision{Verdict: p.Verdict, Rule: p.Rule, Edge: p.Edge}
}

// Predict returns what a message does.
func Predict(r *resolve.Resolver, t *Trial) Prediction {
	f := message.Of(r, message.Envelope{From: t.From, By: t.By, To: t.To, Message: t.Message})
	p := Prediction{Verdict: f.Verdict, Rule: f.Rule, Edge: f.Edge, Group: estate.None, Outcomes: f.Outcomes()}
	if f.Reason == message.ByGate || f.Reason == message.ByEdge && r.Estate().IsGroup(f.To) {
		p.Group = f.To
	}
	return p
}

// A Miss is something that was not predicted as it was seen: the verdict, where
// Person is estate.None, or what somebody got.
type Miss struct {
	Trial  int
	Person estate.ID
}

// misses returns where a prediction and what was seen differ. Where the verdict
// does, nothing can be said about anybody.
func misses(trial int, p Prediction, s Seen) []Miss {
	if !s.Verdicts.Has(p.Verdict) {
		return []Miss{{trial, estate.None}}
	}
	var list []Miss
	if p.Verdict != estate.Admit {
		return nil
	}
	for person, set := range s.People {
		outcome, ok := p.Outcomes[person]
		if !ok {
			outcome = None
		}
		if !set.Has(outcome) {
			list = append(list, Miss{trial, person})
		}
	}
	slices.SortFunc(list, byPerson)
	return list
}

func byPerson(a, b Miss) int { return cmp.Compare(a.Person, b.Person) }

// Misses returns where the predictions and what was seen of trials differ.
func Misses(r *resolve.Resolver, trials []Trial) []Miss {
	var list []Miss
	for i := range trials {
		list = append(list, misses(i, Predict(r, &trials[i]), trials[i].Seen)...)
	}
	return list
}

// A Hypothesis is a change under which something would have been predicted.
type Hypothesis struct {
	Change change.Change
	And    change.Change // a second one, where one alone does not explain it; or nil
}

// A Cause explains some misses.
type Cause struct {
	Explains []Miss
	// Hypotheses explain them equally; what was seen cannot tell them apart. The
	// likeliest come first.
	Hypotheses []Hypothesis
}

// batch is how many misses are looked into at once: what explains many comes up
// with any of them.
const batch = 40

// Explain returns causes for what was not predicted as it was seen, those that
// explain most first, and the misses that no change explains.
func Explain(r *resolve.Resolver, trials []Trial) ([]Cause, []Miss) {
	left := Misses(r, trials)
	x := &search{r: r, trials: trials, known: map[Miss]bool{}, of: make([][]Miss, len(trials)), left: map[Miss]bool{}}
	for _, miss := range left {
		x.known[miss], x.left[miss] = true, true
		x.of[miss.Trial] = append(x.of[miss.Trial], miss)
	}
	x.reach()
	var causes []Cause
	take := func(cause Cause) {
		causes = append(causes, cause)
		for _, miss := range cause.Explains {
			delete(x.left, miss)
		}
	}
	seen, looked := map[string]bool{}, map[Miss]bool{}
	for {
		// Misses that are far apart have most to tell.
		var open []Miss
		for _, miss := range left {
			if x.left[miss] && !looked[miss] {
				open = append(open, miss)
			}
		}
		if len(open) == 0 {
			break
		}
		for i := range min(batch, len(open)) {
			miss := open[i*len(open)/min(batch, len(open))]
			looked[miss] = true
			for _, p := range x.candidates(miss) {
				if key := change.Key(p.change); !seen[key] {
					seen[key] = true
					if one := x.try(p); len(one.fixes) > 0 {
						x.tried = append(x.tried, one)
					}
				}
			}
		}
		for {
			cause, ok := x.best(x.tried)
			if !ok {
				break
			}
			take(cause)
		}
	}
	for len(x.left) > 0 {
		cause, ok := x.pairs()
		if !ok {
			break
		}
		take(cause)
	}
	slices.SortStableFunc(causes, func(a, b Cause) int { return len(b.Explains) - len(a.Explains) })
	return causes, slices.DeleteFunc(left, func(m Miss) bool { return !x.left[m] })
}

// result is what a change does to the predictions.
type result struct {
	hypothesis Hypothesis
	fixes      []Miss // that are gone with it
	breaks     int    // that come with it
	weight     int
	proposals  []proposal
}

// best returns the cause that explains most of what is left, with no new misses.
func (x *search) best(tried []result) (Cause, bool) {
	var alike []result
	most := 0
	for _, one := range tried {
		if one.breaks > 0 {
			continue
		}
		switch n := len(x.explained(one)); {
		case n > most:
			most, alike = n, []result{one}
		case n == most && n > 0:
			alike = append(alike, one)
		}
	}
	if len(alike) == 0 {
		return Cause{}, false
	}
	slices.SortStableFunc(alike, func(a, b result) int { return cmp.Compare(a.weight, b.weight) })
	cause := Cause{Explains: x.explained(alike[0])}
	for _, one := range alike {
		if slices.Equal(x.explained(one), cause.Explains) {
			cause.Hypotheses = append(cause.Hypotheses, one.hypothesis)
		}
	}
	return cause, true
}

// explained returns what is left that a change takes away.
func (x *search) explained(one result) []Miss {
	var list []Miss
	for _, miss := range one.fixes {
		if x.left[miss] {
			list = append(list, miss)
		}
	}
	return list
}

// mostPairs is how many changes are tried two by two.
const mostPairs = 60

// pairs looks for two changes that explain together what one does not.
func (x *search) pairs() (Cause, bool) {
	candidates := slices.DeleteFunc(slices.Clone(x.tried), func(one result) bool { return len(x.explained(one)) == 0 })
	slices.SortStableFunc(candidates, func(a, b result) int {
		return cmp.Or(cmp.Compare(a.breaks-len(a.fixes), b.breaks-len(b.fixes)), cmp.Compare(a.weight, b.weight))
	})
	candidates = candidates[:min(len(candidates), mostPairs)]
	var found []result
	for i := range candidates {
		for j := i + 1; j < len(candidates); j++ {
			a, b := candidates[i].proposals[0], candidates[j].proposals[0]
			if a.clashes(b) {
				continue
			}
			if one := x.try(a, b); len(one.fixes) > 0 && one.breaks == 0 {
				found = append(found, one)
			}
		}
	}
	return x.best(found)
}

// search is one run of Explain.
type search struct {
	r       *resolve.Resolver
	trials  []Trial
	known   map[Miss]bool
	of      [][]Miss // known ones, by trial
	left    map[Miss]bool
	tried   []result
	touches []map[estate.ID]bool // by trial: the groups that can matter to it
}

// reach notes which groups can matter to each trial: those that it comes to by
// nesting, and those that their gates and lists speak of.
func (x *search) reach() {
	e := x.r.Estate()
	for i := range x.trials {
		touched := map[estate.ID]bool{}
		var queue []estate.ID
		add := func(id estate.ID) {
			if e.IsGroup(id) && !touched[id] {
				touched[id] = true
				queue = append(queue, id)
			}
		}
		if to, ok := e.Find(x.trials[i].To); ok {
			add(to)
		}
		if from, ok := e.Find(x.trials[i].From); ok {
			add(from)
		}
		for ; len(queue) > 0; queue = queue[1:] {
			g := e.Group(queue[0])
			for _, child := range e.Children(queue[0]) {
				add(child.Group)
			}
			for _, listed := range slices.Concat(g.Owners, g.Moderators) {
				add(listed.ID)
			}
			visit := func(a *selector.Atom) {
				if a.Kind == selector.In || a.Kind == selector.Is {
					if id, ok := e.Find(a.Address); ok {
						add(id)
					}
				}
			}
			for _, rule := range g.Gate {
				selector.Atoms(rule.Selector, visit)
			}
			for _, rule := range g.SendAs {
				selector.Atoms(rule.Selector, visit)
			}
		}
		x.touches = append(x.touches, touched)
	}
}

// try works out what proposals do to the predictions.
func (x *search) try(proposals ...proposal) result {
	one := result{hypothesis: Hypothesis{Change: proposals[0].change}, proposals: proposals}
	var changes []change.Change
	for _, p := range proposals {
		one.weight += p.weight
		if !p.loses() {
			changes = append(changes, p.change)
		}
	}
	if len(proposals) > 1 {
		one.hypothesis.And = proposals[1].change
	}
	r := x.r
	if len(changes) > 0 {
		e, err := change.Apply(x.r.Estate(), changes...)
		if err != nil {
			return one // it explains nothing
		}
		r = resolve.New(e, x.r.Today())
	}
	for i := range x.trials {
		t := &x.trials[i]
		if !slices.ContainsFunc(proposals, func(p proposal) bool { return p.matters(x.touches[i], t) }) {
			continue
		}
		now := misses(i, x.predict(r, t, proposals), t.Seen)
		// A verdict that fits uncovers what members got. Where that does not fit, it
		// is for another change to explain.
		uncovered := x.known[Miss{i, estate.None}]
		for _, miss := range now {
			switch {
			case x.known[miss]:
			case uncovered && miss.Person != estate.None:
				one.weight++
			default:
				one.breaks++
			}
		}
		for _, miss := range x.of[i] {
			if _, still := slices.BinarySearchFunc(now, miss, byPerson); !still {
				one.fixes = append(one.fixes, miss)
			}
		}
	}
	slices.SortFunc(one.fixes, func(a, b Miss) int {
		return cmp.Or(cmp.Compare(a.Trial, b.Trial), cmp.Compare(a.Person, b.Person))
	})
	return one
}

// predict is Predict, except for addresses that lead nowhere, or elsewhere, by a change.
func (x *search) predict(r *resolve.Resolver, t *Trial, proposals []proposal) Prediction {
	for _, p := range proposals {
		if p.gone(t.To) {
			if p.leadsTo.IsValid() {
				elsewhere := *t
				elsewhere.To = p.leadsTo
				return Predict(r, &elsewhere)
			}
			return Prediction{Verdict: estate.Refuse, Group: estate.None}
		}
	}
	return Predict(r, t)
}
