package present

import (
	"crypto/sha256"
	"slices"
	"strconv"
	"strings"
)

func (a *Comparison) writeText(p *Page) {
	if a.IsEmpty() {
		p.Line(0, Span{Good, "Nothing changes for anybody."})
		return
	}
	rest := *a
	rest.Open = nil
	if rest.IsEmpty() {
		p.Line(0, Span{Doubtful, "Nothing else changes, but " + count(len(a.Open), "difference is", "differences are") +
			" open: what they do is not known"})
	} else {
		a.writeHead(p)
		a.writeBody(p)
	}
	if len(a.Open) > 0 {
		p.Gap()
		p.Title("Open (" + strconv.Itoa(len(a.Open)) + ")")
	}
	p.first(len(a.Open), mostShown, "more", func(i int) { p.Line(4, Span{Plain, "  " + a.Open[i]}) })
}

// writeBody says what changes, and who is concerned.
func (a *Comparison) writeBody(p *Page) {
	a.Groups.write(p, "Groups")
	a.People.write(p, "People")
	p.settings("The estate", a.Estate)
	p.first(len(a.Persons), mostShown, "more with other differences", func(i int) {
		p.settings(a.Persons[i].Address, a.Persons[i].Settings)
	})
	p.groupChanges(a.Changes)
	if list := a.Hazards.Appear; len(list) > 0 {
		p.Gap()
		p.Title("New hazards (" + strconv.Itoa(len(list)) + ")")
		p.findings(slices.Values(list))
	}
	if list := a.Hazards.Accepted; len(list) > 0 {
		p.Gap()
		p.Title("Hazards that are accepted from now on (" + strconv.Itoa(len(list)) + ")")
		p.inShort(list)
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

// touched counts the groups for which an answer changes, and in which parts.
func (a *Comparison) touched() (effects int, parts map[string]int) {
	parts = map[string]int{}
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
		if len(c.Sees) > 0 {
			parts["what readers see"]++
		}
		if len(c.Joining) > 0 {
			parts["what new members get"]++
		}
	}
	return effects, parts
}

// writeHead says how much changes, and what of it must not be missed.
func (a *Comparison) writeHead(p *Page) {
	effects, parts := a.touched()
	var said []string
	said = append(said, a.Groups.head("group", "groups")...)
	if effects > 0 {
		var in []string
		for _, name := range []string{"posting", "receiving", "send-as", "access", "what readers see",
			"what new members get"} {
			if n := parts[name]; n > 0 && effects > 1 {
				in = append(in, name+" in "+strconv.Itoa(n))
			} else if n > 0 {
				in = append(in, "in "+name)
			}
		}
		if in == nil {
			in = []string{"in nested groups"}
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
	head := strings.Join(said, "; ")
	if a.Drift != nil {
		head = "The sources say otherwise: " + head
	}
	p.Line(2, Span{Strong, head})
	if a.Drift != nil {
		p.Line(2, Span{Plain, "Each change is from " + a.Drift.Estate + " to what " + strings.Join(a.Drift.Sources, ", ") +
			" now " + map[bool]string{true: "says", false: "say"}[len(a.Drift.Sources) == 1]})
	}
	a.writeCauses(p)
	var more []Span
	if n := len(a.Hazards.Appear); n > 0 {
		more = append(more, Span{Bad, "! " + count(n, "new hazard", "new hazards")}, Span{Plain, ". "})
	}
	if n := len(a.Hazards.Accepted); n > 0 {
		more = append(more, Span{Plain, count(n, "hazard is accepted. ", "hazards are accepted. ")})
	}
	if n := len(a.Hazards.Go); n > 0 {
		more = append(more, Span{Plain, count(n, "hazard disappears. ", "hazards disappear. ")})
	}
	welcome := Span{Plain, "No welcome mail is sent."}
	switch {
	case a.Drift != nil && a.Total > 0:
		welcome = Span{Doubtful, "An import sends " + count(a.Total, "welcome mail.", "welcome mails.")}
	case a.Drift != nil:
		welcome = Span{}
	case a.Total > 0:
		welcome = Span{Doubtful, count(a.Total, "welcome mail is sent.", "welcome mails are sent.")}
	}
	if more = append(more, welcome); len(more) > 1 || welcome.Text != "" {
		p.Line(2, more...)
	}
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

// part is one side of a group that changes, with the words for it.
type part struct {
	name, row string
	list      []EffectCount
}

// parts are what of a group changes.
func (c ChangedGroup) parts() []part {
	return []part{
		{"posting", "posting", slices.Concat(c.Posts, c.OtherPosts)},
		{"receiving", "receiving", slices.Concat(c.Receives, c.OtherReceives)},
		{"send-as", "send-as", c.SendsAs},
		{"access", "may", c.May},
	}
}

// hasEffect reports whether any answer but what the group says of itself is another one.
func (c ChangedGroup) hasEffect() bool {
	for _, part := range c.parts() {
		if len(part.list) > 0 {
			return true
		}
	}
	return len(c.Sees)+len(c.Joining) > 0
}

// writeCauses says what is written otherwise, where that is little.
func (a *Comparison) writeCauses(p *Page) {
	if len(a.Causes) == 0 {
		return
	}
	causes := p.gathered(a.Causes)
	shown := causes
	if len(shown) > mostCauses && !p.options.All {
		shown = shown[:mostCauses]
	}
	noun := []string{"difference", "differences"}
	if !slices.ContainsFunc(a.Causes, func(c Cause) bool { return !c.membership }) {
		noun = []string{"membership", "memberships"}
	}
	var says []string
	for _, c := range shown {
		text := c.Says
		if c.place != "" {
			text += " (" + c.place + ")"
		}
		says = append(says, text)
	}
	n := strconv.Itoa(len(a.Causes))
	if n == "1" {
		n = "one"
	}
	text := "Because of " + n + " " + choose(len(a.Causes), noun[0], noun[1]) + ": " + strings.Join(says, "; ")
	if more := len(causes) - len(shown); more > 0 {
		text += "; and " + strconv.Itoa(more) + " more (--all)"
	}
	p.Line(2, Span{Plain, text})
}

// gathered returns causes so that one setting of several groups is one of them.
func (p *Page) gathered(list []Cause) []Cause {
	groups := map[string][]string{}
	for _, c := range list {
		if c.isSetting() {
			groups[c.What] = append(groups[c.What], c.Group)
		}
	}
	var gathered []Cause
	for _, c := range list {
		of := groups[c.What]
		switch {
		case !c.isSetting() || len(of) == 1:
			gathered = append(gathered, c)
		case of[0] == c.Group:
			gathered = append(gathered, Cause{Says: c.What + " of " + p.some(of)})
		}
	}
	return gathered
}

// isSetting reports whether a cause is a setting of a group.
func (c Cause) isSetting() bool { return c.Group != "" && c.What != "" }

// mostCauses is how many causes are listed at most.
const mostCauses = 3

// groupBlock are groups that change alike.
type groupBlock struct {
	groups  []string
	rows    []changeRow
	several bool // their people differ
}

// key is the same for blocks that say the same; with people only of the same people.
func (b *groupBlock) key(people bool) [sha256.Size]byte {
	hash := sha256.New()
	for _, row := range b.rows {
		row.digest(hash, people)
	}
	return [sha256.Size]byte(hash.Sum(nil))
}

// merged makes one of blocks with the same key, in the order of the first of each; numbers are added up.
func merged(blocks []*groupBlock, people bool) []*groupBlock {
	var list []*groupBlock
	at := map[[sha256.Size]byte]*groupBlock{}
	for _, b := range blocks {
		key := b.key(people)
		one := at[key]
		if one == nil {
			at[key] = b
			list = append(list, b)
			continue
		}
		one.groups, one.several = append(one.groups, b.groups...), !people
		for i := range one.rows {
			if !people {
				one.rows[i].n += b.rows[i].n
			}
		}
	}
	return list
}

// groupChanges writes what changes for each group. Groups that change alike are written
// once; of very many, those whose people alone differ become one.
func (p *Page) groupChanges(list []ChangedGroup) {
	var blocks []*groupBlock
	for _, c := range list {
		blocks = append(blocks, &groupBlock{groups: []string{c.Group}, rows: c.rows(p)})
	}
	blocks = merged(blocks, true)
	const most = 20
	if len(blocks) > most && !p.options.All {
		for _, b := range blocks {
			b.several = len(b.groups) > 1
			for i := range b.rows {
				b.rows[i].n *= len(b.groups)
			}
		}
		blocks = merged(blocks, false)
		slices.SortStableFunc(blocks, func(a, b *groupBlock) int { return len(b.groups) - len(a.groups) })
	}
	shown := p.shown(len(blocks), most)
	for _, b := range blocks[:shown] {
		p.Gap()
		title := b.groups[0]
		if len(b.groups) > 1 {
			title = count(len(b.groups), "group", "groups") + ": " + p.some(b.groups)
		}
		p.Title(title)
		var rows [][]Span
		for _, row := range b.rows {
			rows = append(rows, row.spans(p, b.several))
		}
		p.Table(rows)
	}
	if shown < len(blocks) {
		p.Gap()
		p.more(len(blocks)-shown, "more kinds of change")
	}
}

// settings writes the settings that differ under a title, if there are any.
func (p *Page) settings(title string, list []SettingChange) {
	if len(list) > 0 {
		p.Gap()
		p.Title(title)
		var rows [][]Span
		for _, row := range p.settingRows(list) {
			rows = append(rows, row.spans(p, false))
		}
		p.Table(rows)
	}
}

// settingRows are the rows of settings that differ.
func (p *Page) settingRows(list []SettingChange) []changeRow {
	var rows []changeRow
	for _, s := range list {
		if s.Name != "members" {
			rows = append(rows, changeRow{what: "setting", change: s.Name, says: p.values(s.Old) + " -> " + p.values(s.New)})
			continue
		}
		if len(s.Old) > 0 {
			rows = append(rows, changeRow{what: "entries", change: "removed", says: p.some(s.Old)})
		}
		if len(s.New) > 0 {
			rows = append(rows, changeRow{what: "entries", change: "added", says: p.some(s.New)})
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

// inShort writes hazards in a line each: their names, groups and who they are about.
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

func (a *Comparison) table(t *table) {
	t.head("what", "group", "who", "old", "new")
	for _, kind := range []struct {
		name string
		list PartyChanges
	}{{"group", a.Groups}, {"person", a.People}} {
		for _, s := range kind.list.Added {
			t.row(kind.name, "", s, "", "added")
		}
		for _, s := range kind.list.Removed {
			t.row(kind.name, "", s, "removed", "")
		}
		for _, r := range kind.list.Renamed {
			t.row(kind.name, "", r.New, r.Old, r.New)
		}
	}
	for _, text := range a.Open {
		t.row("open", "", "", "", text)
	}
	for _, c := range a.Changes {
		for _, kind := range []struct {
			name string
			list []EffectCount
		}{
			{"posts", slices.Concat(c.Posts, c.OtherPosts)}, {"receives", slices.Concat(c.Receives, c.OtherReceives)},
			{"sends-as", c.SendsAs}, {"may", c.May},
		} {
			for _, change := range kind.list {
				for _, person := range change.People {
					t.row(change.kind(kind.name), c.Group, person, change.Old, change.New)
				}
			}
		}
	}
	settings := func(group, who string, list []SettingChange) {
		for _, s := range list {
			t.row("setting "+s.Name, group, who, s.Old, s.New)
		}
	}
	settings("", "", a.Estate)
	for _, c := range a.Changes {
		settings(c.Group, "", slices.Concat(c.Sees, c.Joining, c.Settings))
	}
	for _, one := range a.Persons {
		settings("", one.Address, one.Settings)
	}
	for _, n := range a.Notices {
		for _, person := range n.People {
			t.row("welcome notice", n.Group, person, "", "")
		}
	}
}
