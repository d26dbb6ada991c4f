package change

import (
	"errors"
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Apply returns an estate as it is with changes, which all speak of e. An error says
// which of them cannot be, or what keeps the outcome from being an estate.
//
// Where nobody comes, goes or gets another address, everybody keeps their ID.
func Apply(e *estate.Estate, changes ...Change) (*estate.Estate, error) {
	w := &work{e: e, groups: map[estate.ID]*group{}, people: map[estate.ID]*person{}}
	for _, c := range changes {
		if err := c.apply(w); err != nil {
			return nil, err
		}
	}
	if w.moves || w.strangers() {
		return w.rebuild()
	}
	for _, rule := range w.selectors {
		if problems := e.CheckSelector(rule.Selector, rule.Text); len(problems) > 0 {
			return nil, errors.New(problems[0].Text)
		}
	}
	return e.With(w.parts()), nil
}

// work is an estate while changes are made of it.
type work struct {
	e         *estate.Estate
	groups    map[estate.ID]*group  // that change
	people    map[estate.ID]*person // likewise
	newGroups []*group
	newPeople []*person
	settings  *estate.Settings // where they change
	selectors []selector.Rule  // that are new
	moves     bool             // somebody comes, goes or has other addresses
}

// group is a group that changes, or is new.
type group struct {
	estate.Group
	gone     bool
	owners   []listed
	mods     []listed
	entries  []entry
	rules    []memberRule
	isRelist bool // entries or rules change
}

// person is a person who changes, or is new.
type person struct {
	estate.Person
	attributes []estate.Attribute
	gone       bool
}

// listed is somebody that a group lists: by ID, or by address where the estate
// before does not know them.
type listed struct {
	id      estate.ID // None: not known before
	address address.Address
	place   estate.Place
}

// entry is a membership; gone ones keep their place, so that changes find others.
type entry struct {
	listed
	estate.Membership
	justNow bool // see Member
	turn    int  // of those that are new, entries and rules
	gone    bool
}

type memberRule struct {
	estate.MemberRule
	turn int // see entry
	gone bool
}

// group returns a group of the estate before, to be changed.
func (w *work) group(id estate.ID) *group {
	if g, ok := w.groups[id]; ok {
		return g
	}
	g := &group{Group: *w.e.Group(id)}
	g.Given = slices.Clone(g.Given)
	g.owners, g.mods = w.listed(g.Owners), w.listed(g.Moderators)
	for _, one := range w.e.Entries(id) {
		known := listed{one.Member, w.e.Address(one.Member), one.Place}
		g.entries = append(g.entries, entry{listed: known, Membership: one.Membership()})
	}
	for _, rule := range w.e.Rules(id) {
		g.rules = append(g.rules, memberRule{MemberRule: rule})
	}
	w.groups[id] = g
	return g
}

func (w *work) listed(list []estate.Listed) []listed {
	var out []listed
	for _, one := range list {
		out = append(out, listed{one.ID, w.e.Address(one.ID), one.Place})
	}
	return out
}

// person returns a person of the estate before, to be changed.
func (w *work) person(id estate.ID) *person {
	if p, ok := w.people[id]; ok {
		return p
	}
	p := &person{Person: *w.e.Person(id), attributes: w.e.Attributes(id)}
	w.people[id] = p
	return p
}

// refer returns who an address means.
func (w *work) refer(a address.Address, place estate.Place) listed {
	id, ok := w.e.Find(a)
	if !ok {
		id = estate.None
	}
	return listed{id, a, place}
}

// list returns the owners or moderators of a group.
func (g *group) list(setting string) *[]listed {
	if setting == "owners" {
		return &g.owners
	}
	return &g.mods
}

// strangers reports whether a changed group lists somebody that the estate before
// does not know.
func (w *work) strangers() bool {
	isNew := func(l listed) bool { return l.id == estate.None }
	for _, g := range w.groups {
		if slices.ContainsFunc(g.owners, isNew) || slices.ContainsFunc(g.mods, isNew) ||
			slices.ContainsFunc(g.entries, func(e entry) bool { return !e.gone && isNew(e.listed) }) {
			return true
		}
	}
	return false
}

// parts returns what is exchanged where everybody stays who they are.
func (w *work) parts() estate.Parts {
	parts := estate.Parts{
		Settings: w.settings,
		Groups:   map[estate.ID]estate.Group{},
		People:   map[estate.ID]estate.Person{},
		Entries:  map[estate.ID][]estate.Entry{},
		Rules:    map[estate.ID][]estate.MemberRule{},
	}
	for id, g := range w.groups {
		g.Owners, g.Moderators = known(g.owners), known(g.mods)
		parts.Groups[id] = g.Group
		if !g.isRelist {
			continue
		}
		entries, rules := []estate.Entry{}, []estate.MemberRule{}
		for _, one := range g.entries {
			if !one.gone {
				entries = append(entries, estate.NewEntry(one.id, one.Membership, one.place))
			}
		}
		for _, one := range g.rules {
			if !one.gone {
				rules = append(rules, one.MemberRule)
			}
		}
		parts.Entries[id], parts.Rules[id] = entries, rules
	}
	for id, p := range w.people {
		parts.People[id] = p.Person
	}
	return parts
}

func known(list []listed) []estate.Listed {
	var out []estate.Listed
	for _, one := range list {
		out = append(out, estate.Listed{ID: one.id, Place: one.place})
	}
	return out
}

// rebuild makes the estate again.
func (w *work) rebuild() (*estate.Estate, error) {
	settings := w.e.Settings()
	if w.settings != nil {
		settings = w.settings
	}
	b := estate.NewBuilder(*settings)
	var groups []*group
	for id := range estate.ID(w.e.Groups()) {
		if g := w.group(id); !g.gone {
			groups = append(groups, g)
		}
	}
	groups = append(groups, w.newGroups...)
	for _, g := range groups {
		one := g.Group
		one.Owners, one.Moderators = nil, nil
		b.AddGroup(one, slices.Repeat([]estate.Place{g.Place}, len(g.Also)))
	}
	addPerson := func(p *person) {
		if !p.gone && !p.Implied {
			b.AddPerson(p.Person, p.attributes, slices.Repeat([]estate.Place{p.Place}, len(p.Also)))
		}
	}
	for i := range w.e.People() {
		addPerson(w.person(w.e.PersonID(i)))
	}
	for _, p := range w.newPeople {
		addPerson(p)
	}
	for i, g := range groups {
		w.addRelations(b, estate.ID(i), g)
	}
	e, problems := b.Build()
	if len(problems) > 0 {
		return nil, errors.New(problems[0].Text)
	}
	return e, nil
}

// addRelations adds who a group lists.
func (w *work) addRelations(b *estate.Builder, id estate.ID, g *group) {
	for _, one := range g.owners {
		b.AddOwner(id, w.now(one), one.place)
	}
	for _, one := range g.mods {
		b.AddModerator(id, w.now(one), one.place)
	}
	for _, one := range g.entries {
		if !one.gone {
			b.AddEntry(id, b.Refer(w.now(one.listed), id, "member", one.place), one.Membership, one.place)
		}
	}
	for _, one := range g.rules {
		if !one.gone {
			b.AddRule(id, one.MemberRule)
		}
	}
}

// now returns the address of somebody with all changes.
func (w *work) now(one listed) address.Address {
	switch {
	case one.id == estate.None || one.id.IsNobody():
	case w.e.IsGroup(one.id):
		if g, ok := w.groups[one.id]; ok {
			return g.Address
		}
	default:
		if p, ok := w.people[one.id]; ok {
			return p.Address
		}
	}
	return one.address
}

// A SettingError says what is wrong with a change of a setting.
type SettingError struct {
	Setting string
	Err     error
}

func (e *SettingError) Error() string { return e.Setting + ": " + e.Err.Error() }

// Unwrap returns what is wrong, such as a *selector.SyntaxError.
func (e *SettingError) Unwrap() error { return e.Err }

// setting returns a setting by its name.
func setting(name string) (*estate.Setting, error) {
	s, ok := estate.GroupSetting(name)
	if !ok {
		return nil, &SettingError{name, errors.New("there is no such setting")}
	}
	return s, nil
}

// say makes a group say texts of a setting, and nothing else of it.
func (w *work) say(g *group, s *estate.Setting, texts []string) error {
	s.Reset(&g.Group)
	if texts == nil {
		if s.Form == estate.FormParties {
			*g.list(s.Name) = nil
		}
		return nil
	}
	g.Given = append(g.Given, estate.Given{Setting: s.Name, Place: g.Place})
	if s.Name == "gate" {
		g.Gate = []estate.GateRule{} // even an empty gate replaces the default
	}
	var parties []listed
	for _, text := range texts {
		v, err := s.Parse(text)
		if err != nil {
			return &SettingError{s.Name, err}
		}
		v.Place = g.Place
		if s.Form == estate.FormParties {
			parties = append(parties, w.refer(v.Address, g.Place))
			continue
		}
		if v.Rule.Selector != nil {
			w.selectors = append(w.selectors, v.Rule)
		}
		s.Set(&g.Group, v)
	}
	if s.Form == estate.FormParties {
		*g.list(s.Name) = parties
	}
	if s.Form == estate.FormAddresses {
		w.moves = true
	}
	return nil
}

// rules returns the rules that hold for a group, as they are written.
func (w *work) rules(g *group, name string) (*estate.Setting, []string, error) {
	s, err := setting(name)
	if err == nil && s.Form != estate.FormRules {
		err = &SettingError{name, errors.New("this is no list of rules")}
	}
	if err != nil {
		return nil, nil, err
	}
	return s, s.Holds(w.e, &g.Group), nil
}

func (c SetSetting) apply(w *work) error {
	s, err := setting(c.Setting)
	if err != nil {
		return err
	}
	if s.Form == estate.FormAddress {
		return &SettingError{c.Setting, errors.New("this is for RenameGroup")}
	}
	return w.say(w.group(c.Group), s, c.Texts)
}

func (c SetList) apply(w *work) error {
	s, err := setting(c.Setting)
	if err != nil {
		return err
	}
	if !s.Form.IsList() {
		return &SettingError{c.Setting, errors.New("this is no list")}
	}
	g := w.group(c.Group)
	if s.Form == estate.FormParties {
		return w.relist(g, s, c)
	}
	texts := slices.DeleteFunc(s.Texts(w.e, &g.Group), func(text string) bool {
		return slices.ContainsFunc(c.Drop, func(gone string) bool { return address.Same(gone, text) })
	})
	return w.say(g, s, append(texts, c.Add...))
}

// relist takes people and groups out of a list and adds others, with the one their
// addresses mean.
func (w *work) relist(g *group, s *estate.Setting, c SetList) error {
	list := g.list(s.Name)
	for _, text := range c.Drop {
		v, err := s.Parse(text)
		if err != nil {
			return &SettingError{s.Name, err}
		}
		gone := w.refer(v.Address, g.Place)
		*list = slices.DeleteFunc(*list, func(one listed) bool {
			return one.id != estate.None && one.id == gone.id || w.e.Key(one.address) == w.e.Key(gone.address)
		})
	}
	for _, text := range c.Add {
		v, err := s.Parse(text)
		if err != nil {
			return &SettingError{s.Name, err}
		}
		*list = append(*list, w.refer(v.Address, g.Place))
	}
	return nil
}

func (c InsertRule) apply(w *work) error {
	g := w.group(c.Group)
	s, texts, err := w.rules(g, c.Setting)
	if err != nil {
		return err
	}
	return w.say(g, s, slices.Insert(slices.Clone(texts), c.At, c.Text))
}

func (c SetRule) apply(w *work) error {
	g := w.group(c.Group)
	s, texts, err := w.rules(g, c.Setting)
	if err != nil {
		return err
	}
	texts = slices.Clone(texts)
	texts[c.At] = c.Text
	return w.say(g, s, texts)
}

func (c RemoveRule) apply(w *work) error {
	g := w.group(c.Group)
	s, texts, err := w.rules(g, c.Setting)
	if err != nil {
		return err
	}
	return w.say(g, s, slices.Delete(slices.Clone(texts), c.At, c.At+1))
}
