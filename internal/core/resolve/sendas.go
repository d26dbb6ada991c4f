package resolve

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// Rights are what people may do with a group beside posting to it.
type Rights struct {
	r     *Resolver
	group estate.ID
}

// Rights returns the rights of a group.
func (r *Resolver) Rights(group estate.ID) Rights { return Rights{r, group} }

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
func (x Rights) SendAs(s Sender) (estate.SendAs, int) {
	for i, rule := range x.r.e.Group(x.group).SendAs {
		if x.r.Eval(x.group, rule.Selector, s, Message{}) {
			return rule.SendAs, i + 1
		}
	}
	return estate.NoSendAs, 0
}

// Proof returns whether a person can show that a group's name is theirs to use. Who
// is no person of the estate, or may not send as it, cannot.
func (x Rights) Proof(person estate.ID) Proof {
	if x.r.e.Group(x.group).SendAsProof == estate.ProofNone {
		return ProofNotNeeded
	}
	for _, delegate := range x.Delegates().People {
		if delegate.ID == person {
			return delegate.Proof
		}
	}
	return ProofImpossible
}

// Classes returns, for each send-as rule of a group from 1, the people and
// groups that it decides about, and at 0 those that may not.
func (x Rights) Classes() []*roaring.Bitmap {
	rest := x.r.everyone()
	classes := []*roaring.Bitmap{nil}
	for _, rule := range x.r.e.Group(x.group).SendAs {
		class := roaring.And(rest, x.r.Set(x.group, rule.Selector, Message{}))
		classes = append(classes, class)
		rest.AndNot(class)
	}
	classes[0] = rest
	return classes
}

// Delegates returns the people who may send as a x.group, and whether the
// ownership code reaches them.
func (x Rights) Delegates() *Delegates {
	g := x.r.e.Group(x.group)
	delegates := &Delegates{Group: x.group}
	rules := make([]int, x.r.e.People())
	for rule, class := range x.Classes() {
		if rule == 0 {
			continue
		}
		for it := class.Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); x.r.e.IsPerson(id) {
				rules[x.r.e.PersonIndex(id)] = rule
			}
		}
	}
	receipts := map[estate.ID]*Recipient{}
	if g.SendAsProof == estate.ProofMailedCode {
		delegates.Code, delegates.Delivery = x.mailCode()
	}
	if delegates.Delivery != nil {
		for i := range delegates.Delivery.Recipients() {
			receipts[delegates.Delivery.Recipients()[i].ID] = &delegates.Delivery.Recipients()[i]
		}
	}
	for _, id := range x.r.e.PeopleByAddress() {
		rule := rules[x.r.e.PersonIndex(id)]
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
func (x Rights) mailCode() (*Decision, *Delivery) {
	if !x.r.e.Settings().CodeSender.IsValid() {
		return nil, nil
	}
	sender := x.r.Sender(x.r.e.Settings().CodeSender)
	code := Message{Automatic: true}
	decision := x.r.Gate(x.group).Post(sender, code)
	return &decision, x.r.Deliver(Query{Group: x.group, Sender: &sender, Message: code})
}

// May returns the people who are allowed an action with a x.group, and whether
// the strangers are.
func (x Rights) May(action estate.Action) (people *roaring.Bitmap, outside, inside bool) {
	if action == estate.Read && !x.r.e.Group(x.group).Kind.Keeps() {
		return roaring.New(), false, false
	}
	who := x.r.e.Group(x.group).Access[action].Selector
	people = x.r.Set(x.group, who, Message{}).Clone()
	people.RemoveRange(0, uint64(x.r.e.Groups()))
	strangers := x.r.Strangers()
	return people, x.r.Eval(x.group, who, strangers.Outside, Message{}), x.r.Eval(x.group, who, strangers.Inside, Message{})
}
