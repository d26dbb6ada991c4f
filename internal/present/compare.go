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
	a.writeBody(p)
}

// writeBody says what changes, for whom.
func (a *Comparison) writeBody(p *Page) {
	a.Groups.write(p, "Groups")
	a.People.write(p, "People")
	p.settings("The estate", a.Estate)
	for i, one := range a.Persons {
		if i == mostShown && !p.options.All {
			more := count(len(a.Persons)-i, "more person", "more people")
			p.Line(4, Span{Faint, "  and " + more + " with other differences (--all)"})
			break
		}
		p.settings(one.Address, one.Settings)
	}
	for _, c := range a.Changes {
		p.Gap()
		p.Title(c.Group)
		p.Table(append(p.effects(c), p.settingRows(c.Settings)...))
	}
	if list := a.Hazards.Appear; len(list) > 0 {
		p.Gap()
		p.Title("New hazards (" + strconv.Itoa(len(list)) + ")")
		p.findings(list)
	}
	if list := a.Hazards.Go; len(list) > 0 {
		p.Gap()
		p.Title("Hazards that disappear (" + strconv.Itoa(len(list)) + ")")
		p.inShort(list)
	}
	var blocks []block
	for _, n := range a.Notices {
		blocks = append(blocks, block{word: Span{Plain, "new"}, text: n.Group, people: n.People})
	}
	p.blocks("Welcome mail", blocks)
}

// writeHead says how much changes, and what of it must not be missed.
func (a *Comparison) writeHead(p *Page) {
	effects := 0
	parts := map[string]int{}
	for _, c := range a.Changes {
		if !c.hasEffect() {
			continue
		}
		effects++
		for _, part := range c.parts() {
			if len(part.list) > 0 {
				parts[part.name]++
			}
		}
	}
	var said []string
	said = append(said, a.Groups.head("group", "groups")...)
	if effects > 0 {
		var in []string
		for _, part := range (GroupChange{}).parts() {
			if n := parts[part.name]; n > 0 && effects > 1 {
				in = append(in, part.name+" in "+strconv.Itoa(n))
			} else if n > 0 {
				in = append(in, "in "+part.name)
			}
		}
		said = append(said, count(effects, "group changes", "groups change")+" ("+strings.Join(in, ", ")+")")
	}
	if n := len(a.Changes) - effects; n > 0 {
		said = append(said, count(n, "group changes in settings only", "groups change in settings only"))
	}
	said = append(said, a.People.head("person", "people")...)
	if n := len(a.Persons); n > 0 {
		said = append(said, count(n, "person changes", "people change"))
	}
	if len(a.Estate) > 0 {
		said = append(said, count(len(a.Estate), "setting of the estate changes", "settings of the estate change"))
	}
	if len(said) == 0 {
		said = []string{"No group and no person changes"}
	}
	p.Line(2, Span{Strong, strings.Join(said, "; ")})
	var more []Span
	if n := len(a.Hazards.Appear); n > 0 {
		more = append(more, Span{Bad, "! " + count(n, "new hazard", "new hazards")}, Span{Plain, ". "})
	}
	if n := len(a.Hazards.Go); n > 0 {
		more = append(more, Span{Plain, count(n, "hazard disappears. ", "hazards disappear. ")})
	}
	welcome := Span{Plain, "No welcome mail is sent."}
	if a.Total > 0 {
		welcome = Span{Doubtful, count(a.Total, "welcome mail is sent.", "welcome mails are sent.")}
	}
	p.Line(2, append(more, welcome)...)
}

// head says how many groups or people are added, removed and renamed.
func (c PartyChanges) head(one, many string) []string {
	var said []string
	for _, part := range []struct {
		n    int
		verb string
	}{{len(c.Added), " added"}, {len(c.Removed), " removed"}, {len(c.Renamed), " renamed"}} {
		if part.n > 0 {
			said = append(said, count(part.n, one, many)+part.verb)
		}
	}
	return said
}

// parts are what of a group changes, with the words for each.
func (c GroupChange) parts() []struct {
	name, row string
	list      []EffectCount
} {
	return []struct {
		name, row string
		list      []EffectCount
	}{{"posting", "posting", c.Posts}, {"receiving", "receiving", c.Receives}, {"send-as", "send-as", c.SendsAs}}
}

// hasEffect reports whether anybody posts, receives or sends as a group otherwise.
func (c GroupChange) hasEffect() bool { return len(c.Posts)+len(c.Receives)+len(c.SendsAs) > 0 }

// settings writes the settings that differ under a title, if there are any.
func (p *Page) settings(title string, list []SettingChange) {
	if len(list) > 0 {
		p.Gap()
		p.Title(title)
		p.Table(p.settingRows(list))
	}
}

// settingRows are the rows of settings that differ, laid out as those of effects.
func (p *Page) settingRows(list []SettingChange) [][]Span {
	var rows [][]Span
	row := func(what, change, which string) {
		rows = append(rows, []Span{{Plain, what}, {Strong, change}, {Plain, ""}, {Plain, which}})
	}
	for _, s := range list {
		if s.Name != "members" {
			row("setting", s.Name, p.values(s.Old)+" -> "+p.values(s.New))
			continue
		}
		if len(s.Old) > 0 {
			row("entries", "removed", p.some(s.Old))
		}
		if len(s.New) > 0 {
			row("entries", "added", p.some(s.New))
		}
	}
	return rows
}

// values words what a setting says.
func (p *Page) values(list []string) string {
	if len(list) == 0 {
		return "not set"
	}
	return p.some(list)
}

func (c PartyChanges) write(p *Page, title string) {
	blocks := []block{}
	if len(c.Added) > 0 {
		blocks = append(blocks, block{word: Span{Plain, "added"}, people: c.Added})
	}
	if len(c.Removed) > 0 {
		blocks = append(blocks, block{word: Span{Doubtful, "removed"}, people: c.Removed})
	}
	var renamed []string
	for _, r := range c.Renamed {
		renamed = append(renamed, r.Old+" -> "+r.New)
	}
	if len(renamed) > 0 {
		blocks = append(blocks, block{word: Span{Doubtful, "renamed"}, people: renamed})
	}
	p.blocks(title, blocks)
}

// strangerLabels are how strangers are called in text.
var strangerLabels = map[string]string{
	"outside stranger": "anyone outside",
	"inside stranger":  "unknown inside address",
	"forged stranger":  "forged",
}

// effects are the rows of what changes for whom in a group; what is the same change is
// one row.
func (p *Page) effects(c GroupChange) [][]Span {
	var rows [][]Span
	for _, part := range c.parts() {
		for i := 0; i < len(part.list); {
			first := part.list[i]
			var who []string
			for ; i < len(part.list) && part.list[i].Old == first.Old && part.list[i].New == first.New; i++ {
				for _, name := range part.list[i].People {
					if label, ok := strangerLabels[name]; ok {
						name = label
					}
					who = append(who, name)
				}
			}
			rows = append(rows, []Span{
				{Plain, part.row}, {Strong, first.arrow(part.row)}, {Plain, strconv.Itoa(len(who))}, {Plain, p.some(who)},
			})
		}
	}
	return rows
}

// arrow says what one thing becomes.
func (c EffectCount) arrow(row string) string {
	none := map[string]string{"receiving": "no recipient", "send-as": "no right"}[row]
	word := func(text string) string {
		switch text {
		case "":
			return none
		case "nothing":
			return "no copy"
		}
		return text
	}
	return word(c.Old) + " -> " + word(c.New)
}

// inShort writes hazards in a line each: their names, groups and whom they are about.
func (p *Page) inShort(list []Hazard) {
	for i := 0; i < len(list); {
		first := list[i]
		var about []string
		for ; i < len(list) && list[i].Name == first.Name && list[i].Group == first.Group; i++ {
			if list[i].Address != "" {
				about = append(about, list[i].Address)
			}
		}
		text := "  " + first.Group
		if len(about) > 0 {
			text += ": " + p.some(about)
		}
		p.Line(6, Span{Plain, "  "}, Span{severityStyle(first.Severity), first.Severity}, Span{Plain, "  "},
			Span{Strong, first.Name}, Span{Plain, text})
	}
}

// settingCells are the rows of settings that differ: of the estate, groups and people.
func (a *Comparison) settingCells() [][]string {
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
		for _, row := range a.settingCells() {
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
