package present

import (
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Groups is a list of groups, one line each.
type Groups struct {
	Groups []GroupLine `json:"groups"`

	all    int    // of the estate
	by     string // what they were chosen by
	domain string // the first of the estate: text leaves it out
}

// GroupLine is a group as it is listed.
type GroupLine struct {
	Group      string `json:"group"`
	Title      string `json:"title,omitempty"`
	Kind       string `json:"kind"`
	Members    int    `json:"members"` // listed ones: people and groups
	Rules      int    `json:"rules"`   // among its members
	Owners     int    `json:"owners"`  // listed ones
	Moderators int    `json:"moderators"`
	ManagedIn  string `json:"managedIn,omitempty"`
	Place      string `json:"place"`
}

// NewGroups lists groups; by says by what they were chosen, "" for all.
func NewGroups(r *resolve.Resolver, groups []estate.ID, by string) *Groups {
	n := newNamer(r)
	a := &Groups{Groups: []GroupLine{}, all: n.e.Groups(), by: by, domain: "@" + n.e.Settings().Domains[0].Name}
	for _, id := range groups {
		g := n.e.Group(id)
		a.Groups = append(a.Groups, GroupLine{
			Group: n.address(id), Title: g.Title, Kind: g.Kind.String(),
			Members: len(n.e.Entries(id)), Rules: len(n.e.Rules(id)), Owners: len(g.Owners), Moderators: len(g.Moderators),
			ManagedIn: g.ManagedIn, Place: n.position(g.Place),
		})
	}
	return a
}

func (a *Groups) writeText(p *Page) {
	first := count(len(a.Groups), "group", "groups")
	if a.by != "" {
		first = strconv.Itoa(len(a.Groups)) + " of " + count(a.all, "group", "groups") + ": " + a.by
	}
	p.Line(2, Span{Strong, first})
	if len(a.Groups) == 0 {
		return
	}
	p.Gap()
	const most = 40
	shown := a.Groups[:p.shown(len(a.Groups), most)]
	var head []Span
	for _, word := range []string{"group", "kind", "members", "rules", "owners", "title"} {
		head = append(head, Span{Faint, word})
	}
	rows := [][]Span{head}
	for _, g := range shown {
		rows = append(rows, []Span{
			{Plain, strings.TrimSuffix(g.Group, a.domain)}, {Plain, g.Kind}, number(g.Members, Plain), number(g.Rules, Plain),
			number(g.Owners, Plain), {Plain, g.Title},
		})
	}
	p.Table(rows)
	p.Gap()
	p.more(len(a.Groups)-len(shown), "more")
	p.Line(0, Span{Faint, "members, owners: as listed; rules: how many pick members. Addresses without a domain end in " +
		a.domain + "."})
}

func (a *Groups) table(t *table) {
	t.head("group", "title", "kind", "members", "rules", "owners", "moderators", "managed-in", "place")
	for _, g := range a.Groups {
		t.row(g.Group, g.Title, g.Kind, g.Members, g.Rules, g.Owners, g.Moderators, g.ManagedIn, g.Place)
	}
}

// GroupSettings is a group with everything that is set, what holds by default, and
// where it stands.
type GroupSettings struct {
	Group    string         `json:"group"`
	Title    string         `json:"title,omitempty"`
	Place    string         `json:"place"`
	Settings []GroupSetting `json:"settings"` // all there are, in the order of estate files
	People   int            `json:"people"`   // who are listed as members
	Groups   []string       `json:"groups"`   // that are listed as members
	Rules    []string       `json:"rules"`    // among the members
	In       []string       `json:"in"`       // groups that list this one

	name string
}

// GroupSetting is one setting of a group.
type GroupSetting struct {
	Setting string   `json:"setting"`
	Values  []string `json:"values"` // several of a list, none where nothing holds
	Default bool     `json:"default"`
	Place   string   `json:"place,omitempty"` // where the group says it
}

// NewGroupSettings tells what is set of a group.
func NewGroupSettings(r *resolve.Resolver, id estate.ID) *GroupSettings {
	n := newNamer(r)
	g := n.e.Group(id)
	a := &GroupSettings{
		Group: n.address(id), Title: g.Title, Place: n.position(g.Place), name: groupName(g),
		Settings: []GroupSetting{}, Groups: []string{}, Rules: []string{}, In: []string{},
	}
	for s := range estate.GroupSettings() {
		one := GroupSetting{Setting: s.Name, Values: slices.Concat([]string{}, s.Holds(n.e, g)), Default: true}
		if place := g.Where(s.Name); place != (estate.Place{}) {
			one.Default, one.Place = false, n.position(place)
		}
		a.Settings = append(a.Settings, one)
	}
	for _, entry := range n.e.Entries(id) {
		if n.e.IsGroup(entry.Member) {
			a.Groups = append(a.Groups, n.address(entry.Member))
		} else {
			a.People++
		}
	}
	for _, rule := range n.e.Rules(id) {
		a.Rules = append(a.Rules, ruleWords(rule.Filter))
	}
	for _, parent := range n.e.Parents(id) {
		a.In = append(a.In, n.address(parent.Group))
	}
	return a
}

func (a *GroupSettings) writeText(p *Page) {
	set := 0
	var own, byDefault [][]Span
	var unset []string
	for _, s := range a.Settings {
		value := strings.Join(s.Values, "; ")
		switch {
		case s.Setting == "address": // the first line says it
		case !s.Default:
			set++
			own = append(own, []Span{{Faint, s.Setting}, {Faint, s.Place}, {Plain, value}})
		case value == "":
			unset = append(unset, s.Setting)
		default:
			byDefault = append(byDefault, []Span{{Faint, s.Setting}, {Plain, value}})
		}
	}
	p.Line(2, Span{Strong, a.Group + ", " + a.name + ": " + count(set, "setting", "settings") + " of its own"},
		Span{Faint, " (" + a.Place + ")"})
	p.Gap()
	p.Table(own)
	p.Gap()
	p.Title("By default")
	p.Table(byDefault)
	if len(unset) > 0 {
		p.Gap()
		p.Line(2, Span{Faint, "Not set: " + strings.Join(unset, ", ")})
	}
	p.Gap()
	p.Title("Members as listed")
	rows := [][]Span{{{Faint, "people"}, {Plain, strconv.Itoa(a.People)}}}
	for _, one := range []struct {
		head string
		list []string
	}{{"groups", a.Groups}, {"rules", a.Rules}, {"listed in", a.In}} {
		if len(one.list) > 0 {
			rows = append(rows, []Span{{Faint, one.head}, {Plain, strings.Join(one.list, ", ")}})
		}
	}
	p.Table(rows)
}

func (a *GroupSettings) table(t *table) {
	t.head("group", "setting", "value", "default", "place")
	for _, s := range a.Settings {
		t.row(a.Group, s.Setting, s.Values, s.Default, s.Place)
	}
}
