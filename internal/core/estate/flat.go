package estate

import (
	"unsafe"

	"yorvet.example/yorvet/internal/core/address"
)

// A flatText is a text in the texts of a compiled estate.
type flatText struct {
	at, size uint32
}

// A flatAddress is an address as a compiled estate holds it.
type flatAddress struct {
	text, key flatText
	sign      uint32 // the offset of the @ in the key
}

// A flatPerson is a person as a compiled estate holds them, but for the addresses apart from the
// main one.
type flatPerson struct {
	address flatAddress
	name    flatText
	place   Place
	flags   uint32 // mailbox | impliedFlag | insideFlag
}

const (
	impliedFlag = 1 << 8
	insideFlag  = 1 << 9
)

// flatTexts collects texts, or gives them back.
type flatTexts struct{ data []byte }

func (t *flatTexts) add(s string) flatText {
	t.data = append(t.data, s...)
	return flatText{uint32(len(t.data) - len(s)), uint32(len(s))}
}

// get returns a text, which shares the memory of all texts, and whether it is one of them.
func (t *flatTexts) get(f flatText) (string, bool) {
	end := uint64(f.at) + uint64(f.size)
	if f.size == 0 || end > uint64(len(t.data)) {
		return "", f.size == 0
	}
	return unsafe.String(&t.data[f.at], f.size), true
}

func (t *flatTexts) addAddress(a address.Address) flatAddress {
	f := flatAddress{text: t.add(a.String()), sign: uint32(a.At())}
	if f.key = f.text; a.Key() != a.String() {
		f.key = t.add(a.Key())
	}
	return f
}

func (t *flatTexts) getAddress(f flatAddress) (address.Address, bool) {
	text, ok := t.get(f.text)
	key, okKey := text, true
	if f.key != f.text {
		key, okKey = t.get(f.key)
	}
	a, okAt := address.Restore(text, key, int(f.sign))
	return a, ok && okKey && okAt
}

// flatten returns the people of an estate, but for the addresses apart from the main ones.
func (t *flatTexts) flatten(e *Estate) []flatPerson {
	list := make([]flatPerson, len(e.people))
	for i := range e.people {
		p := &e.people[i]
		f := flatPerson{address: t.addAddress(p.Address), name: t.add(p.Name), place: p.Place, flags: uint32(p.Mailbox)}
		if p.Implied {
			f.flags |= impliedFlag
		}
		if e.inside[i] {
			f.flags |= insideFlag
		}
		list[i] = f
	}
	return list
}

// raise sets the people of an estate, and reports whether they can be such.
func (t *flatTexts) raise(list []flatPerson, e *Estate) bool {
	e.people, e.inside = make([]Person, len(list)), make([]bool, len(list))
	whole := true
	for i := range list {
		f, p := &list[i], &e.people[i]
		var okAddress, okName bool
		p.Address, okAddress = t.getAddress(f.address)
		p.Name, okName = t.get(f.name)
		p.Place, p.Mailbox, p.Implied = f.place, MailboxState(f.flags&0xff), f.flags&impliedFlag != 0
		e.inside[i] = f.flags&insideFlag != 0
		whole = whole && okAddress && okName
	}
	return whole
}

// A flatNesting is a Nesting as a compiled estate holds it.
type flatNesting struct {
	group  ID
	passes uint32 // 1 or 0
	place  Place
}

func flatNestings(list []Nesting) []flatNesting {
	flat := make([]flatNesting, len(list))
	for i, n := range list {
		flat[i] = flatNesting{group: n.Group, place: n.Place}
		if n.Passes {
			flat[i].passes = 1
		}
	}
	return flat
}

func raisedNestings(flat []flatNesting) []Nesting {
	list := make([]Nesting, len(flat))
	for i, n := range flat {
		list[i] = Nesting{n.group, n.passes != 0, n.place}
	}
	return list
}
