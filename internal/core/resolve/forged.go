package resolve

import (
	"slices"
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// How the senders are called that Claims makes up: by their local part, and in front of
// a domain of which those below it are meant.
const (
	MadeUp = "no-such-stranger"
	Below  = "below."
)

// Forgeable returns the people and groups that a message to a group may be forged to be from, and
// those of Claims: all inside, and those outside unless the group admits anybody outside anyhow.
// The set is not to be changed.
func (g Gate) Forgeable(m Message) (known *roaring.Bitmap, claims []Sender) {
	r := g.r
	m.Unproven = false
	if g.Post(r.Strangers().Outside, m).Verdict != estate.Admit {
		all := func(set *roaring.Bitmap) { set.AddRange(0, uint64(r.e.Groups()+r.e.People())) }
		return r.matching("all", all), g.Claims()
	}
	outside := func(s Sender) bool { return !r.e.InsideDomain(s.Address.Domain()) }
	return r.insiders(Message{}), slices.DeleteFunc(g.Claims(), outside)
}

// Claimed is what a sender claims: for one that Claims makes up, the domain as selectors
// write it.
func (s Sender) Claimed() string {
	domain, made := strings.CutPrefix(s.Address.String(), MadeUp+"@")
	if !made || s.ID != estate.None {
		return s.Address.String()
	}
	if below, ok := strings.CutPrefix(domain, Below); ok {
		return "@*." + below
	}
	return "@" + domain
}

// Claims returns those that a message to a group may claim to be from, and be judged
// differently from a main address of the estate or by a stranger's: aliases in
// another domain than the main address, where the gate or the edge asks about domains,
// and what those name and nobody has.
func (g Gate) Claims() []Sender {
	r := g.r
	var list []Sender
	met := map[string]bool{}
	add := func(a address.Address) {
		if s := r.Sender(a); !met[s.key] {
			met[s.key] = true
			list = append(list, s)
		}
	}
	byDomain := false
	for _, rule := range slices.Concat(r.e.Settings().Edge, r.e.Group(g.group).Gate) {
		selector.Atoms(rule.Selector, func(a *selector.Atom) {
			text := ""
			switch a.Kind {
			case selector.Is:
				if _, known := r.e.Find(a.Address); !known {
					add(a.Address)
				}
				return
			case selector.At:
				text = MadeUp + "@" + a.Domain
			case selector.Below:
				text = MadeUp + "@" + Below + a.Domain
			default:
				return
			}
			byDomain = true
			if made, err := address.Parse(text); err == nil {
				add(made)
			}
		})
	}
	if !byDomain {
		return list
	}
	aliases := func(main address.Address, also []address.Address) {
		for _, a := range also {
			if a.Domain() != main.Domain() {
				add(a)
			}
		}
	}
	for id := range estate.ID(r.e.Groups()) {
		aliases(r.e.Address(id), r.e.Group(id).Also)
	}
	for i := range r.e.People() {
		p := r.e.Person(r.e.PersonID(i))
		aliases(p.Address, p.Also)
	}
	return list
}

// ForgedKnown returns as how many known addresses, main ones and Claims, forged mail is admitted
// by the group.
func (g Gate) ForgedKnown() int {
	m := Message{Unproven: true}
	among, claims := g.Forgeable(m)
	known := 0
	for _, class := range g.Decided(m) {
		if class.Verdict == estate.Admit {
			known += int(class.Senders.AndCardinality(among))
		}
	}
	for _, s := range claims {
		if g.Post(s, m).Verdict == estate.Admit {
			known++
		}
	}
	return known
}
