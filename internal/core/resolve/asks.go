package resolve

import (
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Asks says what rules ask about: what has to be tried to know all that they say.
type Asks struct {
	Kinds   map[selector.Kind]bool
	Named   []address.Address // addresses that are named, and a made-up one of each domain
	Sizes   []int64           // one for each range of sizes that is judged alike, its least; 0 first
	Domains bool              // whether domains are asked about
}

// AsksOf returns what lists of rules ask about.
func (r *Resolver) AsksOf(lists ...[]estate.GateRule) Asks {
	a := Asks{Kinds: map[selector.Kind]bool{}, Sizes: []int64{0}}
	met := map[string]bool{}
	for _, rules := range lists {
		for _, rule := range rules {
			selector.Atoms(rule.Selector, func(atom *selector.Atom) { a.note(r, atom, met) })
		}
	}
	slices.Sort(a.Sizes)
	a.Sizes = slices.Compact(a.Sizes)
	return a
}

func (a *Asks) note(r *Resolver, atom *selector.Atom, met map[string]bool) {
	a.Kinds[atom.Kind] = true
	name := func(one address.Address) {
		if key := r.e.Key(one); !met[key] {
			met[key] = true
			a.Named = append(a.Named, one)
		}
	}
	switch atom.Kind {
	case selector.Is:
		name(atom.Address)
	case selector.At:
		a.Domains = true
		name(strangerAt(atom.Domain))
	case selector.Below:
		a.Domains = true
		name(strangerAt(Below + atom.Domain))
	case selector.Larger:
		a.Sizes = append(a.Sizes, atom.Size+1)
	}
}

func strangerAt(domain string) address.Address {
	a, err := address.Parse(MadeUp + "@" + domain)
	if err != nil {
		a, _ = address.Parse(MadeUp + "@outside.example")
	}
	return a
}

// Traits returns the messages that rules tell apart but by their size and by whether they
// are proven: the default one first.
func (a *Asks) Traits() []Message {
	list := []Message{{}}
	for _, one := range []struct {
		kind selector.Kind
		set  func(*Message)
	}{
		{selector.Suspect, func(m *Message) { m.Suspect = true }},
		{selector.Automatic, func(m *Message) { m.Automatic = true }},
		{selector.Invitation, func(m *Message) { m.Invitation = true }},
	} {
		if a.Kinds[one.kind] {
			for _, m := range slices.Clone(list) {
				one.set(&m)
				list = append(list, m)
			}
		}
	}
	return list
}

// mostMessages is how many kinds of message are tried at most.
const mostMessages = 2000

// Messages returns the messages that rules tell apart: the default one first, those that
// are not proven last.
func (a *Asks) Messages() []Message {
	var list []Message
	for _, unproven := range []bool{false, true} {
		for _, m := range a.Traits() {
			for _, size := range a.Sizes {
				m.Size, m.Unproven = size, unproven
				if list = append(list, m); len(list) == mostMessages {
					return list
				}
			}
		}
	}
	return list
}

// KnownTried reports whether people and groups of the estate write such messages: of those
// that are not proven the forged stranger is the only author, unless a rule asks about it.
func (a *Asks) KnownTried(m Message) bool { return !m.Unproven || a.Kinds[selector.Unproven] }

// FurtherAddresses returns people and groups of the estate who write from an address that
// is in another domain than their main one. They are not to be changed.
func (r *Resolver) FurtherAddresses() []Sender {
	if r.further == nil {
		r.further = []Sender{}
		add := func(main address.Address, also []address.Address) {
			for _, a := range also {
				if r.e.Domain(a.Domain()) != r.e.Domain(main.Domain()) {
					r.further = append(r.further, r.Sender(a))
				}
			}
		}
		for id := range estate.ID(r.e.Groups()) {
			g := r.e.Group(id)
			add(g.Address, g.Also)
		}
		for i := range r.e.People() {
			person := r.e.Person(r.e.PersonID(i))
			add(person.Address, person.Also)
		}
	}
	return r.further
}
