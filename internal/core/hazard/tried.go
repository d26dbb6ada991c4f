package hazard

import (
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// Senders tried are everybody of the estate by each of their addresses, the strangers,
// and one made-up sender for every address and domain that a gate concerned names: what
// no gate concerned names is judged as a stranger is. The code-sender is left aside.

// senders are some of the senders tried: people and groups, writing from their main
// addresses, and others.
type senders struct {
	known  *roaring.Bitmap
	others []resolve.Sender
}

func (s senders) isEmpty() bool { return s.known.IsEmpty() && len(s.others) == 0 }

// nobody is the empty set. It is not to be changed.
var nobody = roaring.New()

// others returns those tried who are no main addresses of the estate, of messages that
// are proven or not: the strangers; anyone who is named; and people and groups who write
// from an alias that rules may tell from their main address.
func (p *Pass) others(a *resolve.Asks, unproven bool) []resolve.Sender {
	strangers := p.R.Strangers()
	list := []resolve.Sender{strangers.Inside}
	if unproven && !a.Kinds[selector.Unproven] {
		return list // the forged stranger
	}
	list = append(list, strangers.Outside)
	codes := p.E.Settings().CodeSender
	for _, named := range a.Named {
		if s := p.R.Sender(named); s.ID == estate.None && !(codes.IsValid() && p.E.Key(codes) == p.E.Key(named)) {
			list = append(list, s)
		}
	}
	further := p.furtherAddresses()
	if a.Domains {
		return append(list, further...)
	}
	return append(list, p.crossing...)
}

// isUsual reports whether a message is a default one by somebody who is proven.
func isUsual(m resolve.Message) bool { return m == resolve.Message{} }

// furtherAddresses returns people and groups who write from an address that is in
// another domain than their main one.
func (p *Pass) furtherAddresses() []resolve.Sender {
	further := p.R.FurtherAddresses()
	if p.crossing == nil {
		p.crossing = []resolve.Sender{}
		for _, s := range further {
			if s.Inside != p.E.InsideDomain(p.E.Address(s.ID).Domain()) {
				p.crossing = append(p.crossing, s)
			}
		}
	}
	return further
}

// isOutside reports whether a sender is somebody outside: of people the main address
// decides.
func (p *Pass) isOutside(s resolve.Sender) bool {
	if s.ID != estate.None {
		return !p.E.Inside(s.ID)
	}
	return !s.Inside
}

// letIn returns what some gates say to everybody.
func (p *Pass) letIn(gates []estate.ID, m resolve.Message) []resolve.LetIn {
	var in []resolve.LetIn
	for _, id := range gates {
		in = append(in, p.R.Gate(id).LetIn(m))
	}
	return in
}

// one returns one of some senders: a person, if there is one.
func (p *Pass) one(s senders) resolve.Sender {
	if s.known.IsEmpty() {
		return s.others[0]
	}
	return p.R.Sender(p.E.Address(p.first(s.known)))
}

// witness returns one of some senders: a person if there is one, else another, else a
// group.
func (p *Pass) witness(s senders, m resolve.Message) *Witness {
	if !s.known.IsEmpty() {
		if id := p.first(s.known); p.E.IsPerson(id) || len(s.others) == 0 {
			return &Witness{From: p.E.Address(id), Message: m}
		}
	}
	return &Witness{From: s.others[0].Address, Message: m}
}

// who names some senders of a message: people, groups and others.
func (p *Pass) who(s senders, m resolve.Message) string {
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
	strangers := p.R.Strangers()
	for i, other := range s.others[:min(len(s.others), mostNames)] {
		name := other.Address.String()
		switch {
		case other.ID == estate.None && other.Address.Local() == strangers.Outside.Address.Local() && !other.Inside:
			name = "anyone at " + other.Address.Domain()
			if below, ok := strings.CutPrefix(other.Address.Domain(), resolve.Below); ok {
				name = "anyone below " + below
			}
			if other.Address == strangers.Outside.Address {
				name = "anyone outside"
			}
		case other.Address == strangers.Inside.Address && m.Unproven:
			name = "forged unknown inside addresses"
		case other.Address == strangers.Inside.Address:
			name = "unknown inside addresses"
		}
		if text != "" && (i > 0 || len(some) > 0) {
			text += " and "
		}
		text += name
	}
	return text
}

// like says what a message is like, "" for a default one.
func like(m resolve.Message) string {
	var words []string
	for _, one := range []struct {
		is   bool
		word string
	}{
		{m.Unproven, "not authenticated"}, {m.Suspect, "suspect"}, {m.Automatic, "automatic"},
		{m.Invitation, "an invitation"}, {m.Size > 0, "large"},
	} {
		if one.is {
			words = append(words, one.word)
		}
	}
	if words == nil {
		return ""
	}
	return ", if the message is " + strings.Join(words, " and ")
}
