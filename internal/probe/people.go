package probe

import (
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// find returns the first inside person by address who can be sent as and has some
// traits, those with a mailbox that works first.
func (p *RunPlan) find(group estate.ID, traits ...func(group, person estate.ID) bool) (estate.ID, bool) {
	e := p.resolver.Estate()
	for _, working := range []bool{true, false} {
		for _, id := range e.PeopleByAddress() {
			if (e.Person(id).Mailbox == estate.MailboxOpen) != working || !e.Inside(id) || !p.sendable(id) {
				continue
			}
			if !slices.ContainsFunc(
				traits,
				func(trait func(group, person estate.ID) bool) bool { return !trait(group, id) },
			) {
				return id, true
			}
		}
	}
	return estate.None, false
}

func (p *RunPlan) sendable(id estate.ID) bool {
	a := p.resolver.Estate().Address(id)
	_, ok := p.connections.Sender(a, p.resolver.Estate().Inside(id), false)
	return ok
}

func (p *RunPlan) member(group, person estate.ID) bool {
	return p.resolver.Members(group).Contains(uint32(person))
}

func (p *RunPlan) notMember(group, person estate.ID) bool { return !p.member(group, person) }

func (p *RunPlan) admitted(group, person estate.ID) bool {
	return p.verdict(group, person) == estate.Admit
}

func (p *RunPlan) refused(group, person estate.ID) bool {
	return p.verdict(group, person) == estate.Refuse
}

func (p *RunPlan) verdict(group, person estate.ID) estate.Verdict {
	return p.resolver.Gate(group).Post(p.resolver.Sender(p.resolver.Estate().Address(person)), resolve.Message{}).Verdict
}

// Lookers returns how many mailboxes are looked into, by the connection that opens them.
func (p *RunPlan) Lookers() map[string]int {
	counts := map[string]int{}
	for _, a := range p.watched() {
		if boxes, ok := p.connections.Mailbox(a, p.resolver.Estate().InsideDomain(a.Domain())); ok {
			counts[boxes.Name]++
		}
	}
	return counts
}

// watched returns everybody whose mailbox is looked into, and the groups whose
// archive is: all who can be, as long as there are no more than the run may touch;
// else those that a case concerns.
func (p *RunPlan) watched() []address.Address {
	e := p.resolver.Estate()
	var list []address.Address
	seen := map[string]bool{}
	add := func(a address.Address) {
		if id, ok := e.Find(a); ok && e.IsPerson(id) && e.Person(id).Mailbox == estate.MailboxNone {
			return // there is nothing to look into
		}
		if key := e.Key(a); !seen[key] {
			seen[key] = true
			list = append(list, a)
		}
	}
	all := e.People() <= p.connections.Limits.People
	if all {
		for _, id := range e.PeopleByAddress() {
			add(e.Address(id))
		}
	}
	for i := range p.Cases {
		c := &p.Cases[i]
		add(c.sender())
		if _, known := e.Find(c.To); !known && !e.InsideDomain(c.To.Domain()) {
			add(c.To)
		}
		to, ok := e.Find(c.To)
		if !ok || !e.IsGroup(to) {
			continue
		}
		for it := p.resolver.Members(to).Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); e.IsPerson(id) {
				add(e.Address(id))
			} else if e.Group(id).Kind.Keeps() {
				add(e.Address(id))
			}
		}
		if e.Group(to).Kind.Keeps() {
			add(e.Address(to))
		}
		approvers, _ := p.resolver.Approvers(to)
		for _, id := range approvers {
			add(e.Address(id))
		}
	}
	return list
}
