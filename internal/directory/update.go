package directory

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
)

// Options say how an estate follows its sources.
type Options struct {
	Today estate.Day // since when new members are members
	// Prune takes people out whom no source has any more. Without it they stay,
	// as it cannot be told who was written down by hand.
	Prune bool
}

// Gone are those whom the sources do not have any more.
type Gone struct {
	Groups []string // are taken out: they were managed in one of the sources
	People []string // stay, unless they are to be pruned
}

// Update brings a draft of an estate to where the sources are. What they do not
// carry stays: gates, voices, accepted hazards, what members have chosen. Groups
// that are managed in one of the sources and are not there any more go, unless a
// source is not all there.
func (m *Merged) Update(d *estatefile.Draft, options Options) Gone {
	u := &updater{Merged: m, d: d, e: d.Before(), options: options, met: map[estate.ID]bool{}}
	for i := range m.People {
		u.person(&m.People[i])
	}
	for i := range m.Groups {
		u.group(&m.Groups[i], m.carried[i])
	}
	return u.gone()
}

type updater struct {
	*Merged
	d       *estatefile.Draft
	e       *estate.Estate
	options Options
	met     map[estate.ID]bool // groups and people that a source has
}

// find returns whoever of the estate has one of the addresses.
func (u *updater) find(fields []estatefile.Field) (estate.ID, bool) {
	for _, f := range fields {
		if f.Name != "address" && f.Name != "also" {
			continue
		}
		for _, text := range append([]string{f.Text}, f.List...) {
			if id, ok := u.id(text); ok {
				return id, true
			}
		}
	}
	return estate.None, false
}

func (u *updater) id(text string) (estate.ID, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, false
	}
	return u.e.Exact(a)
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

func (u *updater) person(p *estatefile.NewPerson) {
	id, ok := u.find(p.Fields)
	if !ok || u.e.IsPerson(id) && u.e.Person(id).Implied {
		if ok {
			u.met[id] = true
		}
		plain := len(p.Fields) == 1 && len(p.Facts) == 0
		if !plain || !ok {
			u.d.AddPerson(*p)
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
	var fields []estatefile.Field
	if f := p.Fields[0]; key(f.Text) != old.Address.Key() {
		fields = append(fields, f)
	}
	if f, ok := fieldOf(p.Fields, "name"); ok && f.Text != old.Name {
		fields = append(fields, f)
	}
	if f, ok := fieldOf(p.Fields, "mailbox"); ok && f.Text != old.Mailbox.String() {
		fields = append(fields, estatefile.Field{Name: "mailbox", Text: strings.TrimSuffix(f.Text, "open")})
	}
	also, _ := fieldOf(p.Fields, "also")
	all := append(texts(old.Also), old.Address.String())
	if more := lacking(append(slices.Clone(also.List), p.Fields[0].Text), all); len(more) > 0 ||
		len(fields) > 0 && fields[0].Name == "address" {
		kept := slices.DeleteFunc(
			append(all, more...),
			func(text string) bool { return key(text) == key(p.Fields[0].Text) },
		)
		fields = append(fields, estatefile.Field{Name: "also", List: kept})
	}
	facts := u.facts(id, p)
	if len(fields)+len(facts) > 0 {
		u.d.SetPerson(id, fields, facts)
	}
}

// notTaken remarks that something in a source is left out of the estate.
func (u *updater) notTaken(at estate.Place, text string) {
	u.Remarks = append(u.Remarks, Remark{Source: u.Files[at.File], Line: int(at.Line), Harm: true, Text: text})
}

// facts returns the facts of a person that a source says otherwise.
func (u *updater) facts(id estate.ID, p *estatefile.NewPerson) []estatefile.Field {
	var fields []estatefile.Field
	names, values := estatefile.GroupFacts(p.Facts)
	for i, name := range names {
		if has := u.e.Values(id, selector.Fold(name)); slices.Equal(has, values[i]) {
			continue
		}
		f := estatefile.Field{Name: u.e.FactName(name)}
		if len(values[i]) == 1 {
			f.Text = values[i][0]
		} else {
			f.List = values[i]
		}
		fields = append(fields, f)
	}
	return fields
}

func (u *updater) group(g *estatefile.NewGroup, has carried) {
	id, ok := u.find(g.Fields)
	if !ok {
		u.d.AddGroup(*g)
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
	if system, _ := fieldOf(g.Fields, "managed-in"); old.ManagedIn != "" && old.ManagedIn != system.Text &&
		!u.sources[old.ManagedIn] {
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

// addresses makes the addresses of a group what a source says. Those that the
// estate has besides stay, but where the source says which there are.
func (u *updater) addresses(id estate.ID, g *estatefile.NewGroup, all bool) {
	old := u.e.Group(id)
	main, now := g.Fields[0].Text, texts(old.Also)
	also, _ := fieldOf(g.Fields, "also")
	wanted := also.List
	var drop []string
	if key(main) != old.Address.Key() {
		u.d.SetGroup(id, g.Fields[0])
		drop = lacking(now, lacking(now, []string{main}))
		if !all {
			wanted = append(slices.Clone(wanted), old.Address.String())
		}
	}
	if all {
		drop = append(drop, lacking(now, append(slices.Clone(wanted), main))...)
	}
	if more := lacking(wanted, now); len(more)+len(drop) > 0 {
		u.d.SetList(id, "also", drop, more)
	}
}

// settings makes the settings of a group what a source says.
func (u *updater) settings(id estate.ID, g *estatefile.NewGroup, owns []string) {
	now := Settings(u.e.Group(id))
	var fields []estatefile.Field
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
			fields = append(fields, f)
		}
	}
	for _, name := range owns {
		_, given := fieldOf(now, name)
		if _, said := fieldOf(g.Fields, name); given && !said {
			fields = append(fields, estatefile.Field{Name: name})
		}
	}
	if len(fields) > 0 {
		u.d.SetGroup(id, fields...)
	}
	var access []estatefile.Field
	for _, f := range g.Access {
		if action, ok := estate.WordIndex[estate.Action](estate.ActionWords, f.Name); ok &&
			u.e.Group(id).Access[action].Text != f.Text {
			access = append(access, f)
		}
	}
	if len(access) > 0 {
		u.d.SetAccess(id, access...)
	}
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
		switch {
		case u.e.IsGroup(one.ID):
			drop = append(drop, texts(u.e.Group(one.ID).Also)...)
		case u.e.IsPerson(one.ID):
			drop = append(drop, texts(u.e.Person(one.ID).Also)...)
		}
	}
	u.d.SetList(id, role, drop, left)
}

// means reports whether an address is that of somebody in the estate.
func (u *updater) means(text string, id estate.ID) bool {
	if found, ok := u.id(text); ok {
		return found == id
	}
	return key(text) == u.e.Address(id).Key()
}

// members makes the members of a group those that a source has. What they have
// chosen stays, unless the source says otherwise.
func (u *updater) members(id estate.ID, wanted []estatefile.Member) {
	left := map[estate.ID]estatefile.Member{}
	unknown := map[string]estatefile.Member{}
	rules := map[string]estatefile.Member{}
	for _, m := range wanted {
		switch found, ok := u.id(m.Address); {
		case m.Address == "" || m.Everyone:
			rules[ruleText(m.Where)] = m
		case ok:
			left[found] = m
		default:
			unknown[key(m.Address)] = m
		}
	}
	for _, entry := range u.e.Entries(id) {
		m, ok := left[entry.Member]
		if ok {
			delete(left, entry.Member)
		} else if k := u.e.Address(entry.Member).Key(); !u.e.IsGroup(entry.Member) {
			if m, ok = unknown[k]; ok {
				delete(unknown, k)
			}
		}
		if !ok {
			u.d.DropMember(id, entry.Place)
			continue
		}
		if now := overlay(entry.Membership(), m.Membership); now != entry.Membership() {
			u.d.SetMember(id, entry.Place, entry.Membership(), now)
		}
	}
	for _, rule := range u.e.Rules(id) {
		text := ruleText("")
		if rule.Filter != nil {
			text = ruleText(rule.Filter.String())
		}
		m, ok := rules[text]
		if !ok {
			u.d.DropMember(id, rule.Place)
			continue
		}
		delete(rules, text)
		was := estate.Membership{Copy: rule.Copy, Invitations: rule.Invitations}
		if now := overlay(was, m.Membership); now != was {
			u.d.SetMember(id, rule.Place, was, now)
		}
	}
	joiners := u.e.Group(id).Joiners
	for _, m := range wanted {
		found, known := u.id(m.Address)
		_, isNew := left[found]
		if m.Address == "" {
			_, isNew = rules[ruleText(m.Where)]
			delete(rules, ruleText(m.Where))
		} else if !known {
			_, isNew = unknown[key(m.Address)]
		}
		if !isNew {
			continue
		}
		delete(left, found)
		delete(unknown, key(m.Address))
		if m.Address != "" && !(known && u.e.IsGroup(found)) && !u.newGroup(m.Address) {
			if m.Copy == estate.CopyUnset {
				m.Copy = joiners
			}
			if m.Since == 0 {
				m.Since, m.JustNow = u.options.Today, true
			}
		}
		u.d.AddMember(id, m)
	}
}

// newGroup reports whether an address is that of a group that is not in the
// estate yet.
func (u *updater) newGroup(text string) bool {
	return slices.ContainsFunc(u.Groups, func(g estatefile.NewGroup) bool { return g.Fields[0].Text == text })
}

// overlay puts what a source says of a membership over what there is.
func overlay(old, m estate.Membership) estate.Membership {
	if m.Copy != estate.CopyUnset {
		old.Copy = m.Copy
	}
	if m.Invitations != estate.InvitationsUnset {
		old.Invitations = m.Invitations
	}
	if m.Since != 0 {
		old.Since = m.Since
	}
	old.Paused = old.Paused || m.Paused
	return old
}

// ruleText is what rules are compared by.
func ruleText(where string) string {
	if f, err := selector.ParseFilter(where); err == nil {
		return f.String()
	}
	return "everyone"
}

// gone takes out what the sources do not have any more.
func (u *updater) gone() Gone {
	var gone Gone
	if u.Partial {
		return gone
	}
	for g := range estate.ID(u.e.Groups()) {
		if system := u.e.Group(g).ManagedIn; system != "" && u.sources[system] && !u.met[g] {
			gone.Groups = append(gone.Groups, u.e.Address(g).String())
			u.d.RemoveGroup(g)
			u.unlist(g)
		}
	}
	for i := range u.e.People() {
		id := u.e.PersonID(i)
		if u.met[id] || u.e.Person(id).Implied {
			continue
		}
		gone.People = append(gone.People, u.e.Address(id).String())
		if u.options.Prune {
			u.d.RemovePerson(id)
			u.unlist(id)
		}
	}
	return gone
}

// unlist takes somebody who goes out of the groups that no source makes the
// members of.
func (u *updater) unlist(id estate.ID) {
	for g := range estate.ID(u.e.Groups()) {
		if system := u.e.Group(g).ManagedIn; u.met[g] || u.sources[system] && system != "" {
			continue
		}
		for _, entry := range u.e.Entries(g) {
			if entry.Member == id {
				u.d.DropMember(g, entry.Place)
			}
		}
		for _, listed := range []struct {
			role string
			list []estate.Listed
		}{{"owners", u.e.Group(g).Owners}, {"moderators", u.e.Group(g).Moderators}} {
			if slices.ContainsFunc(listed.list, func(l estate.Listed) bool { return l.ID == id }) {
				u.d.SetList(g, listed.role, []string{u.e.Address(id).String()}, nil)
			}
		}
	}
}
