// Package resolve answers what happens to a message: what a gate says, which
// nested groups it reaches, and what each person gets of it.
//
// All rules are those of docs/evaluation.md. Answers are data: numbers of
// people, groups and rules, and the places of what decided; words are made of
// them elsewhere.
package resolve

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Message is what a gate can know of a message apart from its sender. The zero
// Message is the default one: a proven, unsuspicious, small post by a person.
type Message struct {
	Unproven   bool // nothing shows that it is from the address it claims
	Suspect    bool
	Automatic  bool // RFC 3834
	Invitation bool // RFC 5546, METHOD:REQUEST
	Size       int64
}

// A Sender is the author that a message claims to have.
type Sender struct {
	Address address.Address
	ID      estate.ID // the person or group with that address, or None
	Inside  bool      // whether the address is in a domain of the estate

	key    string // canonical in the estate
	domain string // likewise
}

// Sender returns the sender that claims the address a.
func (r *Resolver) Sender(a address.Address) Sender {
	id, _ := r.e.Find(a)
	return Sender{
		Address: a,
		ID:      id,
		Inside:  r.e.InsideDomain(a.Domain()),
		key:     r.e.Key(a),
		domain:  r.e.Domain(a.Domain()),
	}
}

// Strangers stand for everyone the estate does not know.
type Strangers struct {
	Outside Sender // at a domain that nothing in the estate names
	Inside  Sender // in the first domain of the estate
}

// Strangers returns the strangers of the estate.
func (r *Resolver) Strangers() Strangers {
	if r.strangers == nil {
		r.strangers = &Strangers{
			Outside: r.Sender(r.findOutsideStranger()),
			Inside:  r.Sender(r.findInsideStranger()),
		}
	}
	return *r.strangers
}

func (r *Resolver) findInsideStranger() address.Address {
	domain := r.e.Settings().Domains[0].Name
	for n := 1; ; n++ {
		a := address.MustParse("no-such-stranger" + suffix(n) + "@" + domain)
		if _, taken := r.e.Find(a); !taken {
			return a
		}
	}
}

func (r *Resolver) findOutsideStranger() address.Address {
	exact, above := r.namedDomains()
	free := func(domain string) bool {
		if exact[domain] {
			return false
		}
		for _, parent := range above {
			if strings.HasSuffix(domain, "."+parent) {
				return false
			}
		}
		return true
	}
	for _, top := range []string{".example", ".invalid", ".test"} {
		for n := 1; n <= len(exact)+1; n++ {
			if domain := "outside" + suffix(n) + top; free(domain) {
				return address.MustParse("no-such-stranger@" + domain)
			}
		}
	}
	// All three reserved names are named as a whole. Any other will do.
	for n := 1; ; n++ {
		if domain := "outside.stranger-" + strconv.Itoa(n); free(domain) {
			return address.MustParse("no-such-stranger@" + domain)
		}
	}
}

func suffix(n int) string {
	if n == 1 {
		return ""
	}
	return "-" + strconv.Itoa(n)
}

// namedDomains returns the domains that the estate names in addresses and
// selectors, and those that it names everything below of.
func (r *Resolver) namedDomains() (exact map[string]bool, above []string) {
	exact = map[string]bool{}
	name := func(a address.Address) { exact[a.Domain()] = true }
	for domain := range r.e.DomainNames() {
		exact[domain] = true
	}
	visit := func(a *selector.Atom) {
		switch a.Kind {
		case selector.Is, selector.In:
			name(a.Address)
		case selector.At:
			exact[a.Domain] = true
		case selector.Below:
			if !exact["*."+a.Domain] {
				exact["*."+a.Domain] = true
				above = append(above, a.Domain)
			}
		}
	}
	for id := range estate.ID(r.e.Groups()) {
		g := r.e.Group(id)
		for _, a := range g.Also {
			name(a)
		}
		for _, rule := range g.AllSelectors {
			selector.Atoms(rule.Selector, visit)
		}
	}
	for i := range r.e.People() {
		for _, a := range r.e.Person(r.e.PersonID(i)).Also {
			name(a)
		}
	}
	return exact, above
}
