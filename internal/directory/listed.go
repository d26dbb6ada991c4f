package directory

import "fmt"

// addListed adds the people that groups list, where a map of one's own says what groups
// have and no source says which people there are: somebody who is listed in a console is
// somebody there.
func (m *merger) addListed(list []*Directory, inside map[string]bool) {
	for _, text := range m.given {
		if inside[domainOf(text)] {
			return
		}
	}
	for i, d := range list {
		if d.Map == nil || d.Map.isBuiltIn {
			continue
		}
		m.source, m.file = d, uint16(i)
		added := 0
		for _, at := range m.met[i].groups {
			if !at.isGroup() {
				continue
			}
			g := &m.groups[at.index()]
			texts := append(append([]string{}, g.Owners...), g.Mods...)
			for _, one := range g.Members {
				texts = append(texts, one.Address)
			}
			for _, text := range texts {
				if text != "" && !m.knows(text) && inside[domainOf(text)] {
					m.addPerson(&Person{Line: int(g.place.Line), Address: text})
					added++
				}
			}
		}
		if added > 0 {
			m.out.Remarks = append(m.out.Remarks, Remark{Source: d.File,
				Text: fmt.Sprintf("no source says which people there are: %d that groups list are taken as people", added)})
		}
	}
}
