package estate

import "slices"

// An Edit is a change of an estate, tried out in thought: With makes another
// estate of it, that shares with the first whatever is the same.
type Edit struct {
	// Group is what Change and Entries are about.
	Group  ID
	Change func(*Group)          // changes a copy of the group
	Rows   func([]Entry) []Entry // changes a copy of its named memberships
	Rules  func([]MemberRule) []MemberRule

	// Person is whose mailbox becomes Mailbox, where SetMailbox is set.
	Person     ID
	SetMailbox bool
	Mailbox    MailboxState

	// NestedGates turns round whether nested groups ask their own gate again.
	NestedGates bool
}

// With returns the estate with edits. Addresses stay whose they are.
func (e *Estate) With(edits ...Edit) *Estate {
	changed := *e
	for _, edit := range edits {
		if edit.NestedGates {
			changed.settings.OpenNestedGates = !changed.settings.OpenNestedGates
		}
		if edit.SetMailbox {
			changed.people = slices.Clone(changed.people)
			changed.people[changed.PersonIndex(edit.Person)].Mailbox = edit.Mailbox
		}
		if edit.Change != nil {
			changed.groups = slices.Clone(changed.groups)
			edit.Change(&changed.groups[edit.Group])
		}
		if edit.Rules != nil {
			changed.rules = slices.Clone(changed.rules)
			changed.rules[edit.Group] = edit.Rules(slices.Clone(changed.rules[edit.Group]))
		}
		if edit.Rows != nil {
			changed.replaceEntries(edit.Group, edit.Rows(slices.Clone(changed.Entries(edit.Group))))
		}
	}
	return &changed
}

// replaceEntries lays the entries of one group anew, and what hangs on them.
func (e *Estate) replaceEntries(group ID, entries []Entry) {
	from, to := e.entryStart[group], e.entryStart[group+1]
	e.entries = slices.Concat(e.entries[:from], entries, e.entries[to:])
	shift := uint32(len(entries)) - (to - from)
	e.entryStart = slices.Clone(e.entryStart)
	for g := int(group) + 1; g < len(e.entryStart); g++ {
		e.entryStart[g] += shift
	}
	e.children, e.parents = e.nest()
}

// NewEntry returns a named membership.
func NewEntry(member ID, m Membership, place Place) Entry {
	return Entry{member, pack(m.Copy, m.Invitations, m.Paused, m.Since), place}
}

// Membership returns what an entry says besides its member.
func (e Entry) Membership() Membership {
	return Membership{e.Copy(), e.Invitations(), e.Paused(), e.Since()}
}
