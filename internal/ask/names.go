package ask

import (
	"iter"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
)

// mostCandidates is how many are named of those that a text may mean.
const mostCandidates = 5

// Whose says who a name without a domain may mean.
type Whose uint8

// Who a name may mean.
const (
	Anybody Whose = iota
	OfGroups
	OfPeople
)

// Addresses yields the main addresses and aliases of groups, people or both, with whose
// they are.
func (d *Desk) Addresses(who Whose) iter.Seq2[estate.ID, address.Address] {
	return func(yield func(estate.ID, address.Address) bool) {
		all := func(id estate.ID, main address.Address, also []address.Address) bool {
			if !yield(id, main) {
				return false
			}
			for _, a := range also {
				if !yield(id, a) {
					return false
				}
			}
			return true
		}
		if who != OfPeople {
			for id := range estate.ID(d.Estate.Groups()) {
				if !all(id, d.Estate.Address(id), d.Estate.Also(id)) {
					return
				}
			}
		}
		if who == OfGroups {
			return
		}
		for i := range d.Estate.People() {
			if p := d.Estate.Person(d.Estate.PersonID(i)); !all(d.Estate.PersonID(i), p.Address, p.Also) {
				return
			}
		}
	}
}

// ByLocalPart returns the one who a local part means, if text is one and it is unique.
// What it may mean otherwise is an error.
func (d *Desk) ByLocalPart(text string, who Whose) (id estate.ID, ok bool, err error) {
	if text == "" || strings.Contains(text, "@") {
		return estate.None, false, nil
	}
	var found []estate.ID
	var names []string
	for one, a := range d.Addresses(who) {
		if local := a.Local(); strings.EqualFold(local, text) && (len(found) == 0 || found[len(found)-1] != one) {
			found, names = append(found, one), append(names, a.String())
		}
	}
	switch len(found) {
	case 0:
		return estate.None, false, nil
	case 1:
		return found[0], true, nil
	}
	return estate.None, false, Errorf("%s may be %s; name the whole address", text, someOf(names))
}

// ByName returns the person that a name means, or some of its words, if that is one
// alone. What it may mean otherwise is an error.
func (d *Desk) ByName(text string) (id estate.ID, ok bool, err error) {
	words := strings.Fields(strings.ToLower(text))
	if len(words) == 0 || strings.Contains(text, "@") {
		return estate.None, false, nil
	}
	var exact, found []estate.ID
	for _, id := range d.rarest(words) {
		name := strings.Fields(strings.ToLower(d.Estate.Person(id).Name))
		if strings.Join(name, " ") == strings.Join(words, " ") {
			exact = append(exact, id)
		}
		if containsAll(name, words) {
			found = append(found, id)
		}
	}
	if len(exact) == 1 {
		return exact[0], true, nil
	}
	switch len(found) {
	case 0:
		return estate.None, false, nil
	case 1:
		return found[0], true, nil
	}
	var names []string
	for _, id := range found {
		names = append(names, d.Estate.Person(id).Name+" ("+d.Estate.Address(id).String()+")")
	}
	return estate.None, false, Errorf("%q may be %s", text, someOf(names))
}

// rarest returns the people who have that of some words in their name which fewest have.
func (d *Desk) rarest(words []string) (few []estate.ID) {
	if d.byWord == nil {
		d.byWord = map[string][]estate.ID{}
		for i := range d.Estate.People() {
			id := d.Estate.PersonID(i)
			for word := range strings.FieldsSeq(strings.ToLower(d.Estate.Person(id).Name)) {
				if list := d.byWord[word]; len(list) == 0 || list[len(list)-1] != id {
					d.byWord[word] = append(list, id)
				}
			}
		}
	}
	for i, word := range words {
		if list := d.byWord[word]; i == 0 || len(list) < len(few) {
			few = list
		}
	}
	return few
}

func containsAll(list, words []string) bool {
	return !slices.ContainsFunc(words, func(word string) bool { return !slices.Contains(list, word) })
}

// someOf joins a few of a list, and says how many more there are.
func someOf(list []string) string {
	if len(list) > mostCandidates {
		return strings.Join(list[:mostCandidates], ", ") + " or one of " + strconv.Itoa(len(list)-mostCandidates) + " more"
	}
	return OrList(list)
}

// Group returns the group that an argument names: by an address, or by a local part
// that no other group has.
func (d *Desk) Group(text string) (estate.ID, error) {
	if id, ok, err := d.ByLocalPart(text, OfGroups); ok || err != nil {
		return id, err
	}
	a, err := address.Parse(text)
	if err != nil {
		if near := d.NearGroups(text); !strings.Contains(text, "@") {
			return estate.None, Errorf("no group %q%s", text, Meant(near...))
		}
		return estate.None, Errorf("%v%s", err, Meant(d.NearGroups(text)...))
	}
	id, ok := d.Estate.Find(a)
	switch {
	case !ok:
		return estate.None, Errorf("no group %q%s", text, Meant(d.NearGroups(text)...))
	case !d.Estate.IsGroup(id):
		return estate.None, Errorf("%s is a person, expected a group", text)
	}
	return id, nil
}

// NearGroups returns the addresses of groups that a text may have meant: near
// misses, or those whose local part it is.
func (d *Desk) NearGroups(text string) []string {
	groups := func(yield func(string) bool) {
		for id := range estate.ID(d.Estate.Groups()) {
			g := d.Estate.Group(id)
			for _, a := range append([]address.Address{g.Address}, g.Also...) {
				if !yield(a.String()) {
					return
				}
			}
		}
	}
	const most = 3
	if !strings.Contains(text, "@") {
		return d.nearLocalParts(text, most)
	}
	if near := nearest.Words(text, groups, most); len(near) > 0 {
		return near
	}
	local, _, _ := strings.Cut(strings.ToLower(text), "@")
	var near []string
	for a := range groups {
		if name, _, _ := strings.Cut(strings.ToLower(a), "@"); len(near) < most && name == local {
			near = append(near, a)
		}
	}
	return near
}

// nearLocalParts returns the addresses of groups whose local part a text may have meant.
func (d *Desk) nearLocalParts(text string, most int) []string {
	var list []string
	locals := func(yield func(string) bool) {
		for _, a := range d.Addresses(OfGroups) {
			if !yield(a.Local()) {
				return
			}
		}
	}
	for _, local := range nearest.Words(text, locals, most) {
		for _, a := range d.Addresses(OfGroups) {
			if a.Local() == local && len(list) < most {
				list = append(list, a.String())
			}
		}
	}
	return list
}

// Address returns the address that a flag names, in full or by a local part that nobody
// else has.
func (d *Desk) Address(flag, text string) (address.Address, error) {
	if id, ok, err := d.ByLocalPart(text, Anybody); err != nil {
		return address.Address{}, err
	} else if ok {
		return d.Estate.Address(id), nil
	}
	a, err := address.Parse(text)
	switch {
	case err != nil && !strings.Contains(text, "@"):
		return a, Errorf("--%s: no address %q in the estate", flag, text)
	case err != nil:
		return a, Errorf("--%s: %w", flag, err)
	}
	return a, nil
}

// Person returns the person that an argument names.
func (d *Desk) Person(text string) (estate.ID, error) {
	if id, ok, err := d.ByLocalPart(text, OfPeople); ok || err != nil {
		return id, err
	}
	if id, ok, err := d.ByName(text); ok || err != nil {
		return id, err
	}
	if id, ok, _ := d.ByLocalPart(text, OfGroups); ok {
		text = d.Estate.Address(id).String()
	}
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, Errorf("no person %q", text)
	}
	id, ok := d.Estate.Find(a)
	switch {
	case !ok:
		return estate.None, Errorf("no person %q%s", text, Meant(nearest.Words(text, d.Estate.Addresses, 3)...))
	case d.Estate.IsGroup(id):
		return estate.None, Errorf("%s is a group; try yorvet who receives %s", text, text)
	}
	return id, nil
}
