package present

import (
	"iter"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/core/estate"
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
	Causes  []Cause       `json:"causes"` // what is written otherwise, where that is little
}

// Cause is one thing that is written otherwise in the new estate.
type Cause struct {
	Says  string `json:"says"`
	Group string `json:"group,omitempty"` // whose membership or setting it is
	Who   string `json:"who,omitempty"`   // the member, person or group
	What  string `json:"what,omitempty"`  // the setting
	File  string `json:"file,omitempty"`
	Line  int    `json:"line,omitempty"`

	membership bool
	place      string
	isNew      bool // place is in the new estate
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
	Posts    []EffectCount `json:"posts"`    // default messages, and the forged stranger's
	Receives []EffectCount `json:"receives"` // of a default message, without a sender in particular
	SendsAs  []EffectCount `json:"sendsAs"`
	// OtherPosts and OtherReceives are those of other messages and particular senders.
	OtherPosts    []EffectCount   `json:"otherPosts"`
	OtherReceives []EffectCount   `json:"otherReceives"`
	May           []EffectCount   `json:"may"`     // who approves, and what access says
	Sees          []SettingChange `json:"sees"`    // what a reader sees
	Joining       []SettingChange `json:"joining"` // what a new member gets
	// Unchecked is set where there are too many kinds of sender to look at each.
	Unchecked bool `json:"unchecked,omitempty"`
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

	Message  string   `json:"message,omitempty"`  // what it is like, if not like most
	From     []string `json:"from,omitempty"`     // some of the senders for whom it is so
	Senders  int      `json:"senders,omitempty"`  // and how many they are; 0: without a sender in particular
	Own      bool     `json:"own,omitempty"`      // it is so of everybody's own message
	OldText  string   `json:"oldText,omitempty"`  // what a sender is told
	NewText  string   `json:"newText,omitempty"`  // likewise
	OldProof string   `json:"oldProof,omitempty"` // whether they can show that the name is theirs, where it differs
	NewProof string   `json:"newProof,omitempty"` // likewise
	What     string   `json:"what,omitempty"`     // of May: approves, or a part of access
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
		Causes:  []Cause{},
	}
	a.Hazards.Appear, a.Hazards.Go = []Hazard{}, []Hazard{}
	for _, change := range report.Changes {
		a.Changes = append(a.Changes, groupChange(later, change))
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
	for _, cause := range report.Causes {
		a.Causes = append(a.Causes, newCause(before, later, cause))
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

func groupChange(later namer, c effect.Change) GroupChange {
	g := GroupChange{
		Group: later.address(c.Group.New),
		Posts: []EffectCount{}, Receives: []EffectCount{}, SendsAs: []EffectCount{},
		OtherPosts: []EffectCount{}, OtherReceives: []EffectCount{}, May: []EffectCount{},
		Sees:      settingChanges(c.Sees),
		Joining:   settingChanges(c.Joining),
		Settings:  settingChanges(c.Settings),
		Unchecked: c.Unchecked,
	}
	for _, v := range c.Posts {
		g.addPosts(v)
	}
	for _, o := range c.Receives {
		count := EffectCount{
			People: somebodies(o.People), Message: messageLike(o.Message), From: somebodies(o.From), Senders: o.Senders, Own: o.Own,
		}
		if o.Before {
			count.Old = o.Old.String()
		}
		if o.Later {
			count.New = o.New.String()
		}
		if o.Senders > 0 || count.Message != "" {
			g.OtherReceives = append(g.OtherReceives, count)
		} else {
			g.Receives = append(g.Receives, count)
		}
	}
	for _, v := range c.SendsAs {
		count := EffectCount{Old: v.Old.SendAs.String(), New: v.New.SendAs.String(), People: somebodies(v.People)}
		if v.Old.Proof != v.New.Proof {
			count.OldProof, count.NewProof = v.Old.Proof.String(), v.New.Proof.String()
		}
		g.SendsAs = append(g.SendsAs, count)
	}
	for _, m := range c.May {
		count := EffectCount{Old: "may", People: somebodies(m.People), What: m.What}
		if m.Now {
			count.Old, count.New = "", "may"
		}
		g.May = append(g.May, count)
	}
	return g
}

// addPosts adds what becomes of some senders' messages. The forged stranger stands beside
// those who send default messages.
func (g *GroupChange) addPosts(v effect.PostChange) {
	count := EffectCount{
		Old: v.Old.Verdict.String(), New: v.New.Verdict.String(), People: somebodies(v.People),
		Message: messageLike(v.Message),
	}
	if v.Old.Verdict == v.New.Verdict || v.Old.Told || v.New.Told {
		count.OldText, count.NewText = told(v.Old), told(v.New)
	}
	if v.Message == (resolve.Message{}) {
		g.Posts = append(g.Posts, count)
		return
	}
	if v.Message == (resolve.Message{Unproven: true}) {
		if i := slices.Index(count.People, forgedStranger); i >= 0 {
			forged := count
			forged.Message, forged.People = "", []string{forgedStranger}
			g.Posts = append(g.Posts, forged)
			count.People = slices.Delete(slices.Clone(count.People), i, i+1)
		}
	}
	if len(count.People) > 0 {
		g.OtherPosts = append(g.OtherPosts, count)
	}
}

const forgedStranger = "forged stranger"

// told says what a sender is told.
func told(s effect.Said) string {
	text := toldSo
	switch {
	case s.Text != "":
		text = strconv.Quote(s.Text)
	case s.NoRule:
		text = noMatch
	}
	if !s.Told && text != toldSo {
		return toldNothing + " of " + text
	}
	if !s.Told {
		return toldNothing
	}
	return text
}

const (
	toldNothing = "told nothing"
	toldSo      = "told so"
)

// somebodies names whom a difference is about.
func somebodies(list []effect.Somebody) []string {
	names := []string{}
	for _, one := range list {
		if one.Stranger != "" {
			names = append(names, one.Stranger+" stranger")
		} else {
			names = append(names, one.Address.String())
		}
	}
	return names
}

// newCause says what is written otherwise.
func newCause(before, later namer, c effect.Cause) Cause {
	cause := Cause{Who: c.Who, What: c.What}
	if c.Group.IsValid() {
		cause.Group = c.Group.String()
	}
	switch c.Kind {
	case effect.Joined:
		cause.Says, cause.membership = c.Who+" joined "+cause.Group, true
	case effect.Left:
		cause.Says, cause.membership = c.Who+" left "+cause.Group, true
	case effect.Otherwise:
		cause.Says, cause.membership = "the membership of "+c.Who+" in "+cause.Group, true
	case effect.Set:
		cause.Says = c.What + " of " + cause.Group
	case effect.SaidOf:
		cause.Says = c.What + " of " + c.Who
	case effect.Came:
		cause.Says = c.Who + " is new"
	case effect.Went:
		cause.Says = c.Who + " is gone"
	case effect.Renamed:
		cause.Says = c.Who + " has that address now"
	case effect.General:
		cause.Says = c.What + " of the estate"
	}
	n := later
	if c.InOld {
		n = before
	}
	if c.Place != (estate.Place{}) {
		cause.File, cause.Line = n.e.Settings().Files[c.Place.File], int(c.Place.Line)
		cause.place, cause.isNew = n.position(c.Place), !c.InOld
	}
	return cause
}

// IsEmpty reports whether nothing changes.
func (a *Comparison) IsEmpty() bool {
	return len(a.Estate)+len(a.Changes)+len(a.Persons)+len(a.Hazards.Appear)+len(a.Hazards.Go)+len(a.Notices)+
		len(a.Causes) == 0 && a.Groups.isEmpty() && a.People.isEmpty()
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
	p.groupChanges(a.Changes)
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
		if len(c.Sees) > 0 {
			parts["what readers see"]++
		}
		if len(c.Joining) > 0 {
			parts["what new members get"]++
		}
	}
	var said []string
	said = append(said, a.Groups.head("group", "groups")...)
	if effects > 0 {
		var in []string
		for _, name := range []string{"posting", "receiving", "send-as", "access", "what readers see", "what new members get"} {
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
	p.Line(2, Span{Strong, strings.Join(said, "; ")})
	a.writeCauses(p)
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

// part is one side of a group that changes, with the words for it.
type part struct {
	name, row string
	list      []EffectCount
}

// parts are what of a group changes.
func (c GroupChange) parts() []part {
	return []part{
		{"posting", "posting", slices.Concat(c.Posts, c.OtherPosts)},
		{"receiving", "receiving", slices.Concat(c.Receives, c.OtherReceives)},
		{"send-as", "send-as", c.SendsAs},
		{"access", "may", c.May},
	}
}

// hasEffect reports whether any answer but what the group says of itself is another one.
func (c GroupChange) hasEffect() bool {
	for _, part := range c.parts() {
		if len(part.list) > 0 {
			return true
		}
	}
	return len(c.Sees)+len(c.Joining) > 0 || c.Unchecked
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

// mostCauses is how many causes are told at most.
const mostCauses = 3

// groupChanges writes what changes for each group. Groups that change alike are written
// once.
func (p *Page) groupChanges(list []GroupChange) {
	type block struct {
		groups []string
		rows   [][]Span
		notes  []string
	}
	var blocks []*block
	at := map[string]*block{}
	for _, c := range list {
		rows := p.effects(c)
		rows = append(rows, p.namedRows("readers see", c.Sees)...)
		rows = append(rows, p.namedRows("new members", c.Joining)...)
		rows = append(rows, p.settingRows(c.Settings)...)
		var key strings.Builder
		for _, row := range rows {
			for _, span := range row {
				key.WriteString(span.Text + "\x00")
			}
		}
		if c.Unchecked {
			key.WriteString("unchecked")
		}
		b := at[key.String()]
		if b == nil {
			b = &block{rows: rows}
			if c.Unchecked {
				b.notes = []string{"! There are too many kinds of sender to compare what each of them reaches in nested groups."}
			}
			at[key.String()] = b
			blocks = append(blocks, b)
		}
		b.groups = append(b.groups, c.Group)
	}
	for _, b := range blocks {
		p.Gap()
		title := b.groups[0]
		if len(b.groups) > 1 {
			title = count(len(b.groups), "group", "groups") + ": " + p.some(b.groups)
		}
		p.Title(title)
		p.Table(b.rows)
		for _, note := range b.notes {
			p.Line(2, Span{Doubtful, note})
		}
	}
}

// namedRows are rows of what is seen or got otherwise.
func (p *Page) namedRows(what string, list []SettingChange) [][]Span {
	var rows [][]Span
	for _, s := range list {
		rows = append(rows, []Span{{Plain, what}, {Strong, s.Name}, {Plain, ""}, {Plain, p.values(s.Old) + " -> " + p.values(s.New)}})
	}
	return rows
}

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
			for ; i < len(part.list) && part.list[i].isLike(first); i++ {
				for _, name := range part.list[i].People {
					if label, ok := strangerLabels[name]; ok {
						name = label
					}
					who = append(who, name)
				}
			}
			rows = append(rows, []Span{
				{Plain, part.row}, {Strong, first.arrow(part.row)}, {Plain, strconv.Itoa(len(who))},
				{Plain, p.some(who) + first.when(p)},
			})
		}
	}
	return rows
}

// isLike reports whether a change is like another, but for whom it is about.
func (c EffectCount) isLike(other EffectCount) bool {
	other.People = c.People
	return reflect.DeepEqual(c, other)
}

// when says of which message and sender a change is, and what is told, "" for a default
// message.
func (c EffectCount) when(p *Page) string {
	var parts []string
	if c.Message != "" {
		parts = append(parts, "if the message is "+c.Message)
	}
	switch {
	case c.Own:
		parts = append(parts, "of their own message")
	case c.Senders > 0:
		var from []string
		for _, name := range c.From {
			if label, ok := strangerLabels[name]; ok {
				name = label
			}
			from = append(from, name)
		}
		text := "from " + strings.Join(from, ", ")
		if more := c.Senders - len(from); more > 0 {
			text += " and " + strconv.Itoa(more) + " more"
		}
		parts = append(parts, text)
	}
	switch {
	case c.OldText == c.NewText:
	case c.Old == c.New:
		parts = append(parts, c.OldText+" -> "+c.NewText)
	case strings.HasPrefix(c.NewText, "\""):
		parts = append(parts, "told: "+c.NewText)
	}
	if c.OldProof != c.NewProof {
		parts = append(parts, "proof "+c.OldProof+" -> "+c.NewProof)
	}
	if parts == nil {
		return ""
	}
	return "; " + strings.Join(parts, ", ")
}

// arrow says what one thing becomes.
func (c EffectCount) arrow(row string) string {
	if c.What != "" {
		if c.New == "" {
			return "no longer " + c.What
		}
		return c.What
	}
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
	if c.Old == c.New {
		return word(c.Old)
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

// kind is what a row of a table is about.
func (c EffectCount) kind(name string) string {
	if c.What != "" {
		return name + " " + c.What
	}
	if when := strings.TrimPrefix(c.when(&Page{}), "; "); when != "" {
		return name + " (" + when + ")"
	}
	return name
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
		add(c.Group, "", slices.Concat(c.Sees, c.Joining, c.Settings))
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
			}{
				{"posts", slices.Concat(c.Posts, c.OtherPosts)}, {"receives", slices.Concat(c.Receives, c.OtherReceives)},
				{"sends-as", c.SendsAs}, {"may", c.May},
			} {
				for _, change := range kind.list {
					for _, person := range change.People {
						if !yield([]string{change.kind(kind.name), c.Group, person, change.Old, change.New}) {
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
