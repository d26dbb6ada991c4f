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

// A Speaker is a person with a voice in a group.
type Speaker struct {
	ID    estate.ID
	Voice estate.Voice
	Rule  int // that gives the voice, from 1
	Proof Proof
	// Receipt is what becomes of the ownership code for this person, where it is
	// mailed and let in; nil if they get nothing of it.
	Receipt *Recipient
}

// Speakers are those who may write in a group's name.
type Speakers struct {
	Group  estate.ID
	People []Speaker // sorted by address without case

	// Code is what the gate says to the ownership code, and Delivery what becomes
	// of it, where the group asks for one and the estate has a code-sender.
	Code     *Decision
	Delivery *Delivery
}

// Voice returns the voice that a proven sender has in a group, and the rule
// that gives it, from 1; 0 where none does.
func (r *Resolver) Voice(group estate.ID, s Sender) (estate.Voice, int) {
	for i, rule := range r.e.Group(group).Voice {
		if r.Eval(group, rule.Selector, s, Message{}) {
			return rule.Voice, i + 1
		}
	}
	return estate.NoVoice, 0
}

// Proof returns whether a person can show that a group's name is theirs to use. Who
// is no person of the estate, or has no voice, cannot.
func (r *Resolver) Proof(group, person estate.ID) Proof {
	if r.e.Group(group).VoiceProof == estate.ProofNone {
		return ProofNotNeeded
	}
	for _, speaker := range r.Speakers(group).People {
		if speaker.ID == person {
			return speaker.Proof
		}
	}
	return ProofImpossible
}

// VoiceClasses returns, for each voice rule of a group from 1, the people and
// groups for whom it decides, and at 0 those that have no voice.
func (r *Resolver) VoiceClasses(group estate.ID) []*roaring.Bitmap {
	rest := r.everyone()
	classes := []*roaring.Bitmap{nil}
	for _, rule := range r.e.Group(group).Voice {
		class := roaring.And(rest, r.Set(group, rule.Selector, Message{}))
		classes = append(classes, class)
		rest.AndNot(class)
	}
	classes[0] = rest
	return classes
}

// Speakers returns the people who have a voice in a group, and whether the
// ownership code reaches them.
func (r *Resolver) Speakers(group estate.ID) *Speakers {
	g := r.e.Group(group)
	speakers := &Speakers{Group: group}
	rules := make([]int, r.e.People())
	for rule, class := range r.VoiceClasses(group) {
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
	if g.VoiceProof == estate.ProofMailedCode {
		speakers.Code, speakers.Delivery = r.mailCode(group)
	}
	if speakers.Delivery != nil {
		for i := range speakers.Delivery.Recipients {
			receipts[speakers.Delivery.Recipients[i].ID] = &speakers.Delivery.Recipients[i]
		}
	}
	for _, id := range r.e.PeopleByAddress() {
		rule := rules[r.e.PersonIndex(id)]
		if rule == 0 {
			continue
		}
		s := Speaker{ID: id, Voice: g.Voice[rule-1].Voice, Rule: rule, Receipt: receipts[id]}
		if g.VoiceProof == estate.ProofMailedCode {
			s.Proof = ProofImpossible
			admitted := speakers.Code != nil && speakers.Code.Verdict == estate.Admit
			if admitted && s.Receipt != nil && (s.Receipt.Outcome == Inbox || s.Receipt.Outcome == Archive) {
				s.Proof = ProofPossible
			}
		}
		speakers.People = append(speakers.People, s)
	}
	return speakers
}

// mailCode returns what becomes of an ownership code that is mailed to a group:
// an automatic, proven message. Both are nil where the estate has no code-sender.
func (r *Resolver) mailCode(group estate.ID) (*Decision, *Delivery) {
	if !r.e.Settings().CodeSender.IsValid() {
		return nil, nil
	}
	sender := r.Sender(r.e.Settings().CodeSender)
	code := Message{Automatic: true}
	decision := r.Judge(group, sender, code)
	return &decision, r.Deliver(group, &sender, code)
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
