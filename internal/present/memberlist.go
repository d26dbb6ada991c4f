package present

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// MemberList is the members of groups, as they are written.
type MemberList struct {
	Members []ListedMember `json:"members"`
	groups  []string       // that were asked for
	picked  bool           // not all that they list was asked for
}

// ListedMember is one entry of one group, with what comes of it.
type ListedMember struct {
	Group   string `json:"group"`
	Address string `json:"address"` // or the rule: where (...), everyone
	Name    string `json:"name"`
	Role    string `json:"role"` // member, owner, moderator
	Is      string `json:"is"`   // person, outside, group, rule, nobody
	SaidOfMembership
	Outcome string `json:"outcome"` // of a post to the group; "" for groups and rules
	File    string `json:"file"`
	Line    int    `json:"line"`
	place   string
	says    estate.Membership
	again   bool // an entry before this one names them, and counts
}

// SaidOfMembership is what a membership says, as it is written; "" where it says nothing.
type SaidOfMembership struct {
	Copy        string `json:"copy"`
	Since       string `json:"since"` // a date
	Invitations string `json:"invitations"`
	Paused      bool   `json:"paused"`
}

func saidOfMembership(m estate.Membership) SaidOfMembership {
	return SaidOfMembership{m.Copy.String(), m.Since.String(), m.Invitations.String(), m.Paused}
}

// Roles returns who NewMemberList can list.
func Roles() []string { return slices.Clone(roles) }

var roles = []string{"member", "owner", "moderator"}

// NewMemberList lists those of groups that wanted picks: their entries, and with
// role "" their owners and moderators, too. wanted nil picks all.
func NewMemberList(
	r *resolve.Resolver,
	groups []estate.ID,
	role string,
	wanted func(group, id estate.ID) bool,
) *MemberList {
	n := newNamer(r)
	a := &MemberList{Members: []ListedMember{}, picked: role != "" || wanted != nil}
	for _, g := range groups {
		a.groups = append(a.groups, n.address(g))
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
		met := map[estate.ID]bool{}
		for _, entry := range n.e.Entries(g) {
			if wanted == nil || wanted(g, entry.Member) {
				a.add(n, g, entry.Member, "member", entry.Membership(), entry.Place)
				a.Members[len(a.Members)-1].again = met[entry.Member]
				met[entry.Member] = true
			}
		}
		for _, rule := range n.e.Rules(g) {
			if wanted != nil {
				continue
			}
			m := ListedMember{
				Group:            n.address(g),
				Address:          "everyone",
				Role:             "member",
				Is:               "rule",
				SaidOfMembership: saidOfMembership(rule.Membership),
				says:             rule.Membership,
			}
			if rule.Filter != nil {
				m.Address = "where " + rule.Filter.String()
			}
			m.File, m.Line = n.e.Settings().Files[rule.Place.File], int(rule.Place.Line)
			m.place = n.position(rule.Place)
			a.Members = append(a.Members, m)
		}
	}
	return a
}

func (a *MemberList) add(n namer, g, id estate.ID, role string, says estate.Membership, place estate.Place) {
	m := ListedMember{
		Group:            n.address(g),
		Address:          n.address(id),
		Role:             role,
		SaidOfMembership: saidOfMembership(says),
		says:             says,
		File:             n.e.Settings().Files[place.File],
		Line:             int(place.Line),
		place:            n.position(place),
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
		if outcome, ok := n.r.Flow(g, resolve.Message{}).Best(id); ok {
			m.Outcome = outcome.String()
		}
	}
	a.Members = append(a.Members, m)
}

const (
	mostMembers    = 20 // of a group are listed unasked
	widthForPlaces = 96 // from which an entry and its place stand in one line
)

func (a *MemberList) writeText(p *Page) {
	for i, group := range a.groups {
		if i > 0 {
			p.Gap()
		}
		var list []ListedMember
		for _, m := range a.Members {
			if m.Group == group {
				list = append(list, m)
			}
		}
		if len(list) == 0 {
			nobody := ": nobody is listed"
			if a.picked {
				nobody = ": nobody listed matches"
			}
			p.Line(2, Span{Strong, group}, Span{Plain, nobody})
			continue
		}
		p.Line(2, Span{Strong, group}, Span{Plain, ": " + listedCounts(list)})
		p.Gap()
		p.listedMembers(list)
	}
}

// listedCounts says how many of each kind are listed.
func listedCounts(list []ListedMember) string {
	counts := map[string]int{}
	for _, m := range list {
		counts[m.word()]++
	}
	var parts []string
	for _, kind := range []struct{ word, many string }{
		{"member", "members"}, {"outside member", "outside members"}, {"nested group", "nested groups"},
		{"rule", "rules"}, {"unknown member", "unknown members"}, {"second entry", "second entries"},
		{"owner", "owners"}, {"moderator", "moderators"},
	} {
		if n := counts[kind.word]; n > 0 {
			parts = append(parts, count(n, kind.word, kind.many))
		}
	}
	return strings.Join(parts, ", ")
}

// word says what somebody is in the list.
func (m *ListedMember) word() string {
	switch {
	case m.Role != "member":
		return m.Role
	case m.again:
		return "second entry"
	}
	return map[string]string{
		"person": "member", "outside": "outside member", "group": "nested group", "rule": "rule", "nobody": "unknown member",
	}[m.Is]
}

func (p *Page) listedMembers(list []ListedMember) {
	shown := list[:p.shown(len(list), mostMembers)]
	var rows [][]Span
	for i := range shown {
		m := &shown[i]
		outcome := m.Outcome
		if outcome == resolve.Nothing.String() {
			outcome = "no copy"
		}
		says := strings.Join(m.says.Says(), ", ")
		row := []Span{{Plain, m.Address}, {Faint, m.word()}, {outcomeStyle(m.Outcome), outcome}, {Plain, says}}
		if p.options.Width >= widthForPlaces {
			row = append(row, Span{Faint, m.place})
		}
		rows = append(rows, row)
	}
	p.Table(rows)
	p.more(len(list)-len(shown), "more")
}

func (a *MemberList) table(t *table) {
	head := []string{"group", "address", "name", "role", "is"}
	for _, s := range estate.MembershipSettings() {
		head = append(head, s.Name)
	}
	t.head(append(head, "outcome", "file", "line")...)
	for _, m := range a.Members {
		cells := []any{m.Group, m.Address, m.Name, m.Role, m.Is}
		for _, s := range estate.MembershipSettings() {
			cells = append(cells, s.Text(m.says))
		}
		t.row(append(cells, m.Outcome, m.File, m.Line)...)
	}
}
