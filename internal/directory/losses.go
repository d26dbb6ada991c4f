package directory

import (
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// Carries says what a format can hold of an estate, apart from addresses, groups and
// who is a member.
type Carries struct {
	Settings    []string // of groups, by name; "all" for all of them
	Also        bool     // further addresses of groups
	AlsoPeople  bool     // and of people, if they are inside and in the domain of the main one
	AlsoOutside bool     // and all others
	Owners      bool
	Moderators  bool
	Access      bool
	Names       bool                          // of people
	Attributes  func(name, value string) bool // nil: none
	OneValue    bool                          // of each attribute the first value alone
	Mailbox     func(estate.MailboxState) bool
	Memberships bool                         // what members chose: copy, since, invitations, paused
	Rules       func(estate.MemberRule) bool // nil: none
	Nobody      bool                         // members that are inside and belong to nobody
	Unnamed     bool                         // groups without a member that is named
	Controls    bool                         // control characters in texts, apart from tabs and line breaks
	Addresses   func(address.Address) bool   // nil: all
	Expanded    bool                         // rules stand as the people they pick, rosters as their members
}

// A Loss is something that a format cannot hold.
type Loss struct {
	What    string `json:"what"`
	Count   int    `json:"count"`
	Example string `json:"example"`
}

// String returns a loss as a line.
func (l Loss) String() string {
	if l.Count == 1 {
		return fmt.Sprintf("%s of %s", l.What, l.Example)
	}
	return fmt.Sprintf("%s of %d, such as %s", l.What, l.Count, l.Example)
}

// losses counts what cannot be held.
type losses struct {
	list []Loss
}

func (l *losses) add(what, example string) {
	for i := range l.list {
		if l.list[i].What == what {
			l.list[i].Count++
			return
		}
	}
	l.list = append(l.list, Loss{what, 1, example})
}

// Losses returns what of an estate a format does not carry, in the order in which
// an estate is written.
func Losses(e *estate.Estate, c Carries) []Loss {
	var l losses
	l.settings(e)
	for i := range e.People() {
		l.person(e, e.PersonID(i), c)
	}
	for g := range estate.ID(e.Groups()) {
		l.group(e, g, c)
	}
	return l.list
}

// settings counts what an estate says of itself: no format but its own holds it.
func (l *losses) settings(e *estate.Estate) {
	s := e.Settings()
	if s.Subaddress != "" {
		l.add("subaddress", "the estate")
	}
	if s.OpenNestedGates {
		l.add("nested-gates", "the estate")
	}
	if s.CodeSender.IsValid() {
		l.add("code-sender", "the estate")
	}
	if len(s.Edge) > 0 {
		l.add("edge", "the estate")
	}
	if len(s.Accepted) > 0 {
		l.add("accept", "the estate")
	}
	for _, d := range s.Domains {
		if d.SameAs != "" {
			l.add("same-as", "the domain "+d.Name)
		}
	}
}

func (l *losses) person(e *estate.Estate, id estate.ID, c Carries) {
	p := e.Person(id)
	who := p.Address.String()
	l.controls(c, who, p.Name)
	if slices.ContainsFunc(
		p.Also,
		func(a address.Address) bool { return !c.HoldsAlso(e, id, a) || c.harmful(a) || c.harmful(p.Address) },
	) {
		l.add("aliases", who)
	}
	if p.Name != "" && !c.Names {
		l.add("names", who)
	}
	if p.Mailbox != estate.MailboxOpen && (c.Mailbox == nil || !c.Mailbox(p.Mailbox)) {
		l.add("the mailbox being "+p.Mailbox.String(), who)
	}
	before := ""
	for _, f := range e.Attributes(id) {
		l.controls(c, who, f.Name, f.Value)
		if c.Attributes == nil || !c.Attributes(f.Name, f.Value) {
			l.add("the attribute "+f.Name, who)
		} else if c.OneValue && f.Name == before {
			l.add("further values of the attribute "+f.Name, who)
		}
		before = f.Name
	}
}

// HoldsAlso reports whether a further address of a person is held.
func (c Carries) HoldsAlso(e *estate.Estate, person estate.ID, a address.Address) bool {
	return c.AlsoOutside || c.AlsoPeople && e.Inside(person) && a.Domain() == e.Address(person).Domain()
}

func (l *losses) group(e *estate.Estate, g estate.ID, c Carries) {
	group := e.Group(g)
	name := group.Address.String()
	if c.harmful(group.Address) {
		l.add("the group itself, as a mail server would take its address for a program, file or list,", name)
		return
	}
	l.controls(c, name, group.Title, group.About)
	if slices.ContainsFunc(group.Also, c.harmful) {
		l.add("aliases that a mail server would take for a program, file or list", name)
	}
	if len(group.Also) > 0 && !c.Also {
		l.add("aliases", name)
	}
	if len(group.Owners) > 0 && !c.Owners {
		l.add("owners", name)
	}
	if len(group.Moderators) > 0 && !c.Moderators {
		l.add("moderators", name)
	}
	for _, f := range Settings(group) {
		switch {
		case !slices.Contains(c.Settings, f.Name) && !slices.Contains(c.Settings, "all"):
			l.add(f.Name, name)
		case f.Name == "gate" && len(f.List) == 0: // a cell has to say something
			l.add("what senders are told by an empty gate (it becomes refuse anyone)", name)
		}
	}
	for _, rule := range group.Access {
		if rule.Place != (estate.Place{}) && !c.Access {
			l.add("access", name)
			break
		}
	}
	if len(group.Accepted) > 0 {
		l.add("accepted hazards", name)
	}
	for _, listed := range slices.Concat(group.Owners, group.Moderators) {
		if who := e.Address(listed.ID); c.harmful(who) {
			l.add("an owner that a mail server would take for a program, file or list", who.String()+" of "+name)
		}
		if listed.ID.IsNobody() && !c.Nobody {
			l.add("an owner or moderator that does not exist", name)
		}
	}
	l.members(e, g, c)
}

// members notes what is lost of the members of a group.
func (l *losses) members(e *estate.Estate, g estate.ID, c Carries) {
	name := e.Address(g).String()
	seen := map[estate.ID]bool{}
	held := 0
	for _, entry := range e.Entries(g) {
		who := e.Address(entry.Member)
		if seen[entry.Member] {
			l.add("a second entry", who.String()+" in "+name)
		}
		seen[entry.Member] = true
		if c.harmful(who) {
			l.add("a member that a mail server would take for a program, file or list", who.String()+" in "+name)
		}
		switch {
		case entry.Member.IsNobody() && !c.Nobody:
			l.add("a member that does not exist", name)
		case !c.harmful(who):
			held++
		}
		if entry.Membership() != (estate.Membership{}) && !c.Memberships {
			l.add("what members chose ("+chosen(entry)+")", who.String()+" in "+name)
		}
	}
	if len(e.Entries(g)) == 0 && !c.Unnamed && !(c.Expanded && len(e.Rules(g)) > 0) {
		l.add("the group itself, as it has no named member,", name)
	}
	if c.Expanded && e.Group(g).Kind == estate.Roster {
		l.add("a roster (its members stand where it is listed)", name)
	}
	for _, rule := range e.Rules(g) {
		if c.Expanded {
			held++
			l.add("a rule for members (those it picks now are written)", name)
			continue
		}
		if c.Rules == nil || !c.Rules(rule) {
			l.add("a rule for members", name)
			continue
		}
		held++
		if rule.Membership != (estate.Membership{}) && !c.Memberships {
			l.add("what the members by a rule get", name)
		}
	}
	if held == 0 && len(e.Entries(g))+len(e.Rules(g)) > 0 && (c.Unnamed || len(e.Entries(g)) > 0) {
		l.add("every member, so that the group arrives empty,", name)
	}
}

// harmful reports whether a format cannot hold an address.
func (c Carries) harmful(a address.Address) bool { return c.Addresses != nil && !c.Addresses(a) }

// controls counts texts of somebody with characters that a format cannot hold.
func (l *losses) controls(c Carries, who string, texts ...string) {
	if !c.Controls && slices.ContainsFunc(texts, func(text string) bool { return !isPlain(text) }) {
		l.add("control characters in texts", who)
	}
}

func chosen(e estate.Entry) string {
	var list []string
	for _, s := range estate.MembershipSettings() {
		if s.Text(e.Membership()) != "" {
			list = append(list, s.Name)
		}
	}
	return strings.Join(list, ", ")
}

// FieldOf returns the field of the source that an attribute of people is read from, and
// whether the map has one.
func (m *Map) FieldOf(attribute string) (string, bool) { return fieldFor(m, attribute) }

// GroupLosses is Losses for one group.
func GroupLosses(e *estate.Estate, g estate.ID, c Carries) []Loss {
	var l losses
	l.group(e, g, c)
	return l.list
}
