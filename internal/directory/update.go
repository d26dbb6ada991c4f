package directory

import (
	"maps"
	"slices"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
)

// Options say how an estate follows its sources.
type Options struct {
	Today estate.Day // since when new members are members
	// Prune takes people out that no source has any more. Without it they stay,
	// as it cannot be told who was written down by hand.
	Prune bool
}

// Gone are those that the sources do not have any more.
type Gone struct {
	Groups []string // are taken out: they were managed in one of the sources
	People []string // stay, unless they are to be pruned
	// Memberships is how many are taken out: those of groups that go, too.
	Memberships int
	// Shrunk are the sources that have lost half of their groups, or more: how many of how many.
	Shrunk map[string][2]int
	// Reset are the settings that a source said, and says no more: how many groups lose them, of
	// how many that have one.
	Reset map[string][2]int
}

// Update brings a draft of an estate to where the sources are. What they do not
// carry stays: gates, send-as, accepted hazards, what members have chosen. Groups
// that are managed in one of the sources and are not there any more go. Where a source is
// not all there, nothing is taken away: neither groups nor members, owners or addresses.
func (m *Merged) Update(d *estatefile.Draft, options Options) Gone {
	u := &updater{Merged: m, d: d, e: d.Before(), options: options, met: map[estate.ID]bool{}, resets: map[string]int{},
		kept: map[string]string{}}
	u.findClaims()
	u.findRenamed()
	for i := range m.People {
		u.person(&m.People[i], m.known[i])
	}
	for i := range m.Groups {
		u.group(&m.Groups[i], m.carried[i])
	}
	m.cover(u.claims, u.kept)
	return u.gone()
}

type updater struct {
	*Merged
	d       *estatefile.Draft
	e       *estate.Estate
	options Options
	met     map[estate.ID]bool   // groups and people that a source has
	mains   map[string]bool      // by key: the main addresses of what the sources have
	people  map[string]estate.ID // by identity: people of the estate
	renamed map[string]estate.ID // by key of the main address that a source has: whose it becomes
	removed int                  // memberships
	resets  map[string]int       // settings that are taken away, by name
	comes   []*estatefile.NewGroup
	claims  []claim           // of addresses that the estate keeps for others
	kept    map[string]string // by key: who has these
}

// fieldOf returns a field of a record.
func fieldOf(fields []estatefile.Field, name string) (estatefile.Field, bool) {
	for _, f := range fields {
		if f.Name == name {
			return f, true
		}
	}
	return estatefile.Field{Name: name}, false
}

func texts(list []address.Address) []string {
	var out []string
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}

// lacking returns what of a list is not in another, as addresses.
func lacking(list, in []string) []string {
	var out []string
	for _, text := range list {
		if !slices.ContainsFunc(in, func(other string) bool { return key(other) == key(text) }) {
			out = append(out, text)
		}
	}
	return out
}

func (u *updater) person(p *estatefile.NewPerson, by recognised) {
	id, ok := u.find(p.Fields, by)
	plain := len(p.Fields) == 1 && len(p.Attributes) == 0 // nothing is known but that others name the address
	if holder, known := u.id(p.Fields[0].Text); known && plain && !ok {
		u.met[holder] = true
		return
	}
	fields, free := u.free(p.Fields, p.Place, id)
	if !free {
		return
	}
	p = &estatefile.NewPerson{Fields: fields, Attributes: p.Attributes, Place: p.Place}
	if !ok || u.e.IsPerson(id) && u.e.Person(id).Implied {
		if ok {
			u.met[id] = true
		}
		if !plain || !ok {
			u.change(newPerson(p))
		}
		return
	}
	if u.e.IsGroup(id) {
		u.notTaken(p.Place, p.Fields[0].Text+" is a group in the estate, and no person")
		return
	}
	if u.met[id] {
		return
	}
	u.met[id] = true
	old := u.e.Person(id)
	main := addresses(p.Fields[0].Text)[0]
	renamed := main.Key() != old.Address.Key()
	if renamed {
		u.change(change.RenamePerson{Person: id, To: main})
	}
	for _, s := range estate.PersonSettings() {
		if f, ok := fieldOf(p.Fields, s.Name); ok && f.Text != s.Holds(*old) {
			u.change(change.SetPerson{Person: id, Field: s.Name, Text: f.Text})
		}
	}
	also, _ := fieldOf(p.Fields, "also")
	all := append(texts(old.Also), old.Address.String())
	if more := lacking(append(slices.Clone(also.List), p.Fields[0].Text), all); len(more) > 0 || renamed {
		kept := slices.DeleteFunc(append(all, more...), func(text string) bool { return key(text) == main.Key() })
		u.change(change.SetPersonAlso{Person: id, Also: addresses(kept...)})
	}
	names, values := estate.AttributesByName(p.Attributes)
	for i, name := range names {
		if !slices.Equal(u.e.Values(id, selector.Fold(name)), values[i]) {
			u.change(change.SetAttribute{Person: id, Attribute: name, Values: values[i]})
		}
	}
}

// newPerson returns the change by which somebody comes.
func newPerson(p *estatefile.NewPerson) change.AddPerson {
	add := change.AddPerson{Attributes: p.Attributes}
	add.Address, add.Place = addresses(p.Fields[0].Text)[0], p.Place
	for _, f := range p.Fields {
		if f.Name == "also" {
			add.Also = addresses(f.List...)
		} else if setting, ok := estate.PersonSetting(f.Name); ok {
			_ = setting.Set(&add.Person, f.Text) // an unknown word was reported as the source was read
		}
	}
	return add
}

// notTaken remarks that something in a source is left out of the estate.
func (u *updater) notTaken(at estate.Place, text string) {
	u.Remarks = append(u.Remarks, Remark{Source: u.Files[at.File], Line: int(at.Line), Harm: true, Text: text})
}

func (u *updater) group(g *estatefile.NewGroup, has carried) {
	id, ok := u.find(g.Fields, recognised{})
	fields, free := u.free(g.Fields, g.Place, id)
	if !free {
		return
	}
	g = &estatefile.NewGroup{Fields: fields, Members: g.Members, Access: g.Access, Place: g.Place}
	if !ok {
		u.comes = append(u.comes, g)
		u.change(u.newGroup(g))
		return
	}
	if !u.e.IsGroup(id) {
		u.notTaken(g.Place, g.Fields[0].Text+" is a person in the estate, and no group")
		return
	}
	if u.met[id] {
		return
	}
	u.met[id] = true
	old := u.e.Group(id)
	if system, _ := fieldOf(g.Fields, "managed-in"); u.isElsewhere(old, system.Text) {
		u.notTaken(g.Place, old.Address.String()+" is managed in "+old.ManagedIn+" by the estate, not in "+
			system.Text+"; what this source says of it is not taken")
		return
	}
	u.settings(id, g, has.owns)
	u.addresses(id, g, has.also)
	if has.owners {
		u.listed(id, "owners", old.Owners, g.Fields)
	}
	if has.moderators {
		u.listed(id, "moderators", old.Moderators, g.Fields)
	}
	if has.members {
		u.members(id, g.Members)
	}
}

// isElsewhere reports whether a group is managed neither in a system nor in any of the
// sources.
func (u *updater) isElsewhere(g *estate.Group, system string) bool {
	return g.ManagedIn != "" && g.ManagedIn != system && !u.sources[g.ManagedIn]
}

// addresses makes the addresses of a group what a source says. Those that the
// estate has as well stay, but where the source says which there are.
func (u *updater) addresses(id estate.ID, g *estatefile.NewGroup, all bool) {
	old := u.e.Group(id)
	main, now := g.Fields[0].Text, texts(old.Also)
	also, _ := fieldOf(g.Fields, "also")
	wanted := also.List
	var drop []string
	if key(main) != old.Address.Key() {
		u.change(change.RenameGroup{Group: id, To: addresses(main)[0], Forget: all && !holds(wanted, old.Address)})
		now = lacking(append(now, old.Address.String()), []string{main})
		wanted = lacking(wanted, []string{old.Address.String()})
	}
	if all && !u.Partial {
		drop = append(drop, lacking(texts(old.Also), append(slices.Clone(also.List), main))...)
	}
	if more := lacking(wanted, now); len(more)+len(drop) > 0 {
		u.change(change.SetList{Group: id, Setting: "also", Drop: drop, Add: more})
	}
}

// holds reports whether an address is in a list.
func holds(list []string, a address.Address) bool {
	return slices.ContainsFunc(list, func(text string) bool { return key(text) == a.Key() })
}

// settings makes the settings of a group what a source says.
func (u *updater) settings(id estate.ID, g *estatefile.NewGroup, owns []string) {
	now := Settings(u.e.Group(id))
	for _, f := range g.Fields {
		switch f.Name {
		case "address", "also", "owners", "moderators":
			continue
		}
		old, given := fieldOf(now, f.Name)
		setting, known := estate.GroupSetting(f.Name)
		if !given && known && f.Text == setting.Default && f.List == nil {
			continue
		}
		if old.Text != f.Text || !slices.Equal(old.List, f.List) {
			u.change(change.SetSetting{Group: id, Setting: f.Name, Texts: said(f)})
		}
	}
	if u.Partial {
		owns = nil
	}
	for _, name := range owns {
		_, given := fieldOf(now, name)
		if _, said := fieldOf(g.Fields, name); given && !said {
			u.change(change.SetSetting{Group: id, Setting: name})
			u.resets[name]++
		}
	}
	for _, f := range g.Access {
		if action, ok := estate.WordIndex[estate.Action](estate.ActionWords(), f.Name); ok &&
			u.e.Group(id).Access[action].Text != f.Text {
			u.change(change.SetSetting{Group: id, Setting: "access." + f.Name, Texts: said(f)})
		}
	}
}

// said returns what a field says, each item of a list for itself.
func said(f estatefile.Field) []string {
	if f.List == nil && f.Text != "" {
		return []string{f.Text}
	}
	return f.List
}

// listed makes the owners or moderators of a group what a source says.
func (u *updater) listed(id estate.ID, role string, old []estate.Listed, fields []estatefile.Field) {
	wanted, _ := fieldOf(fields, role)
	left := slices.Clone(wanted.List)
	var drop []string
	for _, one := range old {
		i := slices.IndexFunc(left, func(text string) bool { return u.means(text, one.ID) })
		if i >= 0 {
			left = slices.Delete(left, i, i+1)
			continue
		}
		drop = append(drop, u.e.Address(one.ID).String())
	}
	if u.Partial {
		drop = nil
	}
	if len(drop)+len(left) > 0 {
		u.change(change.SetList{Group: id, Setting: role, Drop: drop, Add: left})
	}
}

// means reports whether an address is that of somebody in the estate.
func (u *updater) means(text string, id estate.ID) bool {
	if found, ok := u.id(text); ok {
		return found == id
	}
	return key(text) == u.e.Address(id).Key()
}

// newGroup returns the change by which a group comes.
func (u *updater) newGroup(g *estatefile.NewGroup) change.AddGroup {
	add := change.AddGroup{Address: addresses(g.Fields[0].Text)[0], Place: g.Place}
	for _, f := range g.Fields[1:] {
		add.Settings = append(add.Settings, change.Said{Setting: f.Name, Texts: said(f)})
	}
	for _, f := range g.Access {
		add.Settings = append(add.Settings, change.Said{Setting: "access." + f.Name, Texts: said(f)})
	}
	for _, m := range g.Members {
		add.Members = append(add.Members, member(m))
	}
	return add
}

// addresses returns what texts mean: merging has left only addresses.
func addresses(texts ...string) []address.Address {
	list := make([]address.Address, len(texts))
	for i, text := range texts {
		list[i], _ = address.Parse(text)
	}
	return list
}

// isNewGroup reports whether an address is that of a group that is not in the
// estate yet.
func (u *updater) isNewGroup(text string) bool {
	return slices.ContainsFunc(u.Groups, func(g estatefile.NewGroup) bool { return g.Fields[0].Text == text })
}

// gone takes out what the sources do not have any more.
func (u *updater) gone() Gone {
	gone := Gone{Memberships: u.removed}
	if u.Partial {
		return gone
	}
	var goes []estate.ID
	for g := range estate.ID(u.e.Groups()) {
		if system := u.e.Group(g).ManagedIn; system != "" && u.sources[system] && !u.met[g] {
			gone.Groups = append(gone.Groups, u.e.Address(g).String())
			gone.Memberships += len(u.e.Entries(g))
			u.change(change.RemoveGroup{Group: g})
			goes = append(goes, g)
		}
	}
	gone.Shrunk, gone.Reset = u.shrunk(goes), u.lost()
	u.maybeRenamed(goes, u.comes)
	for i := range u.e.People() {
		id := u.e.PersonID(i)
		if u.met[id] || u.e.Person(id).Implied {
			continue
		}
		gone.People = append(gone.People, u.e.Address(id).String())
		if u.options.Prune {
			u.change(change.RemovePerson{Person: id})
			goes = append(goes, id)
		}
	}
	// Of the groups that a source makes the members of, it says who stays listed.
	u.change(change.Cascade(u.e, goes, func(g estate.ID) bool {
		system := u.e.Group(g).ManagedIn
		return u.met[g] || u.sources[system] && system != ""
	})...)
	return gone
}

// shrunk counts the groups that go of each source that loses half of them, or more.
func (u *updater) shrunk(goes []estate.ID) map[string][2]int {
	count := map[string][2]int{}
	for g := range estate.ID(u.e.Groups()) {
		if system := u.e.Group(g).ManagedIn; system != "" && u.sources[system] {
			n := count[system]
			count[system] = [2]int{n[0], n[1] + 1}
		}
	}
	for _, g := range goes {
		n := count[u.e.Group(g).ManagedIn]
		count[u.e.Group(g).ManagedIn] = [2]int{n[0] + 1, n[1]}
	}
	maps.DeleteFunc(count, func(_ string, n [2]int) bool { return 2*n[0] < n[1] })
	return count
}

// lost counts the settings that are taken away from groups, of all groups that have them.
func (u *updater) lost() map[string][2]int {
	count := map[string][2]int{}
	for name, n := range u.resets {
		setting, _ := estate.GroupSetting(name)
		all := 0
		for g := range estate.ID(u.e.Groups()) {
			if setting.Texts(u.e, u.e.Group(g)) != nil {
				all++
			}
		}
		count[name] = [2]int{n, all}
	}
	return count
}

// change makes changes.
func (u *updater) change(changes ...change.Change) { u.d.Apply(changes...) }
