package resolve

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// A Proof says whether somebody can prove that a group's name is theirs to use.
type Proof uint8

// The proofs.
const (
	ProofNotNeeded Proof = iota
	ProofPossible
	ProofImpossible
)

// proofWords are the words, in the order of the constants.
var proofWords = []string{"not-needed", "possible", "impossible"}

func (p Proof) String() string { return proofWords[p] }

// A Delegate is a person who may send as a group.
type Delegate struct {
	ID     estate.ID
	SendAs estate.SendAs
	Rule   int // that gives the right, from 1
	Proof  Proof
	// Receipt is what becomes of the ownership code for this person, where it is
	// mailed and let in; nil if they get nothing of it.
	Receipt *Recipient
}

// Delegates are those who may write in a group's name.
type Delegates struct {
	Group  estate.ID
	People []Delegate // sorted by address without case

	// Code is what the gate says to the ownership code, and Delivery what becomes
	// of it, where the group asks for one and the estate has a code-sender.
	Code     *Decision
	Delivery *Delivery
}

// SendAs returns the right to send as a group that a proven sender has, and the rule
// that gives it, from 1; 0 where none does.
func (r *Resolver) SendAs(group estate.ID, s Sender) (estate.SendAs, int) {
	for i, rule := range r.e.Group(group).SendAs {
		if r.Eval(group, rule.Selector, s, Message{}) {
			return rule.SendAs, i + 1
		}
	}
	return estate.NoSendAs, 0
}

// Proof returns whether a person can show that a group's name is theirs to use. Who
// is no person of the estate, or may not send as it, cannot.
func (r *Resolver) Proof(group, person estate.ID) Proof {
	if r.e.Group(group).SendAsProof == estate.ProofNone {
		return ProofNotNeeded
	}
	for _, delegate := range r.Delegates(group).People {
		if delegate.ID == person {
			return delegate.Proof
		}
	}
	return ProofImpossible
}

// SendAsClasses returns, for each send-as rule of a group from 1, the people and
// groups that it decides about, and at 0 those that may not.
func (r *Resolver) SendAsClasses(group estate.ID) []*roaring.Bitmap {
	rest := r.everyone()
	classes := []*roaring.Bitmap{nil}
	for _, rule := range r.e.Group(group).SendAs {
		class := roaring.And(rest, r.Set(group, rule.Selector, Message{}))
		classes = append(classes, class)
		rest.AndNot(class)
	}
	classes[0] = rest
	return classes
}

// Delegates returns the people who may send as a group, and whether the
// ownership code reaches them.
func (r *Resolver) Delegates(group estate.ID) *Delegates {
	g := r.e.Group(group)
	delegates := &Delegates{Group: group}
	rules := make([]int, r.e.People())
	for rule, class := range r.SendAsClasses(group) {
		if rule == 0 {
			continue
		}
		for it := class.Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); r.e.IsPerson(id) {
				rules[r.e.PersonIndex(id)] = rule
			}
		}
	}
	receipts := map[estate.ID]*Recipient{}
	if g.SendAsProof == estate.ProofMailedCode {
		delegates.Code, delegates.Delivery = r.mailCode(group)
	}
	if delegates.Delivery != nil {
		for i := range delegates.Delivery.Recipients {
			receipts[delegates.Delivery.Recipients[i].ID] = &delegates.Delivery.Recipients[i]
		}
	}
	for _, id := range r.e.PeopleByAddress() {
		rule := rules[r.e.PersonIndex(id)]
		if rule == 0 {
			continue
		}
		s := Delegate{ID: id, SendAs: g.SendAs[rule-1].SendAs, Rule: rule, Receipt: receipts[id]}
		if g.SendAsProof == estate.ProofMailedCode {
			s.Proof = ProofImpossible
			admitted := delegates.Code != nil && delegates.Code.Verdict == estate.Admit
			if admitted && s.Receipt != nil && (s.Receipt.Outcome == Inbox || s.Receipt.Outcome == Archive) {
				s.Proof = ProofPossible
			}
		}
		delegates.People = append(delegates.People, s)
	}
	return delegates
}

// mailCode returns what becomes of an ownership code that is mailed to a group:
// an automatic, proven message. Both are nil where the estate has no code-sender.
func (r *Resolver) mailCode(group estate.ID) (*Decision, *Delivery) {
	if !r.e.Settings().CodeSender.IsValid() {
		return nil, nil
	}
	sender := r.Sender(r.e.Settings().CodeSender)
	code := Message{Automatic: true}
	decision := r.Post(group, sender, code)
	return &decision, r.Deliver(Query{Group: group, Sender: &sender, Message: code})
}

// May returns the people who are allowed an action with a group, and whether
// the strangers are.
func (r *Resolver) May(group estate.ID, action estate.Action) (people *roaring.Bitmap, outside, inside bool) {
	if action == estate.Read && !r.e.Group(group).Kind.Keeps() {
		return roaring.New(), false, false
	}
	x := r.e.Group(group).Access[action].Selector
	people = r.Set(group, x, Message{}).Clone()
	people.RemoveRange(0, uint64(r.e.Groups()))
	strangers := r.Strangers()
	return people, r.Eval(group, x, strangers.Outside, Message{}), r.Eval(group, x, strangers.Inside, Message{})
}
