// Package change has the changes of an estate, as values: they can be compared, told,
// tried out in memory (Apply) and written into files (by package estatefile).
//
// A change speaks of one estate, as it is before: of its people and groups by their
// IDs, and of newcomers by address. Several changes that are made at once all speak of
// the same estate.
package change

import (
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Change is one thing that becomes different: one of the types of this package.
type Change interface {
	// apply makes the change.
	apply(*work) error
	// key adds what Key returns.
	key(*key)
	// About says what the change is about, in the estate before.
	About(*estate.Estate) Subject
}

// A Subject is what a change is about.
type Subject struct {
	Group   estate.ID // or None
	Person  estate.ID // a person, or a nested group as a member; or None
	Setting string    // a setting of the group, members, or another name of what is set
}

// A SetSetting is a group that says something else, or nothing. The addresses of a
// group are for RenameGroup and SetList.
type SetSetting struct {
	Group   estate.ID
	Setting string   // as in estate.GroupSettings
	Texts   []string // nil: the default holds again. What is no list has one
}

// A SetList takes items out of a list that a group says, and adds others behind what
// is left: addresses of the group or of others, or rules.
type SetList struct {
	Group     estate.ID
	Setting   string
	Drop, Add []string
}

// An InsertRule is one more rule of a group's gate or send-as, at a place among them:
// 0 is before all.
type InsertRule struct {
	Group   estate.ID
	Setting string
	At      int
	Text    string
}

// A SetRule is a rule that says something else.
type SetRule struct {
	Group   estate.ID
	Setting string
	At      int // from 0
	Text    string
}

// A RemoveRule is a rule that goes.
type RemoveRule struct {
	Group   estate.ID
	Setting string
	At      int // from 0
}

// A Member is a membership to come: of an address, or of all that a rule picks.
type Member struct {
	Address address.Address // not valid for a rule
	Filter  selector.Filter // of a rule; nil is everyone
	JustNow bool            // Since was not asked for, but is the day of the change
	estate.Membership
}

// IsRule reports whether a member is a rule.
func (m *Member) IsRule() bool { return !m.Address.IsValid() }

// An AddMember is one more membership of a group, behind those it has.
type AddMember struct {
	Group  estate.ID
	Member Member
}

// A SetMember is a membership that says something else.
type SetMember struct {
	Group estate.ID
	Entry int // index into Entries of the group
	estate.Membership
}

// A RemoveMember is a membership that goes.
type RemoveMember struct {
	Group estate.ID
	Entry int // index into Entries of the group
}

// A SetMemberRule is a rule among the members of a group that says something else.
type SetMemberRule struct {
	Group  estate.ID
	Rule   int             // index into Rules of the group
	Filter selector.Filter // nil is everyone
	estate.Membership
}

// A RemoveMemberRule is a rule among the members of a group that goes.
type RemoveMemberRule struct {
	Group estate.ID
	Rule  int // index into Rules of the group
}

// A Said is a setting and what it says, each item of a list for itself.
type Said struct {
	Setting string
	Texts   []string
}

// An AddGroup is a new group.
type AddGroup struct {
	Address  address.Address
	Settings []Said // in any order
	Members  []Member
	Place    estate.Place // where it comes from, if it was read
}

// A RenameGroup gives a group another main address. The old one stays as a further one
// unless it is removed. Where others list the group, it stays listed.
type RenameGroup struct {
	Group  estate.ID
	To     address.Address
	Forget bool // the old address is removed
}

// A RemoveGroup is a group that goes, with its memberships. Where others list it, it
// stays listed: see Cascade.
type RemoveGroup struct{ Group estate.ID }

// An AddPerson is a new person.
type AddPerson struct {
	estate.Person // its Place is where they come from, if they were read
	Attributes    []estate.Attribute
}

// A SetPerson sets what is said of a person, or takes it away.
type SetPerson struct {
	Person estate.ID
	Field  string // as in estate.PersonSettings
	Text   string // "" for none
}

// A SetAttribute is a person with other values of an attribute.
type SetAttribute struct {
	Person    estate.ID
	Attribute string
	Values    []string // none: it goes
}

// A SetPersonAlso is a person with other further addresses.
type SetPersonAlso struct {
	Person estate.ID
	Also   []address.Address
}

// A RenamePerson gives a person another main address. The old one is removed: what
// is to stay is for SetPersonAlso.
type RenamePerson struct {
	Person estate.ID
	To     address.Address
}

// A RemovePerson is a person who goes. Where groups list them, they stay listed: see
// Cascade.
type RemovePerson struct{ Person estate.ID }

// An Accept is a hazard that is intended, in several groups.
type Accept struct{ Acceptance estate.Acceptance }

// An AddDomain is one more domain of the estate.
type AddDomain struct{ Name string }

// A RemoveDomain is a domain less.
type RemoveDomain struct{ Name string } // in A-labels

// A SetNestedGates says whether nested groups ask their own gate again.
type SetNestedGates struct{ Open bool }
