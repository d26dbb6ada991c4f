package present

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// People is a list of people, one line each.
type People struct {
	People []PersonLine `json:"people"`

	all    int    // of the estate
	by     string // what they were chosen by
	domain string // the first of the estate: text leaves it out
}

// PersonLine is a person as they are listed.
type PersonLine struct {
	Person     string   `json:"person"`
	Name       string   `json:"name,omitempty"`
	Mailbox    string   `json:"mailbox"`
	Inside     bool     `json:"inside"`
	Groups     int      `json:"groups"` // that list them as a member
	Roles      int      `json:"roles"`  // groups that list them as owner or moderator
	Attributes []string `json:"attributes"`
	Place      string   `json:"place"`
}

// NewPeople lists people; by says by what they were chosen, "" for all.
func NewPeople(r *resolve.Resolver, people []estate.ID, by string) *People {
	n := newNamer(r)
	a := &People{People: []PersonLine{}, all: n.e.People(), by: by, domain: "@" + n.e.Settings().Domains[0].Name}
	groups, roles := map[estate.ID]int{}, map[estate.ID]int{}
	for g := range estate.ID(n.e.Groups()) {
		seen := map[estate.ID]bool{}
		for _, entry := range n.e.Entries(g) {
			if !seen[entry.Member] {
				seen[entry.Member] = true
				groups[entry.Member]++
			}
		}
		has := map[estate.ID]bool{}
		for _, list := range [][]estate.Listed{n.e.Group(g).Owners, n.e.Group(g).Moderators} {
			for _, one := range list {
				if !has[one.ID] {
					has[one.ID] = true
					roles[one.ID]++
				}
			}
		}
	}
	for _, id := range people {
		p := n.e.Person(id)
		line := PersonLine{
			Person: n.address(id), Name: p.Name, Mailbox: p.Mailbox.String(), Inside: n.e.Inside(id), Groups: groups[id],
			Roles: roles[id], Attributes: []string{}, Place: n.position(p.Place),
		}
		for _, attribute := range n.e.Attributes(id) {
			line.Attributes = append(line.Attributes, attribute.Name+" "+attribute.Value)
		}
		a.People = append(a.People, line)
	}
	return a
}

func (a *People) writeText(p *Page) {
	first := count(len(a.People), "person", "people")
	if a.by != "" {
		first = strconv.Itoa(len(a.People)) + " of " + count(a.all, "person", "people") + ": " + a.by
	}
	p.Line(2, Span{Strong, first})
	if len(a.People) == 0 {
		return
	}
	p.Gap()
	const most = 40
	rows := [][]Span{{{Faint, "person"}, {Faint, "name"}, {Faint, "mailbox"}, {Faint, "groups"}, {Faint, "roles"}}}
	const wide = 110 // columns in which attributes have room, too
	withAttributes := p.options.Width >= wide
	if withAttributes {
		rows[0] = append(rows[0], Span{Faint, "attributes"})
	}
	shown := p.shown(len(a.People), most)
	for _, one := range a.People[:shown] {
		mailbox := Span{Plain, one.Mailbox}
		if one.Mailbox != estate.MailboxOpen.String() {
			mailbox.Style = Bad
		}
		row := []Span{{Plain, strings.TrimSuffix(one.Person, a.domain)}, {Plain, one.Name}, mailbox,
			number(one.Groups, Plain), number(one.Roles, Plain)}
		if withAttributes {
			row = append(row, Span{Plain, strings.Join(one.Attributes, ", ")})
		}
		rows = append(rows, row)
	}
	p.Table(rows)
	p.Gap()
	p.more(len(a.People)-shown, "more")
	p.Line(0, Span{Faint, "groups: that list them; roles: groups that they own or moderate. Addresses without a " +
		"domain end in " +
		a.domain + "."})
}

func (a *People) table(t *table) {
	t.head("person", "name", "mailbox", "inside", "groups", "roles", "attributes", "place")
	for _, one := range a.People {
		t.row(one.Person, one.Name, one.Mailbox, one.Inside, one.Groups, one.Roles, one.Attributes, one.Place)
	}
}
