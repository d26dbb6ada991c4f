package estate

// hasPlace reports whether a place is in one of the files of an estate, or nowhere.
func (e *Estate) hasPlace(p Place) bool { return int(p.File) < len(e.settings.Files) || p == (Place{}) }

// isWhole reports whether an estate that was compiled holds together, but for its people, as there
// are so many: nothing in it leads to something that is not there, so that no question about it fails
// later.
func (e *Estate) isWhole(people int) bool {
	known := func(id ID) bool {
		return int(id) < e.count+people || id.IsNobody() && int(id-firstNobody) < len(e.nobody)
	}
	hasPlace := e.hasPlace
	for i := range e.entries {
		one := &e.entries[i]
		if !known(one.Member) || !hasPlace(one.Place) || int(one.Copy()) >= len(copyWords) ||
			int(one.Invitations()) >= len(invitationsWords) {
			return false
		}
	}
	for _, list := range [][]Nesting{e.children.all, e.parents.all} {
		for i := range list {
			if !e.IsGroup(list[i].Group) || !hasPlace(list[i].Place) {
				return false
			}
		}
	}
	for _, n := range e.domain {
		if int(n) >= len(e.index.numbers) {
			return false
		}
	}
	for _, n := range e.index.numbers {
		if int(n) >= len(e.index.numbers) {
			return false
		}
	}
	for _, column := range e.attributes.columns {
		for _, one := range column.cells {
			if int(one.person) >= people || int(one.value) >= len(e.attributes.values) {
				return false
			}
		}
	}
	return e.index.ids.isWhole(known) && e.index.implied.isWhole(known) && e.lazy.isWhole(hasPlace)
}

// arePeopleWhole reports the same of people.
func (e *Estate) arePeopleWhole() bool {
	for i := range e.people {
		p := &e.people[i]
		if !e.hasPlace(p.Place) || int(p.Mailbox) >= len(mailboxWords) || int(e.rank[i]) >= len(e.people) ||
			!e.IsPerson(e.byAddress[i]) {
			return false
		}
	}
	return true
}

// isWhole reports the same of a directory, all of whose IDs have to be known.
func (d *directory) isWhole(known func(ID) bool) bool {
	if len(d.ends) != len(d.ids) || len(d.order) != len(d.ids) || !ascend(d.ends, len(d.keys)) {
		return false
	}
	for i, id := range d.ids {
		if !known(id) || int(d.order[i]) >= len(d.ids) {
			return false
		}
	}
	return true
}

// isWhole reports the same of groups, each of which is read once.
func (l *lazyGroups) isWhole(hasPlace func(Place) bool) bool {
	from := l.from
	if !ascend(from.ends, len(from.groups)) {
		return false
	}
	at := uint32(0)
	for _, end := range from.ends {
		var g Group
		read := &coder{data: from.groups[at:end], reading: true, rules: from.rules}
		if read.group(&g); read.damaged || read.at != len(read.data) || !hasPlace(g.Place) {
			return false
		}
		at = end
	}
	return true
}

// ascend reports whether numbers never fall, and the last one is the end of something.
func ascend(numbers []uint32, end int) bool {
	last := uint32(0)
	for _, n := range numbers {
		if n < last {
			return false
		}
		last = n
	}
	return int(last) == end
}
