package directory

import (
	"slices"
	"strconv"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
)

// findRenamed notes who is there by another address, so that others who list the new
// one mean them.
func (u *updater) findRenamed() {
	renamed, met := map[string]estate.ID{}, map[estate.ID]bool{}
	note := func(fields []estatefile.Field, isGroup bool, by recognised) {
		id, ok := u.find(fields, by)
		if !ok || u.e.IsGroup(id) != isGroup || met[id] || !isGroup && u.e.Person(id).Implied {
			return
		}
		met[id] = true // as in person and group, the first counts
		system, _ := fieldOf(fields, "managed-in")
		if isGroup && u.isElsewhere(u.e.Group(id), system.Text) {
			return
		}
		if k := key(fields[0].Text); k != u.e.Address(id).Key() {
			renamed[k] = id
		}
	}
	for i := range u.People {
		note(u.People[i].Fields, false, u.Merged.known[i])
	}
	for i := range u.Groups {
		note(u.Groups[i].Fields, true, recognised{})
	}
	u.renamed = renamed
}

// findClaims notes whose addresses are whose by the sources, and how people of the estate are
// known again.
func (u *updater) findClaims() {
	u.mains, u.people = map[string]bool{}, map[string]estate.ID{}
	note := func(fields []estatefile.Field) {
		u.mains[key(fields[0].Text)] = true
	}
	names := map[string]bool{}
	for i := range u.People {
		if !u.Merged.known[i].hinted {
			note(u.People[i].Fields)
		}
		if name := u.Merged.known[i].identity.Name; name != "" {
			names[selector.Fold(name)] = true
		}
	}
	for i := range u.Groups {
		note(u.Groups[i].Fields)
	}
	for i := range u.e.People() {
		id := u.e.PersonID(i)
		for name := range names {
			for _, value := range u.e.Values(id, name) {
				k := identityKey(estate.Attribute{Name: name, Value: value})
				if _, twice := u.people[k]; twice {
					id = estate.None // nobody is known by it
				}
				u.people[k] = id
			}
		}
	}
}

func identityKey(a estate.Attribute) string { return selector.Fold(a.Name) + "\x00" + a.Value }

// find returns the one of the estate that a record of a source is about: whose main address it has,
// or else who has got another one. An alias alone makes nobody somebody else: that of a person
// who has not got the main address may have been handed over to them.
func (u *updater) find(fields []estatefile.Field, by recognised) (estate.ID, bool) {
	main := fields[0].Text
	also, _ := fieldOf(fields, "also")
	if id, ok := u.id(main); ok {
		now := u.e.Address(id)
		if by.hinted || now.Key() == key(main) || u.isRenamed(id, main) || u.e.IsGroup(id) && !u.mains[now.Key()] || holds(also.List, now) {
			return id, true
		}
		return estate.None, false
	}
	for _, text := range also.List {
		id, ok := u.id(text)
		if ok && !u.mains[u.e.Address(id).Key()] && (u.e.IsGroup(id) || u.e.Address(id).Key() == key(text)) {
			return id, true
		}
	}
	id, ok := u.people[identityKey(by.identity)]
	if ok && by.identity.Name != "" && id != estate.None && !u.mains[u.e.Address(id).Key()] {
		return id, true
	}
	return estate.None, false
}

// isRenamed reports whether a main address of the sources is one that somebody of the estate gets.
func (u *updater) isRenamed(id estate.ID, main string) bool {
	whose, ok := u.renamed[key(main)]
	return ok && whose == id
}

// holder returns who of the estate keeps an address that a record of somebody else claims: those
// that the sources do not speak of, and a person who took it over as the main address
// of another. An alias of others goes where the sources say.
func (u *updater) holder(text, main string, own estate.ID) (estate.ID, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, false
	}
	id, ok := u.e.Exact(a)
	if !ok || id == own || u.e.IsPerson(id) && u.e.Person(id).Implied || u.prefer[key(main)] {
		return estate.None, false
	}
	handedOver := key(text) == key(main) && u.e.IsPerson(id)
	return id, handedOver || !u.mains[u.e.Address(id).Key()]
}

// free takes the addresses of a record that others of the estate have: who keeps one is reported, and
// the others lose it. It returns the record without those that are kept.
func (u *updater) free(fields []estatefile.Field, at estate.Place, own estate.ID) ([]estatefile.Field, bool) {
	main := fields[0].Text
	var kept []string
	also, _ := fieldOf(fields, "also")
	for _, text := range append([]string{main}, also.List...) {
		id, keeps := u.holder(text, main, own)
		if keeps {
			now := u.e.Address(id).String()
			u.claims, u.kept[key(text)] = append(u.claims, claim{at.File, text, main}), now
			u.Conflicts = slices.DeleteFunc(u.Conflicts, func(c Conflict) bool { // of which the estate makes nothing
				return c.What == "this" && key(c.Who) == key(text)
			})
			u.Conflicts = append(u.Conflicts, Conflict{text, "this", Claim{"an alias of " + now, u.placeOf(id)},
				Claim{"an address of " + main, u.Files[at.File] + ":" + strconv.Itoa(int(at.Line))}})
			if kept = append(kept, text); text == main {
				u.met[id] = true
				return nil, false
			}
			continue
		}
		u.take(text, own)
	}
	if len(kept) == 0 {
		return fields, true
	}
	fields = slices.Clone(fields)
	for i, f := range fields {
		if f.Name == "also" {
			fields[i].List = lacking(f.List, kept)
		}
	}
	return fields, true
}

// take takes an address from the one in the estate who has it as an alias.
func (u *updater) take(text string, own estate.ID) {
	a, err := address.Parse(text)
	if err != nil {
		return
	}
	id, ok := u.e.Exact(a)
	switch {
	case !ok || id == own || u.e.Address(id).Key() == a.Key():
	case u.e.IsGroup(id):
		u.change(change.SetList{Group: id, Setting: "also", Drop: []string{text}})
	default:
		u.change(change.SetPersonAlso{Person: id, Also: addresses(lacking(texts(u.e.Person(id).Also), []string{text})...)})
	}
}

// placeOf returns where somebody stands in the estate.
func (u *updater) placeOf(id estate.ID) string {
	var place estate.Place
	if u.e.IsGroup(id) {
		place = u.e.Group(id).Place
	} else {
		place = u.e.Person(id).Place
	}
	return u.e.Settings().Position(place)
}

func (u *updater) id(text string) (estate.ID, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, false
	}
	if id, ok := u.e.Exact(a); ok {
		return id, true
	}
	if id, ok := u.renamed[a.Key()]; ok {
		return id, true
	}
	return estate.None, false
}
