package infer

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// A proposal is a change that may explain something, and how likely it is.
type proposal struct {
	change.Subject
	change change.Change
	weight int // the less, the likelier

	lostAddress address.Address // leads nowhere, where it is valid
	lostDomain  string          // likewise, all in it
	leadsTo     address.Address // where lostAddress leads instead, where it is valid
}

// propose returns a change as a proposal.
func (x *search) propose(weight int, c change.Change) proposal {
	return proposal{Subject: c.About(x.r.Estate()), change: c, weight: weight}
}

// loses reports whether by the change some addresses lead nowhere, or elsewhere, and all else
// stays as it is.
func (p *proposal) loses() bool { return p.lostAddress.IsValid() || p.lostDomain != "" }

// clashes reports whether two changes are of the same setting, so that the second
// does not find what it changes as it was.
func (p *proposal) clashes(other proposal) bool {
	return p.Group == other.Group && p.Setting == other.Setting &&
		(p.Setting != "members" || p.Person == other.Person || p.isRule() || other.isRule())
}

// isRule reports whether the change is one of a rule among the members of a group.
func (p *proposal) isRule() bool {
	switch p.change.(type) {
	case change.SetMemberRule, change.RemoveMemberRule:
		return true
	}
	return false
}

// matters reports whether the change can matter to a trial.
func (p *proposal) matters(touched map[estate.ID]bool, t *Trial) bool {
	if _, everywhere := p.change.(change.SetNestedGates); everywhere || p.loses() {
		return true
	}
	if p.Group == estate.None {
		_, seen := t.Seen.People[p.Person]
		return seen
	}
	return touched[p.Group]
}

// gone reports whether an address does not lead to its group by the change.
func (p *proposal) gone(to address.Address) bool {
	return p.lostAddress.IsValid() && p.lostAddress.Key() == to.Key() || p.lostDomain != "" && p.lostDomain == to.Domain()
}

// candidates returns changes that may explain a miss.
func (x *search) candidates(miss Miss) []proposal {
	t := &x.trials[miss.Trial]
	e := x.r.Estate()
	to, ok := e.Find(t.To)
	if !ok || !e.IsGroup(to) {
		if t.By.IsValid() && miss.Person == estate.None {
			return x.sendAsChanges(t)
		}
		return nil
	}
	if miss.Person == estate.None {
		return x.verdictChanges(t, to)
	}
	from := x.r.Sender(t.From)
	d := x.r.Deliver(resolve.Query{Group: to, Sender: &from, Message: t.Message})
	var list []proposal
	for _, path := range d.Paths {
		list = append(list, x.membershipChanges(path.Group, to, miss.Person)...)
		list = append(list, x.settingChanges(path.Group, miss.Person)...)
		for _, p := range x.gateChanges(t, path.Group) {
			if path.Group != to {
				p.weight += 4 // somebody would have been told, more often than not
			}
			list = append(list, p)
		}
		if path.Group != to {
			list = append(list, x.nestingChanges(d.Before(path), path.Group)...)
		}
	}
	for _, child := range e.Children(to) {
		list = append(list, x.nestingChanges(to, child.Group)...)
	}
	list = append(list, x.nestedChanges(to, miss.Person)...)
	list = append(list, x.aliasChanges(t, to, miss.Person)...)
	for state, word := range estate.MailboxWords() {
		if estate.MailboxState(state) != e.Person(miss.Person).Mailbox {
			c := change.SetPerson{Person: miss.Person, Field: "mailbox", Text: word}
			list = append(list, x.propose(11+state, c))
		}
	}
	return append(list, x.propose(nestedGatesWeight, change.SetNestedGates{Open: !e.Settings().OpenNestedGates}))
}

// nestedGatesWeight is less than that of any gate further in, where both explain the same: most
// systems ask none of them.
const nestedGatesWeight = 13

// aliasChanges may explain that somebody gets what they should not: the alias that the message is for
// is that of a group of their own.
func (x *search) aliasChanges(t *Trial, group, person estate.ID) []proposal {
	e := x.r.Estate()
	if t.To.Key() == e.Address(group).Key() || x.r.Members(group).Contains(uint32(person)) {
		return nil
	}
	var list []proposal
	for _, other := range x.r.GroupsOf(person) {
		if len(list) == mostNested {
			break
		}
		p := x.propose(7, change.SetList{Group: other, Setting: "also", Add: []string{t.To.String()}})
		p.lostAddress, p.leadsTo = t.To, e.Address(other)
		list = append(list, p)
	}
	return list
}

// mostNested is how many groups of somebody are tried as members of another one.
const mostNested = 40

// nestedChanges may explain that somebody gets what they should not: a group of their own is a
// member, too.
func (x *search) nestedChanges(group, person estate.ID) []proposal {
	if x.r.Members(group).Contains(uint32(person)) {
		return nil
	}
	e := x.r.Estate()
	var list []proposal
	for _, other := range x.r.GroupsOf(person) {
		if other == group || x.r.Members(other).Contains(uint32(group)) || len(list) == mostNested {
			continue
		}
		list = append(list, x.propose(12, change.AddMember{Group: group, Member: change.Member{Address: e.Address(other)}}))
	}
	return list
}

// verdictChanges may explain another verdict of the group that a message is for.
func (x *search) verdictChanges(t *Trial, group estate.ID) []proposal {
	e := x.r.Estate()
	list := x.gateChanges(t, group)
	if t.By.IsValid() {
		list = append(list, x.sendAsChanges(t)...)
	}
	from := x.r.Sender(t.From)
	g := e.Group(group)
	if e.IsPerson(from.ID) {
		list = append(list, x.membershipChanges(group, group, from.ID)...)
		list = append(list, x.roleChanges(group, from.ID)...)
		for _, child := range e.Children(group) {
			list = append(list, x.membershipChanges(child.Group, group, from.ID)...)
			list = append(list, x.nestingChanges(group, child.Group)...)
		}
		visit := func(a *selector.Atom) {
			if a.Kind != selector.In {
				return
			}
			if id, ok := e.Find(a.Address); ok && e.IsGroup(id) {
				list = append(list, x.membershipChanges(id, id, from.ID)...)
			}
		}
		for _, rule := range g.Gate {
			selector.Atoms(rule.Selector, visit)
		}
	}
	if g.Kind != estate.Roster {
		list = append(list, x.kindChange(group, estate.Roster, 20))
	}
	return append(list, x.addressChanges(t, group)...)
}

// addressChanges let the address that a message is for lead nowhere.
func (x *search) addressChanges(t *Trial, group estate.ID) []proposal {
	g := x.r.Estate().Group(group)
	var list []proposal
	if t.To.Key() != g.Address.Key() {
		if t.To.Domain() != g.Address.Domain() {
			p := x.propose(8, change.RemoveDomain{Name: t.To.Domain()})
			p.lostDomain = t.To.Domain()
			list = append(list, p)
		}
		p := x.propose(7, change.SetList{Group: group, Setting: "also", Drop: []string{t.To.String()}})
		p.lostAddress = t.To
		list = append(list, p)
	}
	p := x.propose(19, change.RemoveGroup{Group: group})
	p.lostAddress = g.Address
	return append(list, p)
}

// gateChanges may explain another verdict of a gate.
func (x *search) gateChanges(t *Trial, group estate.ID) []proposal {
	g := x.r.Estate().Group(group)
	if g.Kind == estate.Roster {
		return nil
	}
	decision := x.r.Gate(group).Judge(x.r.Sender(t.From), t.Message)
	var list []proposal
	add := func(weight int, c change.Change) { list = append(list, x.propose(weight, c)) }
	for i, rule := range g.Gate {
		near := 0
		if i+1 != decision.Rule {
			near = 2
		}
		add(9+near, change.RemoveRule{Group: group, Setting: "gate", At: i})
		for v := range estate.Verdict(len(estate.VerdictWords())) {
			if v != rule.Verdict {
				text := ruleText(v, rule.Selector.String())
				add(8+near+int(v)/3, change.SetRule{Group: group, Setting: "gate", At: i, Text: text})
			}
		}
	}
	for v := range estate.Verdict(len(estate.VerdictWords())) {
		for i, who := range x.senderSelectors(t) {
			insert := change.InsertRule{Group: group, Setting: "gate", Text: ruleText(v, who)}
			add(10+i, insert)
			if at := decision.Rule - 1; at > 0 {
				insert.At = at
				add(10+i, insert)
			}
			if decision.Rule == 0 && v != estate.Refuse {
				insert.At = len(g.Gate)
				add(10+i, insert)
			}
		}
	}
	for i, who := range []string{"inside", "members", "anyone", "members or owners", "owners or moderators", "nobody"} {
		if text := ruleText(estate.Admit, who); !(len(g.Gate) == 1 && g.Gate[0].Text == text) {
			add(10+i, change.SetSetting{Group: group, Setting: "gate", Texts: []string{text}})
		}
	}
	return list
}

func ruleText(v estate.Verdict, who string) string { return v.String() + " " + who }

// leastSize is how many bytes a message has that a limit of size may be about.
const leastSize = 2000

// senderSelectors returns selectors that are true for the message of a trial, the
// likeliest for a rule first.
func (x *search) senderSelectors(t *Trial) []string {
	e, from, ours := x.r.Estate(), x.r.Sender(t.From), x.ours()
	var list []string
	for _, one := range []struct {
		is   bool
		word string
	}{
		{t.Message.Invitation, "invitation"},
		{t.Message.Automatic, "automatic"},
		{t.Message.Suspect, "suspect"},
		{t.Message.Size >= leastSize, "larger(" + strconv.FormatInt((t.Message.Size-1)/1000, 10) + "kB)"},
		{from.Inside && !t.Message.Unproven, "inside"},
		{!from.Inside || t.Message.Unproven, "outside"},
		{len(ours) > 0 && !e.InsideDomain(t.From.Domain()), "not " + ours},
		{from.ID == estate.None, "not known"},
		{from.ID != estate.None, t.From.String()},
		{t.Message.Unproven, "unproven"}, // of what explains the same, the plainer rule comes first
	} {
		if one.is {
			list = append(list, one.word)
		}
	}
	return append(list, "anyone", "not members", "members", "@"+t.From.Domain())
}

// mostOurs is how many domains of the estate a rule that is made up names at most.
const mostOurs = 3

// ours is a selector of anyone who claims an address in a domain of the estate, proven or not, as many
// systems have it; or "" where there are too many domains.
func (x *search) ours() string {
	var names []string
	for _, d := range x.r.Estate().Settings().Domains {
		if name := "@" + d.Name; d.SameAs == "" {
			names = append(names, name)
		}
	}
	switch {
	case len(names) > mostOurs:
		return ""
	case len(names) == 1:
		return names[0]
	}
	return "(" + strings.Join(names, " or ") + ")"
}

// sendAsChanges may explain another right to write in a group's name.
func (x *search) sendAsChanges(t *Trial) []proposal {
	e := x.r.Estate()
	group, ok := e.Find(t.From)
	if !ok || !e.IsGroup(group) {
		return nil
	}
	var list []proposal
	rules := e.Group(group).SendAs
	for i := range rules {
		list = append(list, x.propose(8, change.RemoveRule{Group: group, Setting: "send-as", At: i}))
	}
	for i, who := range []string{t.By.String(), "members", "owners", "moderators", "inside"} {
		c := change.InsertRule{Group: group, Setting: "send-as", At: len(rules), Text: "as " + who}
		list = append(list, x.propose(9+i, c))
	}
	return append(list, x.propose(12, change.SetSetting{Group: group, Setting: "send-as", Texts: []string{}}))
}
