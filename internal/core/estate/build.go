package estate

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/selector"
)

// Build returns the estate, or the problems that keep it from being one, in the
// order in which they were found. The Builder is of no use afterwards.
func (b *Builder) Build() (*Estate, []Problem) {
	b.checkSelectors()
	if len(b.problems) > 0 {
		return nil, b.problems
	}
	e := b.e
	b.layEntries()
	e.children, e.parents = e.nest()
	e.inside = make([]bool, len(e.people))
	e.domain = make([]uint32, e.count+len(e.people))
	for i := range e.groups {
		e.domain[i] = e.index.number(e.Domain(e.groups[i].Address.Domain()))
	}
	for i := range e.people {
		domain := e.people[i].Address.Domain()
		e.inside[i] = e.InsideDomain(domain)
		e.domain[e.count+i] = e.index.number(e.Domain(domain))
	}
	e.sortPeople()
	return e, nil
}

// layEntries moves the rows into one array, by group and otherwise in order.
func (b *Builder) layEntries() {
	e := b.e
	e.entryStart = make([]uint32, e.count+1)
	for _, chunk := range b.chunks {
		for i := range chunk {
			e.entryStart[chunk[i].group+1]++
		}
	}
	for g := range e.count {
		e.entryStart[g+1] += e.entryStart[g]
	}
	next := slices.Clone(e.entryStart)
	e.entries = make([]Entry, e.entryStart[e.count])
	for c, chunk := range b.chunks {
		for i := range chunk {
			g := chunk[i].group
			e.entries[next[g]] = chunk[i].entry
			next[g]++
		}
		b.chunks[c] = nil
	}
}

// nest lists the nested groups of every group, and the groups that each is
// nested in.
func (e *Estate) nest() (children, parents nestings) {
	children.start = make([]uint32, e.count+1)
	parents.start = make([]uint32, e.count+1)
	for g := range e.count {
		for _, entry := range e.Entries(ID(g)) {
			if e.IsGroup(entry.Member) {
				children.all = append(children.all, Nesting{entry.Member, entry.Copy() != CopyNone, entry.Place})
				parents.start[entry.Member+1]++
			}
		}
		children.start[g+1] = uint32(len(children.all))
	}
	for g := range e.count {
		parents.start[g+1] += parents.start[g]
	}
	parents.all = make([]Nesting, len(children.all))
	next := slices.Clone(parents.start)
	for g := range e.count {
		for _, child := range children.of(ID(g)) {
			parents.all[next[child.Group]] = Nesting{ID(g), child.Passes, child.Place}
			next[child.Group]++
		}
	}
	return children, parents
}

// sortPeople orders people by main address without case.
func (e *Estate) sortPeople() {
	folded := make([]string, len(e.people))
	e.byAddress = make([]ID, len(e.people))
	for i := range e.people {
		folded[i] = strings.ToLower(e.people[i].Address.String())
		e.byAddress[i] = e.PersonID(i)
	}
	byAddress := func(a, b ID) int { return strings.Compare(folded[e.PersonIndex(a)], folded[e.PersonIndex(b)]) }
	if !slices.IsSortedFunc(e.byAddress, byAddress) {
		slices.SortFunc(e.byAddress, byAddress)
	}
	e.rank = make([]uint32, len(e.people))
	for place, id := range e.byAddress {
		e.rank[e.PersonIndex(id)] = uint32(place)
	}
}

// checkSelectors looks up every address that a rule names.
func (b *Builder) checkSelectors() {
	for _, rule := range b.e.settings.Edge {
		b.checkSelector(None, "edge", rule.Selector, rule.Text, rule.Place)
	}
	for g := range b.e.groups {
		id, group := ID(g), &b.e.groups[g]
		if to := group.RepliesToAt; to.IsValid() && b.inside(to) {
			if _, ok := b.Find(to); !ok {
				place := group.Where("replies-to")
				b.e.unknown = append(b.e.unknown, Unknown{Address: to, Group: id, Role: "replies-to", Place: place})
			}
		}
		for _, rule := range group.Gate {
			b.checkSelector(id, "gate", rule.Selector, rule.Text, rule.Place)
		}
		for _, rule := range group.SendAs {
			b.checkSelector(id, "send-as", rule.Selector, rule.Text, rule.Place)
		}
		for setting, rule := range group.Selectors {
			role, _, _ := strings.Cut(setting, ".")
			b.checkSelector(id, role, rule.Selector, rule.Text, rule.Place)
		}
	}
}

func (b *Builder) checkSelector(group ID, role string, x selector.Expr, text string, place Place) {
	selector.Atoms(x, func(a *selector.Atom) {
		if a.Kind != selector.In && a.Kind != selector.Is {
			return
		}
		id, ok := b.Find(a.Address)
		if ok && (a.Kind == selector.Is || b.e.IsGroup(id)) {
			return
		}
		name := a.Address.String()
		if a.Kind == selector.Is {
			if b.inside(a.Address) {
				b.e.unknown = append(b.e.unknown, Unknown{Address: a.Address, Group: group, Role: role, Place: place})
			}
			return
		}
		problem := Problem{Place: place, Source: text, Offset: a.Offset, Length: len(a.Text),
			Text: "there is no group " + quote(name) + ", expected one after \"in\""}
		if ok {
			problem.Text = quote(name) + " is a person, expected a group after \"in\""
		} else {
			problem.Nearest = b.NearestGroup(name)
		}
		b.problem(problem)
	})
}

// CheckSelector returns the problems of a selector that does not stand in the
// estate: groups after "in" that are none.
func (e *Estate) CheckSelector(x selector.Expr, text string) []Problem {
	b := &Builder{e: &Estate{count: e.count, groups: e.groups, lazy: e.lazy, people: e.people, index: e.index}}
	b.checkSelector(None, "", x, text, Place{})
	return b.problems
}
