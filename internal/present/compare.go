package present

import (
	"slices"
	"strconv"

	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Comparison is what changes from one estate to another.
type Comparison struct {
	Estate  []SettingChange `json:"estate"` // what the estates say of themselves
	Groups  PartyChanges    `json:"groups"`
	People  PartyChanges    `json:"people"`
	Changes []ChangedGroup  `json:"changes"`
	Persons []PersonChange  `json:"persons"`
	Hazards struct {
		Appear []Hazard `json:"appear"`
		Go     []Hazard `json:"go"`
		// Accepted are those that were there before, and are intended from now on.
		Accepted []Hazard `json:"accepted,omitempty"`
	} `json:"hazards"`
	Notices []NoticeCount `json:"notices"`
	Total   int           `json:"totalNotices"`
	Causes  []Cause       `json:"causes"` // what is written otherwise, where that is little
	// Open is what sources and an estate may differ by, and nothing here tells.
	Open []string `json:"open,omitempty"`
	// Drift names the sides where sources are compared with the estate that follows them: each
	// change is one from what the estate says to what the sources say now.
	Drift *Drift `json:"drift,omitempty"`
}

// A Drift names an estate and the sources that it follows.
type Drift struct {
	Estate  string   `json:"estate"`
	Sources []string `json:"sources"`
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

// ChangedGroup is what changes for one group.
type ChangedGroup struct {
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

// EffectCount is one kind of change, and the people it concerns.
type EffectCount struct {
	Old    string   `json:"old"` // "" for none
	New    string   `json:"new"`
	People []string `json:"people"` // addresses, or a stranger such as "outside stranger"

	Message  string   `json:"message,omitempty"`  // what it is like, if not like most
	From     []string `json:"from,omitempty"`     // some of the senders that it is true of
	Senders  int      `json:"senders,omitempty"`  // and how many they are; 0: without a sender in particular
	Own      bool     `json:"own,omitempty"`      // it is true of everybody's own message
	OldText  string   `json:"oldText,omitempty"`  // what a sender hears
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
		Changes: []ChangedGroup{},
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
	a.hazards(before, later, report)
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

func groupChange(later namer, c effect.GroupChange) ChangedGroup {
	g := ChangedGroup{
		Group: later.address(c.Group.New),
		Posts: []EffectCount{}, Receives: []EffectCount{}, SendsAs: []EffectCount{},
		OtherPosts: []EffectCount{}, OtherReceives: []EffectCount{}, May: []EffectCount{},
		Sees:     settingChanges(c.Sees),
		Joining:  settingChanges(c.Joining),
		Settings: settingChanges(c.Settings),
	}
	for _, v := range c.Posts {
		g.addPosts(v)
	}
	for _, o := range c.Receives {
		count := EffectCount{
			People: somebodies(o.People), Message: messageLike(o.Message), From: somebodies(o.From), Senders: o.Senders,
			Own: o.Own,
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
func (g *ChangedGroup) addPosts(v effect.PostChange) {
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

// told says what a sender hears.
func told(s effect.Said) string {
	text := toldSo
	switch {
	case s.Text != "":
		text = strconv.Quote(s.Text)
	case s.Roster:
		text = rosterTakes
	case s.NoRule:
		text = noMatch
	}
	if !s.Told && text != toldSo {
		return text + ", not notified"
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

// somebodies names who a difference is about.
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

// hazards reports the hazards that come and go. One that is there before and later, and that
// the estates accept or not, is reported once: as accepted, or as a new one.
func (a *Comparison) hazards(before, later namer, report *effect.Report) {
	appearing, going := map[string]bool{}, map[string]bool{} // by ID: whether it is accepted
	for i := range report.Appearing {
		appearing[later.idOf(&report.Appearing[i])] = report.Appearing[i].Accepted
	}
	for i := range report.Going {
		going[before.idOf(&report.Going[i])] = report.Going[i].Accepted
	}
	for _, f := range report.Appearing {
		accepted, known := going[later.idOf(&f)]
		if f.Accepted && known && !accepted {
			a.Hazards.Accepted = append(a.Hazards.Accepted, later.hazard(f))
		} else {
			a.Hazards.Appear = append(a.Hazards.Appear, later.hazard(f))
		}
	}
	for _, f := range report.Going {
		if accepted, known := appearing[before.idOf(&f)]; !known || accepted == f.Accepted {
			a.Hazards.Go = append(a.Hazards.Go, before.hazard(f))
		}
	}
}

// IsEmpty reports whether nothing changes.
func (a *Comparison) IsEmpty() bool {
	hazards := len(a.Hazards.Appear) + len(a.Hazards.Go) + len(a.Hazards.Accepted)
	return hazards+len(a.Estate)+len(a.Changes)+len(a.Persons)+len(a.Notices)+
		len(a.Causes)+len(a.Open) == 0 && a.Groups.isEmpty() && a.People.isEmpty()
}

func (c PartyChanges) isEmpty() bool { return len(c.Added)+len(c.Removed)+len(c.Renamed) == 0 }
