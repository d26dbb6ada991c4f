package directory

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// finish writes people and groups as content. Members are written with the main
// address of the one they mean.
func (m *merger) finish(list []*Directory) {
	inside := map[string]bool{}
	for _, d := range m.out.Domains {
		inside[domainKey(d)] = true
	}
	m.addListed(list, inside)
	m.out.GivesPeople = slices.ContainsFunc(m.given, func(text string) bool { return inside[domainOf(text)] })
	canonical := m.canonical()
	all := func(texts []string) []string {
		list := make([]string, 0, len(texts))
		seen := map[string]bool{}
		for _, text := range texts {
			if to := canonical(text).address; !seen[to] {
				seen[to] = true
				list = append(list, to)
			}
		}
		return list
	}
	for _, u := range m.unlike {
		m.differ(u, all)
	}
	for i := range m.people {
		m.out.People = append(m.out.People, m.people[i].content())
		m.out.known = append(m.out.known, recognised{m.people[i].identity, m.people[i].hinted})
	}
	for _, g := range m.groups {
		if !inside[domainOf(g.Address)] {
			text := "the group " + g.Address + " is left out: its address is outside " + strings.Join(m.out.Domains, ", ")
			at := Remark{Source: m.out.Files[g.place.File], Line: int(g.place.Line), Harm: true, Text: text}
			m.out.Remarks = append(m.out.Remarks, at)
			m.met[g.place.File].lost.add("a group", g.Address)
			continue
		}
		for _, alias := range g.Also {
			if !inside[domainOf(alias)] {
				m.met[g.place.File].lost.add("an alias", g.Address)
				m.out.Remarks = append(m.out.Remarks, Remark{Source: m.out.Files[g.place.File], Line: int(g.place.Line), Harm: true,
					Text: "the alias " + alias + " of " + g.Address + " is left out: it is outside " +
						strings.Join(m.out.Domains, ", ")})
			}
		}
		out := g.content(func(text string) bool { return inside[domainOf(text)] }, all)
		out.Members = m.members(g, canonical)
		m.out.Groups = append(m.out.Groups, out)
		has := carried{g.Also != nil, g.Owners != nil, g.Mods != nil, g.Members != nil, g.owns}
		m.out.carried = append(m.out.carried, has)
	}
}

// content returns a group but for its members. inside reports whether an address is in
// the estate; all returns who others mean, each once.
func (g *mergedGroup) content(inside func(string) bool, all func([]string) []string) estatefile.NewGroup {
	out := estatefile.NewGroup{
		Place:  g.place,
		Access: g.Access,
		Fields: []estatefile.Field{{Name: "address", Text: g.Address}},
	}
	list := func(name string, texts []string) {
		if len(texts) > 0 {
			out.Fields = append(out.Fields, estatefile.Field{Name: name, List: texts})
		}
	}
	list("also", slices.DeleteFunc(slices.Clone(g.Also), func(text string) bool { return !inside(text) }))
	out.Fields = append(out.Fields, g.Settings...)
	list("owners", all(g.Owners))
	list("moderators", all(g.Mods))
	if _, said := fieldOf(g.Settings, "managed-in"); !said && g.by != "" {
		out.Fields = append(out.Fields, estatefile.Field{Name: "managed-in", Text: g.by})
	}
	return out
}

// whom is the one that an address means: with which main address, and who.
type whom struct {
	address string
	who
}

// canonical returns a function that says who an address means. It remembers, as
// the same people are members of many groups.
func (m *merger) canonical() func(string) whom {
	known := make(map[string]whom, len(m.people))
	return func(text string) whom {
		if to, ok := known[text]; ok {
			return to
		}
		to := whom{text, 0}
		if at, ok := m.at[key(text)]; ok {
			to = m.named(at)
		}
		known[text] = to
		return to
	}
}

// named returns somebody with their main address.
func (m *merger) named(at who) whom {
	if at.isGroup() {
		return whom{m.groups[at.index()].Address, at}
	}
	return whom{m.people[at.index()].address, at}
}

// members returns the members of a group, each once.
func (m *merger) members(g mergedGroup, canonical func(string) whom) []estatefile.Member {
	list := g.Members[:0]
	if m.seenPeople == nil {
		m.seenPeople = make([]uint32, len(m.people))
	}
	m.turn++
	others := map[string]bool{}
	for i, one := range g.Members {
		if one.Address == "" {
			one = withoutDomains(one, m.out.Domains)
			if rule := "\x00" + ruleText(one.Where); !others[rule] {
				others[rule] = true
				list = append(list, one)
			}
			continue
		}
		to := m.whom(&g, i, canonical)
		one.Address = to.address
		switch {
		case to.isPerson():
			if m.seenPeople[to.index()] == m.turn {
				continue
			}
			m.seenPeople[to.index()] = m.turn
		case others[to.address]:
			continue
		default:
			others[to.address] = true
		}
		if to.isGroup() {
			// A nested group takes copy every or none, and nothing else.
			if one.Copy == estate.CopyDigest || one.Copy == estate.CopyReplies {
				one.Copy = estate.CopyEvery
			}
			one.Membership = estate.Membership{Copy: one.Copy}
		}
		list = append(list, one)
	}
	return list
}

// whom returns the one that a member of a group means.
func (m *merger) whom(g *mergedGroup, member int, canonical func(string) whom) whom {
	if member >= len(g.targets) || g.targets[member] == 0 {
		return canonical(g.Members[member].Address)
	}
	target, of := g.targets[member], &m.met[g.membersFrom]
	switch {
	case target.isGroup():
		return m.named(of.groups[target.index()])
	case !of.renamed:
		return whom{g.Members[member].Address, of.people[target.index()]}
	}
	return m.named(of.people[target.index()])
}

func (p *mergedPerson) content() estatefile.NewPerson {
	out := estatefile.NewPerson{Place: p.place, Attributes: p.attributes, Fields: make([]estatefile.Field, 0, 4)}
	out.Fields = append(out.Fields, estatefile.Field{Name: "address", Text: p.address})
	if p.name != "" {
		out.Fields = append(out.Fields, estatefile.Field{Name: "name", Text: p.name})
	}
	if len(p.also) > 0 {
		out.Fields = append(out.Fields, estatefile.Field{Name: "also", List: p.also})
	}
	if p.mailbox != "" {
		out.Fields = append(out.Fields, estatefile.Field{Name: "mailbox", Text: p.mailbox})
	}
	return out
}
