package present

import (
	"iter"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Comparison is what changes from one estate to another.
type Comparison struct {
	Estate  []SettingChange `json:"estate"` // what the estates say of themselves
	Groups  PartyChanges    `json:"groups"`
	People  PartyChanges    `json:"people"`
	Changes []GroupChange   `json:"changes"`
	Persons []PersonChange  `json:"persons"`
	Hazards struct {
		Appear []Hazard `json:"appear"`
		Go     []Hazard `json:"go"`
	} `json:"hazards"`
	Notices []NoticeCount `json:"notices"`
	Total   int           `json:"totalNotices"`
}

// PartyChanges are groups or people that come, go or have another main address.
type PartyChanges struct {
	Added   []string  `json:"added"`
	Removed []string  `json:"removed"`
	Renamed []Renamed `json:"renamed"`
}

// Renamed is somebody with another main address.
type Renamed struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// GroupChange is what changes for one group.
type GroupChange struct {
	Group    string        `json:"group"`
	Posts    []EffectCount `json:"posts"`
	Receives []EffectCount `json:"receives"`
	SendsAs  []EffectCount `json:"sendsAs"`
	// Settings differ, and change nothing of the above.
	Settings []SettingChange `json:"settings"`
}

// SettingChange is a setting that says something else. An empty list is the default,
// or nothing; of members it is those that only one has.
type SettingChange struct {
	Name string   `json:"name"`
	Old  []string `json:"old"`
	New  []string `json:"new"`
}

// PersonChange is what is said otherwise of a person.
type PersonChange struct {
	Address  string          `json:"address"`
	Settings []SettingChange `json:"settings"`
}

func settingChanges(list []effect.SettingChange) []SettingChange {
	changes := []SettingChange{}
	for _, one := range list {
		changes = append(
			changes,
			SettingChange{one.Name, append([]string{}, one.Old...), append([]string{}, one.New...)},
		)
	}
	return changes
}

// EffectCount is one kind of change, and for whom.
type EffectCount struct {
	Old    string   `json:"old"` // "" for none
	New    string   `json:"new"`
	People []string `json:"people"` // addresses, or a stranger such as "outside stranger"
}

// NoticeCount is how many welcome notices a group sends.
type NoticeCount struct {
	Group  string   `json:"group"`
	Count  int      `json:"count"`
	People []string `json:"people"`
}

// NewComparison compares two estates.
func NewComparison(older, newer *resolve.Resolver) *Comparison {
	before, later := newNamer(older), newNamer(newer)
	report := effect.Compare(older, newer)
	a := &Comparison{
		Estate:  settingChanges(report.Estate),
		Persons: []PersonChange{},
		Groups:  parties(before, later, report.Groups),
		People:  parties(before, later, report.People),
		Changes: []GroupChange{},
		Notices: []NoticeCount{},
		Total:   report.Count(),
	}
	a.Hazards.Appear, a.Hazards.Go = []Hazard{}, []Hazard{}
	for _, change := range report.Changes {
		a.Changes = append(a.Changes, groupChange(before, later, change))
	}
	for _, p := range report.Persons {
		a.Persons = append(a.Persons, PersonChange{later.address(p.Person.New), settingChanges(p.Settings)})
	}
	for _, f := range report.Appearing {
		a.Hazards.Appear = append(a.Hazards.Appear, later.hazard(f))
	}
	for _, f := range report.Going {
		a.Hazards.Go = append(a.Hazards.Go, before.hazard(f))
	}
	for _, notice := range report.Notices {
		a.Notices = append(
			a.Notices,
			NoticeCount{later.address(notice.Group), len(notice.People), later.addresses(notice.People)},
		)
	}
	return a
}

func parties(before, later namer, p effect.Parties) PartyChanges {
	changes := PartyChanges{Added: later.addresses(p.Added), Removed: before.addresses(p.Removed), Renamed: []Renamed{}}
	for _, pair := range p.Renamed {
		changes.Renamed = append(changes.Renamed, Renamed{before.address(pair.Old), later.address(pair.New)})
	}
	return changes
}

func groupChange(before, later namer, c effect.Change) GroupChange {
	g := GroupChange{
		Group:    later.address(c.Group.New),
		Posts:    []EffectCount{},
		Receives: []EffectCount{},
		SendsAs:  []EffectCount{},
		Settings: settingChanges(c.Settings),
	}
	for _, s := range c.Strangers {
		g.Posts = append(
			g.Posts,
			EffectCount{s.Old.Verdict.String(), s.New.Verdict.String(), []string{s.Stranger + " stranger"}},
		)
	}
	for _, v := range c.Posts {
		g.Posts = append(g.Posts, EffectCount{v.Old.String(), v.New.String(), later.addresses(v.People)})
	}
	for _, o := range c.Receives {
		count := EffectCount{People: []string{}}
		if o.Before {
			count.Old = o.Old.String()
		}
		if o.Later {
			count.New = o.New.String()
		}
		if o.Gone {
			count.People = before.addresses(o.People)
		} else {
			count.People = later.addresses(o.People)
		}
		g.Receives = append(g.Receives, count)
	}
	for _, v := range c.SendsAs {
		g.SendsAs = append(g.SendsAs, EffectCount{v.Old.String(), v.New.String(), later.addresses(v.People)})
	}
	return g
}

// IsEmpty reports whether nothing changes.
func (a *Comparison) IsEmpty() bool {
	return len(a.Estate)+len(a.Changes)+len(a.Persons)+len(a.Hazards.Appear)+len(a.Hazards.Go)+len(a.Notices) == 0 &&
		a.Groups.isEmpty() && a.People.isEmpty()
}

func (c PartyChanges) isEmpty() bool { return len(c.Added)+len(c.Removed)+len(c.Renamed) == 0 }

func (a *Comparison) writeText(p *Page) {
	if a.IsEmpty() {
		p.Line(0, Span{Good, "Nothing changes for anybody."})
		return
	}
	a.writeHead(p)
	a.Groups.write(p, "Groups")
	a.People.write(p, "People")
	p.settings("The estate", a.Estate)
	for i, one := range a.Persons {
		if i == mostRest+2 && !p.options.All {
			more := count(len(a.Persons)-i, "more person", "more people")
			p.Line(4, Span{Faint, "  and " + more + " with other differences"})
			p.cut = true
			break
		}
		p.settings(one.Address, one.Settings)
	}
	for _, c := range a.Changes {
		p.Gap()
		p.Title(c.Group)
		for _, kind := range []struct {
			verb string
			list []EffectCount
		}{{"posting", c.Posts}, {"receiving", c.Receives}, {"sending as", c.SendsAs}} {
			for _, change := range kind.list {
				p.effect(kind.verb, change)
			}
		}
		p.settingLines(c.Settings)
	}
	p.findings("Hazards that appear", a.Hazards.Appear, Bad)
	p.findings("Hazards that go", a.Hazards.Go, Good)
	var blocks []block
	for _, n := range a.Notices {
		blocks = append(blocks, block{word: Span{Doubtful, "welcome"}, text: "new in " + n.Group, people: n.People})
	}
	p.blocks("Welcome notices", blocks, mostRest)
	p.hint()
}

// writeHead tells how much changes.
func (a *Comparison) writeHead(p *Page) {
	effects := 0
	for _, c := range a.Changes {
		if c.hasEffect() {
			effects++
		}
	}
	changes := count(effects, "group changes", "groups change")
	if effects == 0 && !a.Groups.isEmpty() {
		changes = "No other group changes"
	}
	settings := ""
	if only := len(a.Changes) - effects; only > 0 {
		settings = ", " + strconv.Itoa(only) + " in settings only"
	}
	appear := count(len(a.Hazards.Appear), "hazard appears", "hazards appear")
	p.Line(2, Span{Strong, changes},
		Span{Plain, " in effect" + settings + "; " + appear + ", " + count(len(a.Hazards.Go), "goes", "go") + "; "},
		Span{Doubtful, count(a.Total, "welcome notice", "welcome notices")}, Span{Plain, " would go out"})
}

// hasEffect reports whether anybody posts, receives or sends as a group otherwise.
func (c GroupChange) hasEffect() bool { return len(c.Posts)+len(c.Receives)+len(c.SendsAs) > 0 }

// settings writes the settings that differ under a title, if there are any.
func (p *Page) settings(title string, list []SettingChange) {
	if len(list) > 0 {
		p.Gap()
		p.Title(title)
		p.settingLines(list)
	}
}

func (p *Page) settingLines(list []SettingChange) {
	for _, s := range list {
		if s.Name == "members" {
			for _, only := range []struct {
				when string
				list []string
			}{{"only before", s.Old}, {"only after", s.New}} {
				if len(only.list) > 0 {
					p.Line(
						6,
						Span{Plain, "  memberships " + only.when + ", " + strconv.Itoa(len(only.list)) + ": "},
						Span{Strong, p.values(only.list)},
					)
				}
			}
			continue
		}
		p.Line(
			6,
			Span{Plain, "  setting "},
			Span{Strong, s.Name},
			Span{Plain, ": " + p.values(s.Old) + " becomes " + p.values(s.New)},
		)
	}
}

// values words what a setting says.
func (p *Page) values(list []string) string {
	const most = 3
	switch {
	case len(list) == 0:
		return "nothing"
	case len(list) > most && !p.options.All:
		p.cut = true
		return strings.Join(list[:most], "; ") + "; and " + strconv.Itoa(len(list)-most) + " more"
	}
	return strings.Join(list, "; ")
}

func (c PartyChanges) write(p *Page, title string) {
	blocks := []block{}
	if len(c.Added) > 0 {
		blocks = append(blocks, block{word: Span{Good, "added"}, people: c.Added})
	}
	if len(c.Removed) > 0 {
		blocks = append(blocks, block{word: Span{Bad, "removed"}, people: c.Removed})
	}
	var renamed []string
	for _, r := range c.Renamed {
		renamed = append(renamed, r.Old+" is "+r.New)
	}
	if len(renamed) > 0 {
		blocks = append(blocks, block{word: Span{Doubtful, "renamed"}, people: renamed})
	}
	p.blocks(title, blocks, mostRest)
}

// effect writes one kind of change and for whom.
func (p *Page) effect(verb string, c EffectCount) {
	or := func(word string) string {
		if word == "" {
			return "nothing"
		}
		return word
	}
	text := ""
	switch {
	case verb == "sending as" && c.Old == "":
		text = "may send " + c.New + " the group"
	case verb == "sending as" && c.New == "":
		text = "may no longer send " + c.Old + " the group"
	case c.Old == "":
		text = "starts: " + c.New
	case c.New == "":
		text = "stops: was " + c.Old
	default:
		text = or(c.Old) + " becomes " + or(c.New)
	}
	shown, more := c.People, ""
	if !p.options.All && len(shown) > mostRest+2 {
		shown, more = shown[:mostRest], ", and "+strconv.Itoa(len(c.People)-mostRest)+" more"
		p.cut = true
	}
	p.Line(
		6,
		Span{Plain, "  " + verb + ", " + strconv.Itoa(len(c.People)) + ": "},
		Span{Strong, text},
		Span{Plain, "  " + strings.Join(shown, ", ")},
		Span{Faint, more},
	)
}

// findings writes hazards in short.
func (p *Page) findings(title string, list []Hazard, style Style) {
	if len(list) == 0 {
		return
	}
	p.Gap()
	p.Title(title + " (" + strconv.Itoa(len(list)) + ")")
	for i, h := range list {
		if i == mostRest+2 && !p.options.All {
			p.Line(4, Span{Faint, "  and " + strconv.Itoa(len(list)-i) + " more"})
			p.cut = true
			return
		}
		p.Line(4, Span{style, "  " + h.Name}, Span{Plain, "  " + h.Says})
	}
}

// settingRows are the rows of settings that differ: of the estate, groups and people.
func (a *Comparison) settingRows() [][]string {
	var rows [][]string
	add := func(group, who string, list []SettingChange) {
		for _, s := range list {
			rows = append(
				rows,
				[]string{"setting " + s.Name, group, who, strings.Join(s.Old, "; "), strings.Join(s.New, "; ")},
			)
		}
	}
	add("", "", a.Estate)
	for _, c := range a.Changes {
		add(c.Group, "", c.Settings)
	}
	for _, one := range a.Persons {
		add("", one.Address, one.Settings)
	}
	return rows
}

func (a *Comparison) table() ([]string, iter.Seq[[]string]) {
	return []string{"what", "group", "who", "old", "new"}, func(yield func([]string) bool) {
		for _, kind := range []struct {
			name string
			list PartyChanges
		}{{"group", a.Groups}, {"person", a.People}} {
			for _, s := range kind.list.Added {
				if !yield([]string{kind.name, "", s, "", "added"}) {
					return
				}
			}
			for _, s := range kind.list.Removed {
				if !yield([]string{kind.name, "", s, "removed", ""}) {
					return
				}
			}
			for _, r := range kind.list.Renamed {
				if !yield([]string{kind.name, "", r.New, r.Old, r.New}) {
					return
				}
			}
		}
		for _, c := range a.Changes {
			for _, kind := range []struct {
				name string
				list []EffectCount
			}{{"posts", c.Posts}, {"receives", c.Receives}, {"sends-as", c.SendsAs}} {
				for _, change := range kind.list {
					for _, person := range change.People {
						if !yield([]string{kind.name, c.Group, person, change.Old, change.New}) {
							return
						}
					}
				}
			}
		}
		for _, row := range a.settingRows() {
			if !yield(row) {
				return
			}
		}
		for _, n := range a.Notices {
			for _, person := range n.People {
				if !yield([]string{"welcome notice", n.Group, person, "", ""}) {
					return
				}
			}
		}
	}
}
