// Package estate holds an organisation's mail groups in memory: domains, people,
// groups, memberships and their settings, checked and indexed.
//
// People and groups have dense numbers (ID), so that questions about all of
// them can be answered with arrays and sets of numbers. An Estate is made by a
// Builder and never changes; everything it returns is to be read only.
package estate

import (
	"iter"
	"math"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

// An ID stands for a group, a person, or an inside address that belongs to
// nobody. Groups come first, in the order of the estate, then people.
type ID uint32

const (
	// None is no ID: a stranger has it.
	None ID = math.MaxUint32
	// firstNobody is the ID of the first inside address that belongs to nobody.
	firstNobody ID = 1 << 31
)

// IsNobody reports whether id stands for an inside address that belongs to
// nobody, though a group lists it.
func (id ID) IsNobody() bool { return id >= firstNobody && id != None }

// A Place is where in the estate's files something is written. The zero Place
// is nowhere: what stands there is a default.
type Place struct {
	Line   uint32 // from 1
	Column uint16 // in characters, from 1; very long lines stop at the largest
	File   uint16 // index into Settings.Files
}

// Settings are what an estate says about itself.
type Settings struct {
	Files      []string // the files that places name
	Name       string
	Domains    []Domain
	Subaddress string // the separator (RFC 5233), or ""
	// OpenNestedGates is set where nested groups do not ask their own gate again.
	OpenNestedGates bool
	CodeSender      address.Address // not valid if there is none
	// Edge is a gate for the whole estate: its rules refuse or drop, and are asked
	// before the gate of the group that a message is sent to.
	Edge []GateRule
	// Accepted are hazards that are intended, in several groups.
	Accepted []Acceptance
}

// Position returns a place as file:line:column, or "" for nowhere.
func (s *Settings) Position(p Place) string {
	if p == (Place{}) {
		return ""
	}
	return s.Files[p.File] + ":" + strconv.Itoa(int(p.Line)) + ":" + strconv.Itoa(int(p.Column))
}

// A Domain is one that the estate calls its own.
type Domain struct {
	Name   string // as written
	SameAs string // the domain that it means, as written, or ""
	Place  Place
}

// A Person is somebody with an address.
type Person struct {
	Address address.Address // the main address
	Also    []address.Address
	Name    string
	Mailbox MailboxState
	Place   Place
	// Implied is set for an outside address that is known only because a group
	// lists it.
	Implied bool
}

// A Group is an address that stands for others.
type Group struct {
	Address     address.Address // the main address
	Also        []address.Address
	Title       string
	About       string
	Kind        Kind
	Owners      []Listed
	Moderators  []Listed
	Copy        Copy // CopyUnset: every
	Joiners     Copy // CopyUnset: Copy
	OutsideCopy Copy // CopyUnset: as for inside members
	// NoOutsideMembers is set where nobody outside should be a member. It
	// changes no delivery.
	NoOutsideMembers bool
	Invitations      Invitations
	NoWelcome        bool
	NoEcho           bool
	Gate             []GateRule   // where none is written: admit inside
	NotifySender     SelectorRule // who hears that their message is held or refused
	SendAs           []SendAsRule
	SendAsProof      Proof
	RepliesAs        Party
	RepliesTo        Party
	RepliesToAt      address.Address // where answers go in place of RepliesTo, if valid
	Access           [actions]SelectorRule
	SubjectTag       string
	Footer           string // under each copy
	AutoAnswer       string // what the outside author of an admitted post gets back (RFC 3834)
	Attributes       []Attribute
	PauseAfter       int // bounces; 0: never
	ManagedIn        string
	Place            Place
	Given            []Given // the settings that are written, for their places
	Accepted         []Acceptance
}

// A Given is the place of one setting of a group.
type Given struct {
	Setting string
	Place   Place
}

// Selectors calls yield with the settings of a group that are one selector each, by their names:
// notify-sender and those of access.
func (g *Group) Selectors(yield func(setting string, rule *SelectorRule) bool) {
	if !yield("notify-sender", &g.NotifySender) {
		return
	}
	for action := range g.Access {
		if !yield("access."+Action(action).String(), &g.Access[action]) {
			return
		}
	}
}

// AllSelectors calls yield with every selector of a group, by the names of their settings: those of rules, and those
// of Selectors.
func (g *Group) AllSelectors(yield func(setting string, rule SelectorRule) bool) {
	for _, rule := range g.Gate {
		if !yield("gate", SelectorRule{rule.Selector, rule.Text, rule.Place}) {
			return
		}
	}
	for _, rule := range g.SendAs {
		if !yield("send-as", SelectorRule{rule.Selector, rule.Text, rule.Place}) {
			return
		}
	}
	for setting, rule := range g.Selectors {
		if !yield(setting, *rule) {
			return
		}
	}
}

// Where returns the place of a setting, or the zero Place if it is a default.
func (g *Group) Where(setting string) Place {
	if name, ok := strings.CutPrefix(setting, "access."); ok {
		if action, known := WordIndex[Action](actionWords, name); known {
			return g.Access[action].Place
		}
	}
	for _, given := range g.Given {
		if given.Setting == setting {
			return given.Place
		}
	}
	return Place{}
}

// A Listed is an owner or moderator: a person, a group or nobody.
type Listed struct {
	ID    ID
	Place Place
}

// A GateRule is one rule of a gate.
type GateRule struct {
	Verdict  Verdict
	Selector selector.Expr
	Because  string // what the sender hears, or ""
	Text     string // the rule as written
	Place    Place
}

// NewGateRule returns a rule of a gate or of the edge whose head is a verdict.
func NewGateRule(rule selector.Rule, place Place) GateRule {
	verdict, _ := WordIndex[Verdict](verdictWords, rule.Head)
	return GateRule{verdict, rule.Selector, rule.Because, rule.Text, place}
}

// A SendAsRule is one rule of who may send as a group.
type SendAsRule struct {
	SendAs   SendAs
	Selector selector.Expr
	Text     string
	Place    Place
}

// A SelectorRule says who may do one of the actions with a group, or who hears of something.
type SelectorRule struct {
	Selector selector.Expr
	Text     string
	Place    Place
}

// An Entry is a membership that names its member.
type Entry struct {
	Member ID
	packed uint32 // since << sinceShift | paused | invitations | copy
	Place  Place
}

const (
	invitationsShift = 3
	pausedBit        = 1 << 5
	sinceShift       = 6
)

func pack(m Membership) uint32 {
	packed := uint32(m.Copy) | uint32(m.Invitations)<<invitationsShift | uint32(m.Since)<<sinceShift
	if m.Paused {
		packed |= pausedBit
	}
	return packed
}

// Membership returns what an entry says apart from its member.
func (e Entry) Membership() Membership {
	return Membership{e.Copy(), e.Invitations(), e.Paused(), e.Since()}
}

// Says stands for all that an entry says apart from its member: entries that say the same have the same number.
func (e Entry) Says() uint32 { return e.packed }

// Copy returns the entry's own copy, or CopyUnset.
func (e Entry) Copy() Copy { return Copy(e.packed & 7) }

// Invitations returns the entry's own invitations, or InvitationsUnset.
func (e Entry) Invitations() Invitations { return Invitations(e.packed >> invitationsShift & 3) }

// Paused reports whether the membership is paused.
func (e Entry) Paused() bool { return e.packed&pausedBit != 0 }

// Since returns the day from which the membership is, or no date.
func (e Entry) Since() Day { return Day(e.packed >> sinceShift) }

// A MemberRule is a membership that picks its members: every inside person that
// Filter matches, or every inside person where Filter is nil.
type MemberRule struct {
	Filter     selector.Filter
	Membership // of the settings that rules take
	Place      Place
}

// A Nesting is a group as a member of another.
type Nesting struct {
	Group  ID    // the nested group, or in Parents the one that it stands in
	Passes bool  // false where the entry says copy none
	Place  Place // of the entry
}

// An Estate is everything being evaluated.
type Estate struct {
	settings   Settings
	count      int         // of groups
	groups     []Group     // nil where they are lazy
	lazy       *lazyGroups // in place of groups, of a compiled estate
	people     []Person
	nobody     []Listing
	index      *index
	attributes attributes

	entryStart []uint32 // by group, into entries; one more at the end
	entries    []Entry
	rules      [][]MemberRule // by group
	children   nestings       // by group
	parents    nestings
	unknown    []Unknown

	inside    []bool   // by person: whether the main address is
	domain    []uint32 // by ID of groups and people: the domain of the main address
	byAddress []ID     // people, sorted
	rank      []uint32 // by person: place in byAddress
}

// A Listing is an inside address that belongs to nobody, and where it is first
// listed.
type Listing struct {
	Address address.Address
	Place   Place
}

// An Unknown is an inside address that belongs to nobody and is named in a
// selector, or as owner, moderator or member of Group.
type Unknown struct {
	Address address.Address
	Group   ID
	Role    string // member, owner, moderator, gate, send-as, access, replies-to or, where Group is None, edge
	Place   Place
}

// Settings returns what the estate says about itself.
func (e *Estate) Settings() *Settings { return &e.settings }

// Groups returns the number of groups. Their IDs are 0 up to that number.
func (e *Estate) Groups() int { return e.count }

// People returns the number of people. Their IDs are those after the groups'.
func (e *Estate) People() int { return len(e.people) }

// Memberships returns the number of entries that name their member.
func (e *Estate) Memberships() int { return len(e.entries) }

// IsGroup reports whether id is that of a group.
func (e *Estate) IsGroup(id ID) bool { return int(id) < e.count }

// IsPerson reports whether id is that of a person.
func (e *Estate) IsPerson(id ID) bool {
	return int(id) >= e.count && int(id) < e.count+len(e.people)
}

// Group returns the group with that ID.
func (e *Estate) Group(id ID) *Group {
	if e.lazy != nil {
		return e.lazy.at(id)
	}
	return &e.groups[id]
}

// Person returns the person with that ID.
func (e *Estate) Person(id ID) *Person { return &e.people[int(id)-e.count] }

// IsShut reports whether a person's mailbox takes no mail.
func (e *Estate) IsShut(person ID) bool { return e.Person(person).Mailbox != MailboxOpen }

// PersonIndex returns the place of a person's ID among all people, from 0.
func (e *Estate) PersonIndex(id ID) int { return int(id) - e.count }

// PersonID returns the ID of the person with that index.
func (e *Estate) PersonID(index int) ID { return ID(index + e.count) }

// Address returns the main address of a person or group, or the address that
// belongs to nobody.
func (e *Estate) Address(id ID) address.Address {
	switch {
	case id.IsNobody():
		return e.nobody[id-firstNobody].Address
	case e.IsGroup(id):
		main, _ := e.groupNames(id)
		return main
	}
	return e.Person(id).Address
}

// Also returns the addresses of a person or group apart from the main one.
func (e *Estate) Also(id ID) []address.Address {
	switch {
	case e.IsGroup(id):
		_, also := e.groupNames(id)
		return also
	case e.IsPerson(id):
		return e.Person(id).Also
	}
	return nil
}

// groupNames returns the addresses of a group without reading the rest of it.
func (e *Estate) groupNames(id ID) (address.Address, []address.Address) {
	if e.lazy != nil {
		names := &e.lazy.from.names[id]
		return names.main, names.also
	}
	return e.groups[id].Address, e.groups[id].Also
}

// Inside reports whether the main address of a person or group is in a domain
// of the estate.
func (e *Estate) Inside(id ID) bool {
	return e.IsGroup(id) || e.IsPerson(id) && e.inside[e.PersonIndex(id)]
}

// Entries returns the named memberships of a group, in file order.
func (e *Estate) Entries(group ID) []Entry {
	return e.entries[e.entryStart[group]:e.entryStart[group+1]]
}

// Rules returns the memberships of a group that pick people, in file order.
func (e *Estate) Rules(group ID) []MemberRule { return e.rules[group] }

// Children returns the groups nested in a group, in file order. A group listed
// twice is there twice.
func (e *Estate) Children(group ID) []Nesting { return e.children.of(group) }

// Parents returns the groups that a group is nested in.
func (e *Estate) Parents(group ID) []Nesting { return e.parents.of(group) }

// Unknown returns the inside addresses that belong to nobody, with every place
// that names them.
func (e *Estate) Unknown() []Unknown { return e.unknown }

// PeopleByAddress returns all people, sorted by main address without case.
func (e *Estate) PeopleByAddress() []ID { return e.byAddress }

// Rank returns the place of a person in PeopleByAddress.
func (e *Estate) Rank(person ID) int { return int(e.rank[e.PersonIndex(person)]) }

// Domains returns, by ID of every group and then person, a number for the
// domain of the main address, domains that mean another taken for that one.
func (e *Estate) Domains() []uint32 { return e.domain }

// DomainNames calls visit with the domain of each number that Domains uses.
func (e *Estate) DomainNames() iter.Seq2[string, uint32] {
	return func(yield func(string, uint32) bool) {
		for name, number := range e.index.numbers {
			if !yield(name, number) {
				return
			}
		}
	}
}

// nestings holds lists of nestings by group.
type nestings struct {
	start []uint32
	all   []Nesting
}

func (n *nestings) of(group ID) []Nesting { return n.all[n.start[group]:n.start[group+1]] }
