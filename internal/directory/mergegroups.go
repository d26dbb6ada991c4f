package directory

import (
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// addGroup adds a group, or what it says to that of an earlier source.
func (m *merger) addGroup(g *Group) who {
	place := m.place(g.Line)
	keys := append([]string{g.Address}, g.Also...)
	var found who
	for _, text := range keys {
		if at, ok := m.at[key(text)]; ok && m.sameGroup(at.index(), g) {
			found = at
			break
		}
	}
	if found == 0 {
		found = group(len(m.groups))
		m.groups = append(m.groups, mergedGroup{g, place, m.source.Name, m.file})
		for i, text := range keys {
			k := key(text)
			at, taken := m.at[k]
			switch {
			case !taken:
				m.at[k] = found
			case i == 0 && key(m.groups[at.index()].Address) != k: // an alias of another group of this source
				other := &m.groups[at.index()]
				other.Also = lacking(other.Also, []string{text})
				m.at[k] = found
				m.conflictOfAlias(text, "a group of its own", place, other.Address, other.place)
			default:
				other := &m.groups[at.index()]
				g.Also = lacking(g.Also, []string{text})
				m.conflictOfAlias(text, other.Address+"'s", other.place, g.Address, place)
			}
		}
		return found
	}
	old := &m.groups[found.index()]
	for i, text := range keys {
		k := key(text)
		at, taken := m.at[k]
		switch {
		case !taken:
			m.at[k] = found
			if key(old.Address) != k {
				old.Also = append(old.Also, text)
			}
		case at != found:
			m.conflict(
				old.Address,
				"the address "+text,
				m.groups[at.index()].Address+"'s",
				m.groups[at.index()].place,
				"its own",
				place,
			)
		}
		if i == 0 && !taken {
			m.conflict(old.Address, "address", old.Address, old.place, text, place)
		}
	}
	m.mergeGroup(found.index(), g, place)
	return found
}

// sameGroup reports whether a group of the source at hand, which shares an address with another,
// is the same: two of one source are not because of an alias.
func (m *merger) sameGroup(found int, g *Group) bool {
	old := &m.groups[found]
	return key(old.Address) == key(g.Address) || old.place.File != m.file
}

// mergeGroup fills in what a group does not know, and tells what is said
// otherwise.
func (m *merger) mergeGroup(found int, g *Group, place estate.Place) {
	old := &m.groups[found]
	for _, f := range g.Settings {
		i := slices.IndexFunc(old.Settings, func(o estatefile.Field) bool { return o.Name == f.Name })
		if i < 0 {
			old.Settings = append(old.Settings, f)
		} else if o := old.Settings[i]; o.Text != f.Text || !slices.Equal(o.List, f.List) {
			m.conflict(old.Address, f.Name, show(o), old.place, show(f), place)
		}
	}
	for _, f := range g.Access {
		i := slices.IndexFunc(old.Access, func(o estatefile.Field) bool { return o.Name == f.Name })
		if i < 0 {
			old.Access = append(old.Access, f)
		} else if o := old.Access[i]; o.Text != f.Text {
			m.conflict(old.Address, "access."+f.Name, show(o), old.place, show(f), place)
		}
	}
	for _, listed := range []struct {
		role   string
		to     *[]string
		others []string
	}{{"owners", &old.Owners, g.Owners}, {"moderators", &old.Mods, g.Mods}} {
		if *listed.to == nil {
			*listed.to = listed.others
		} else if listed.others != nil {
			m.unlike = append(m.unlike, unlike{found, listed.role, *listed.to, listed.others, place})
		}
	}
	if old.Members == nil {
		old.Members, old.targets, old.membersFrom = g.Members, g.targets, m.file
	} else if g.Members != nil {
		m.unlike = append(m.unlike, unlike{found, "members", memberTexts(old.Members), memberTexts(g.Members), place})
	}
}

func show(f estatefile.Field) string {
	if f.List != nil {
		return fmt.Sprintf("%q", f.List)
	}
	return fmt.Sprintf("%q", f.Text)
}

func memberTexts(list []estatefile.Member) []string {
	var texts []string
	for _, one := range list {
		switch {
		case one.Everyone:
			texts = append(texts, "everyone")
		case one.Where != "":
			texts = append(texts, "where "+one.Where)
		default:
			texts = append(texts, one.Address)
		}
	}
	return texts
}

// differ reports a list that is not the same in two sources.
func (m *merger) differ(u unlike, all func([]string) []string) {
	taken, left := all(u.taken), all(u.left)
	only := func(a, b []string) []string {
		in := map[string]bool{}
		for _, text := range b {
			in[text] = true
		}
		return slices.DeleteFunc(slices.Clone(a), func(text string) bool { return in[text] })
	}
	if more, fewer := only(taken, left), only(left, taken); len(more)+len(fewer) > 0 {
		g := &m.groups[u.group]
		m.conflict(
			g.Address,
			u.what,
			fmt.Sprint(len(taken), having(more)),
			g.place,
			fmt.Sprint(len(left), having(fewer)),
			u.place,
		)
	}
}

// having names what only one of two lists has.
func having(list []string) string {
	const most = 3
	switch {
	case len(list) == 0:
		return ""
	case len(list) > most:
		return fmt.Sprintf(", of which %d only here, such as %s", len(list), strings.Join(list[:most], ", "))
	}
	return ", only here: " + strings.Join(list, ", ")
}
