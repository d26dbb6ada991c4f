package present

import (
	"slices"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Roles returns whom NewMemberList can list.
func Roles() []string { return slices.Clone(roles) }

var roles = []string{"member", "owner", "moderator"}

// NewMemberList lists those of groups whom wanted picks: their entries, and with
// role "" their owners and moderators, too. wanted nil picks all.
func NewMemberList(
	r *resolve.Resolver,
	groups []estate.ID,
	role string,
	wanted func(group, id estate.ID) bool,
) *MemberList {
	n := newNamer(r)
	a := &MemberList{Members: []ListedMember{}}
	for _, g := range groups {
		group := n.e.Group(g)
		for _, listed := range []struct {
			role string
			list []estate.Listed
		}{{"owner", group.Owners}, {"moderator", group.Moderators}} {
			for _, one := range listed.list {
				if (role == "" || role == listed.role) && (wanted == nil || wanted(g, one.ID)) {
					a.add(n, g, one.ID, listed.role, estate.Membership{}, one.Place)
				}
			}
		}
		if role != "" && role != "member" {
			continue
		}
		for _, entry := range n.e.Entries(g) {
			if wanted == nil || wanted(g, entry.Member) {
				a.add(n, g, entry.Member, "member", entry.Membership(), entry.Place)
			}
		}
		for _, rule := range n.e.Rules(g) {
			if wanted != nil {
				continue
			}
			m := ListedMember{
				Group:       n.address(g),
				Address:     "everyone",
				Role:        "member",
				Is:          "rule",
				Copy:        rule.Copy.String(),
				Invitations: rule.Invitations.String(),
			}
			if rule.Filter != nil {
				m.Address = "where " + rule.Filter.String()
			}
			m.File, m.Line = n.e.Settings().Files[rule.Place.File], int(rule.Place.Line)
			a.Members = append(a.Members, m)
		}
	}
	return a
}

func (a *MemberList) add(n namer, g, id estate.ID, role string, says estate.Membership, place estate.Place) {
	m := ListedMember{
		Group:       n.address(g),
		Address:     n.address(id),
		Role:        role,
		Copy:        says.Copy.String(),
		Since:       says.Since.String(),
		Invitations: says.Invitations.String(),
		Paused:      says.Paused,
		File:        n.e.Settings().Files[place.File],
		Line:        int(place.Line),
	}
	switch {
	case id.IsNobody():
		m.Is, m.Outcome = "nobody", resolve.Undeliverable.String()
	case n.e.IsGroup(id):
		m.Is = "group"
	default:
		m.Is, m.Name = "person", n.e.Person(id).Name
		if !n.e.Inside(id) {
			m.Is = "outside"
		}
		if outcome, ok := n.r.Receipt(g, id); ok {
			m.Outcome = outcome.String()
		}
	}
	a.Members = append(a.Members, m)
}
