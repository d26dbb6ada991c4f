package expect

import (
	"slices"
	"strconv"
	"unicode/utf8"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Result is whether an expectation holds.
type Result struct {
	Expectation *Expectation
	Group       estate.ID
	Holds       bool
	Picked      int // how many the selector picks
	Counter     []Counterexample
}

// A Counterexample is somebody who breaks an expectation.
type Counterexample struct {
	From     address.Address // a sender, a person or a stranger; not valid where nobody in particular breaks it
	Stranger string          // outside, inside or forged, for a stranger
	Message  resolve.Message

	// What is the case instead, by the kind of the expectation.
	Decision resolve.Decision
	Outcome  resolve.Outcome
	Gets     bool // there is an outcome at all
	SendAs   estate.SendAs
	Rule     int // of send-as
	Number   int // of approvers
}

// Check returns what keeps expectations from being evaluated: groups that do not
// exist.
func Check(e *estate.Estate, list []Expectation) []*Error {
	var errs []*Error
	reported := map[int]bool{}
	for _, x := range list {
		if id, ok := e.Find(x.Group); (!ok || !e.IsGroup(id)) && !reported[x.groupLine] {
			reported[x.groupLine] = true
			near := nearest.Words(x.Group.String(), groupAddresses(e), 1)
			one := &Error{
				Line:   x.groupLine,
				Column: x.groupColumn,
				Text:   "there is no group " + strconv.Quote(x.Group.String()),
			}
			if len(near) > 0 {
				one.Nearest = near[0]
			}
			errs = append(errs, one)
		}
		if x.Selector == nil {
			continue
		}
		for _, p := range e.CheckSelector(x.Selector, x.selectorText) {
			errs = append(
				errs,
				&Error{
					Line:    x.Line,
					Column:  utf8.RuneCountInString(x.line[:min(x.selectorOffset+p.Offset, len(x.line))]) + 1,
					Text:    p.Text,
					Nearest: p.Nearest,
					Source:  x.line,
				},
			)
		}
	}
	return errs
}

func groupAddresses(e *estate.Estate) func(func(string) bool) {
	return func(yield func(string) bool) {
		for id := range estate.ID(e.Groups()) {
			if !yield(e.Address(id).String()) {
				return
			}
		}
	}
}

// Evaluate says of an expectation that Check has nothing against whether it
// holds.
func Evaluate(r *resolve.Resolver, x *Expectation) Result {
	var list []Counterexample
	result := Each(r, x, func(c Counterexample) bool {
		list = append(list, c)
		return true
	})
	result.Counter = list
	return result
}

// Holds reports whether an expectation that Check has nothing against holds.
func Holds(r *resolve.Resolver, x *Expectation) bool {
	return Each(r, x, func(Counterexample) bool { return false }).Holds
}

// Each is Evaluate, but visits those who break the expectation, until visit returns false, and
// keeps none of them. How many are picked is known only where it never does.
func Each(r *resolve.Resolver, x *Expectation, visit func(Counterexample) bool) Result {
	group, _ := r.Estate().Find(x.Group)
	t := &trial{r: r, x: x, result: Result{Expectation: x, Group: group}, visit: visit}
	switch x.Kind {
	case Judges:
		t.judges()
	case Reaches, NeverReaches, Invites:
		t.reaches()
	case SendsAs, SendsOnly:
		t.sendsAs()
	case Approves:
		t.approves()
	case ApprovesAtLeast:
		t.approvesAtLeast()
	}
	t.result.Holds = !t.broken &&
		(t.result.Picked > 0 || x.Kind == ApprovesAtLeast || x.Kind == SendsOnly && isNobody(x.Selector))
	return t.result
}

// isNobody reports whether a selector is the word nobody.
func isNobody(x selector.Expr) bool {
	a, ok := x.(*selector.Atom)
	return ok && a.Kind == selector.Nobody
}

// trial is the evaluation of one expectation.
type trial struct {
	r      *resolve.Resolver
	x      *Expectation
	result Result
	visit  func(Counterexample) bool
	broken bool
	enough bool // visit wants no more
}

func (t *trial) breaks(c Counterexample) {
	t.broken = true
	if !t.enough {
		t.enough = !t.visit(c)
	}
}

// stranger is one of those who stand for everyone the estate does not know.
type stranger struct {
	name   string
	sender resolve.Sender
	forged bool
}

func (t *trial) strangers() []stranger {
	s := t.r.Strangers()
	return []stranger{{"outside", s.Outside, false}, {"inside", s.Inside, false}, {"forged", s.Inside, true}}
}

// messages returns the default message and those with each combination of the
// message atoms that the selector names.
func (t *trial) messages() []resolve.Message {
	list := []resolve.Message{{}}
	var sizes []int64
	vary := func(set func(*resolve.Message)) {
		for _, m := range slices.Clone(list) {
			if set(&m); !slices.Contains(list, m) {
				list = append(list, m)
			}
		}
	}
	selector.Atoms(t.x.Selector, func(a *selector.Atom) {
		switch a.Kind {
		case selector.Unproven:
			vary(func(m *resolve.Message) { m.Unproven = true })
		case selector.Suspect:
			vary(func(m *resolve.Message) { m.Suspect = true })
		case selector.Automatic:
			vary(func(m *resolve.Message) { m.Automatic = true })
		case selector.Invitation:
			vary(func(m *resolve.Message) { m.Invitation = true })
		case selector.Larger:
			sizes = append(sizes, a.Size+1)
		}
	})
	slices.Sort(sizes)
	sizes = slices.Compact(sizes)
	for _, m := range slices.Clone(list) {
		for _, size := range sizes {
			m.Size = size
			list = append(list, m)
		}
	}
	return list
}

// eachPicked calls visit with every person and stranger that the selector picks
// with a message.
func (t *trial) eachPicked(m resolve.Message, visit func(s resolve.Sender, stranger string)) {
	e := t.r.Estate()
	set := t.r.Set(t.result.Group, t.x.Selector, m)
	for _, id := range e.PeopleByAddress() {
		if t.enough {
			return
		}
		if set.Contains(uint32(id)) {
			visit(t.r.Sender(e.Address(id)), "")
		}
	}
	for _, s := range t.strangers() {
		if s.forged == m.Unproven && t.r.Eval(t.result.Group, t.x.Selector, s.sender, m) {
			visit(s.sender, s.name)
		}
	}
}

// A Try is a message that an expectation speaks of.
type Try struct {
	From     resolve.Sender
	Stranger string // outside, inside or forged, for a stranger
	Message  resolve.Message
}

// Tries returns the messages to its group that an expectation speaks of: those of
// everyone that it picks, or the one that it names. There are none where it is
// about no message.
func Tries(r *resolve.Resolver, x *Expectation) []Try {
	group, _ := r.Estate().Find(x.Group)
	t := &trial{r: r, x: x, result: Result{Expectation: x, Group: group}}
	var list []Try
	switch {
	case x.Kind == Judges:
		for _, m := range t.messages() {
			t.eachPicked(m, func(s resolve.Sender, stranger string) { list = append(list, Try{s, stranger, m}) })
		}
	case (x.Kind == Reaches || x.Kind == NeverReaches || x.Kind == Invites) && x.From.IsValid():
		list = append(list, Try{From: r.Sender(x.From), Message: x.Message()})
	}
	return list
}

// judges asks the gate about everybody at once.
func (t *trial) judges() {
	e, group := t.r.Estate(), t.result.Group
	for _, m := range t.messages() {
		people := roaring.New()
		people.AddRange(uint64(e.Groups()), uint64(e.Groups()+e.People()))
		people.And(t.r.Set(group, t.x.Selector, m))
		t.result.Picked += int(people.GetCardinality())
		if t.judgesOtherwise(people, m); t.enough {
			return
		}
		for _, s := range t.strangers() {
			if s.forged != m.Unproven || !t.r.Eval(group, t.x.Selector, s.sender, m) {
				continue
			}
			t.result.Picked++
			if d := t.r.Gate(group).Post(s.sender, m); d.Verdict != t.x.Verdict {
				t.breaks(Counterexample{From: s.sender.Address, Stranger: s.name, Message: m, Decision: d})
			}
		}
	}
}

// judgesOtherwise notes those of some people that the gate treats differently from what is stated,
// and what decides.
func (t *trial) judgesOtherwise(people *roaring.Bitmap, m resolve.Message) {
	e := t.r.Estate()
	classes := t.r.Gate(t.result.Group).Posters(m)
	var others []int32 // by person index: 1 + the class that they are in; nil: nobody is in any
	for i, class := range classes {
		if class.Verdict == t.x.Verdict || !class.Senders.Intersects(people) {
			continue
		}
		if others == nil {
			others = make([]int32, e.People())
		}
		for it := roaring.And(class.Senders, people).Iterator(); it.HasNext(); {
			others[e.PersonIndex(estate.ID(it.Next()))] = int32(i + 1)
		}
	}
	if others == nil {
		return
	}
	for _, id := range e.PeopleByAddress() {
		if class := others[e.PersonIndex(id)]; class > 0 && !t.enough {
			t.breaks(Counterexample{From: e.Address(id), Message: m, Decision: classes[class-1].Decision})
		}
	}
}

// Message returns the message that a statement about who gets it is about.
func (x *Expectation) Message() resolve.Message {
	return resolve.Message{Invitation: x.Kind == Invites}
}

func (t *trial) reaches() {
	var decision resolve.Decision
	outcomes := map[estate.ID]resolve.Outcome{}
	if t.x.From.IsValid() {
		to := t.r.Estate().Address(t.result.Group)
		fate := message.Of(t.r, message.Envelope{From: t.x.From, To: to, Message: t.x.Message()})
		decision, outcomes = fate.Gate, fate.Outcomes()
	} else {
		for _, recipient := range t.r.Deliver(resolve.Query{Group: t.result.Group, Message: t.x.Message()}).Recipients() {
			outcomes[recipient.ID] = recipient.Outcome
		}
	}
	t.eachPicked(resolve.Message{}, func(s resolve.Sender, stranger string) {
		if stranger != "" && t.x.Kind != NeverReaches {
			return // it is about the people of the estate
		}
		t.result.Picked++
		outcome, gets := outcomes[s.ID]
		delivered := gets && (outcome == resolve.Inbox || outcome == resolve.Digest)
		if t.x.Kind != NeverReaches && (!gets || outcome != t.x.Outcome) || t.x.Kind == NeverReaches && delivered {
			t.breaks(
				Counterexample{From: s.Address, Stranger: stranger, Outcome: outcome, Gets: gets, Decision: decision},
			)
		}
	})
}

func (t *trial) sendsAs() {
	picked := map[string]bool{}
	t.eachPicked(resolve.Message{}, func(s resolve.Sender, stranger string) {
		t.result.Picked++
		picked[s.Address.Key()] = true
		if sendAs, rule := t.r.Rights(t.result.Group).SendAs(s); t.x.Kind == SendsAs && sendAs != t.x.SendAs {
			t.breaks(Counterexample{From: s.Address, Stranger: stranger, SendAs: sendAs, Rule: rule})
		}
	})
	if t.x.Kind == SendsAs {
		return
	}
	e := t.r.Estate()
	for _, delegate := range t.r.Rights(t.result.Group).Delegates().People {
		if a := e.Address(delegate.ID); !picked[a.Key()] {
			t.breaks(Counterexample{From: a, SendAs: delegate.SendAs, Rule: delegate.Rule})
		}
	}
	for _, s := range t.strangers() {
		if sendAs, rule := t.r.Rights(t.result.Group).SendAs(s.sender); !s.forged && sendAs != estate.NoSendAs &&
			!picked[s.sender.Address.Key()] {
			t.breaks(Counterexample{From: s.sender.Address, Stranger: s.name, SendAs: sendAs, Rule: rule})
		}
	}
}

func (t *trial) approves() {
	approvers, _ := t.r.Approvers(t.result.Group)
	t.eachPicked(resolve.Message{}, func(s resolve.Sender, stranger string) {
		t.result.Picked++
		if !slices.Contains(approvers, s.ID) {
			t.breaks(Counterexample{From: s.Address, Stranger: stranger})
		}
	})
}

func (t *trial) approvesAtLeast() {
	approvers, _ := t.r.Approvers(t.result.Group)
	working := 0
	for _, id := range approvers {
		if t.r.Estate().Person(id).Mailbox == estate.MailboxOpen {
			working++
		}
	}
	if working < t.x.Number {
		t.breaks(Counterexample{Number: working})
	}
}
