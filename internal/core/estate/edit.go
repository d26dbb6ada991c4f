package estate

import "slices"

// Parts are those of an estate that can be exchanged while everybody keeps their
// ID and their addresses. What is not in a map stays.
type Parts struct {
	Settings *Settings // nil: stay. Domains, Files and Subaddress have to be the same
	Groups   map[ID]Group
	People   map[ID]Person
	Entries  map[ID][]Entry // by group
	Rules    map[ID][]MemberRule
}

// With returns an estate that has other parts, and shares all the rest with this one.
func (e *Estate) With(parts Parts) *Estate {
	changed := *e
	if parts.Settings != nil {
		changed.settings = *parts.Settings
	}
	switch {
	case len(parts.Groups) == 0:
	case e.lazy != nil:
		changed.lazy = e.lazy.with(parts.Groups)
	default:
		changed.groups = slices.Clone(e.groups)
		for id, g := range parts.Groups {
			changed.groups[id] = g
		}
	}
	if len(parts.People) > 0 {
		changed.people = slices.Clone(e.people)
		for id, p := range parts.People {
			changed.people[e.PersonIndex(id)] = p
		}
	}
	if len(parts.Rules) > 0 {
		changed.rules = slices.Clone(e.rules)
		for id, rules := range parts.Rules {
			changed.rules[id] = rules
		}
	}
	for group, entries := range parts.Entries {
		changed.replaceEntries(group, entries)
	}
	if len(parts.Entries) > 0 {
		changed.children, changed.parents = changed.nest()
	}
	return &changed
}

// replaceEntries lays the entries of one group again.
func (e *Estate) replaceEntries(group ID, entries []Entry) {
	from, to := e.entryStart[group], e.entryStart[group+1]
	e.entries = slices.Concat(e.entries[:from], entries, e.entries[to:])
	shift := uint32(len(entries)) - (to - from)
	e.entryStart = slices.Clone(e.entryStart)
	for g := int(group) + 1; g < len(e.entryStart); g++ {
		e.entryStart[g] += shift
	}
}

// NewEntry returns a named membership.
func NewEntry(member ID, m Membership, place Place) Entry {
	return Entry{member, pack(m), place}
}
