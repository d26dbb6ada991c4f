package estate

import (
	"strings"

	"yorvet.example/yorvet/internal/core/address"
)

// index finds people and groups by address.
type index struct {
	ids        *directory        // by canonical key, of groups and added people
	implied    *directory        // likewise, of people that only a group lists
	canonical  map[string]string // by estate domain: the domain that it means
	subaddress string
	numbers    map[string]uint32 // of the domains in use, for Estate.domain
}

// key returns the canonical form of a, with a domain that means another one
// replaced by that one.
func (x *index) key(a address.Address) string {
	if to, ok := x.canonical[a.Domain()]; ok && to != a.Domain() {
		return a.WithDomain(to)
	}
	return a.Key()
}

// exact returns the person or group with a key.
func (x *index) exact(key string) (ID, bool) {
	id, ok := x.ids.get(key)
	if !ok {
		id, ok = x.implied.get(key)
	}
	return id, ok
}

// find returns the person or group with that address: the exact one, or else
// the one with the address as it is without its subaddress (RFC 5233).
func (x *index) find(a address.Address) (ID, bool) {
	if id, ok := x.exact(x.key(a)); ok {
		return id, true
	}
	if x.subaddress == "" {
		return None, false
	}
	if bare, ok := a.WithoutSubaddress(x.subaddress); ok {
		if id, ok := x.exact(x.key(bare)); ok {
			return id, true
		}
	}
	return None, false
}

// number returns the number of a domain, a new one if need be.
func (x *index) number(domain string) uint32 {
	n, ok := x.numbers[domain]
	if !ok {
		n = uint32(len(x.numbers))
		x.numbers[strings.Clone(domain)] = n
	}
	return n
}

// Find returns the ID of the person or group that has the address a, by
// subaddress if need be, and whether there is one.
func (e *Estate) Find(a address.Address) (ID, bool) { return e.index.find(a) }

// Exact is Find without subaddresses.
func (e *Estate) Exact(a address.Address) (ID, bool) { return e.index.exact(e.index.key(a)) }

// Key returns the canonical form of a in this estate: addresses with the same
// key are the same mailbox.
func (e *Estate) Key(a address.Address) string { return e.index.key(a) }

// Domain returns the domain that a domain in A-labels means: itself, unless the
// estate says that it is the same as another.
func (e *Estate) Domain(domain string) string {
	if to, ok := e.index.canonical[domain]; ok {
		return to
	}
	return domain
}

// InsideDomain reports whether a domain in A-labels is one of the estate's.
func (e *Estate) InsideDomain(domain string) bool {
	_, ok := e.index.canonical[domain]
	return ok
}

// Addresses calls yield with all addresses of all groups, then of all people,
// as written.
func (e *Estate) Addresses(yield func(string) bool) {
	for id := range ID(e.count) {
		if main, also := e.groupNames(id); !yieldAddresses(main, also, yield) {
			return
		}
	}
	for i := range e.people {
		if !yieldAddresses(e.people[i].Address, e.people[i].Also, yield) {
			return
		}
	}
}

func yieldAddresses(main address.Address, also []address.Address, yield func(string) bool) bool {
	if !yield(main.String()) {
		return false
	}
	for _, a := range also {
		if !yield(a.String()) {
			return false
		}
	}
	return true
}
