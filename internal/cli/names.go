package cli

import (
	"iter"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// mostCandidates is how many are named of those whom a text may mean.
const mostCandidates = 5

// whose are those whom a name without a domain may mean.
type whose uint8

const (
	ofAnybody whose = iota
	ofGroups
	ofPeople
)

// addressesOf yields the main addresses and aliases of groups, people or both, with whose
// they are.
func (s *session) addressesOf(who whose) iter.Seq2[estate.ID, address.Address] {
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
		if who != ofPeople {
			for id := range estate.ID(s.e.Groups()) {
				if !all(id, s.e.Address(id), s.e.Also(id)) {
					return
				}
			}
		}
		if who == ofGroups {
			return
		}
		for i := range s.e.People() {
			if p := s.e.Person(s.e.PersonID(i)); !all(s.e.PersonID(i), p.Address, p.Also) {
				return
			}
		}
	}
}

// byLocalPart returns the one whom a local part means, if text is one and it is unique.
// What it may mean otherwise is an error.
func (s *session) byLocalPart(text string, who whose) (id estate.ID, ok bool, err error) {
	if text == "" || strings.Contains(text, "@") {
		return estate.None, false, nil
	}
	var found []estate.ID
	var names []string
	for one, a := range s.addressesOf(who) {
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
	return estate.None, false, usageError("%s may be %s; name the whole address", text, someOf(names))
}

// byName returns the person whom a name means, or some of its words, if that is one
// alone. What it may mean otherwise is an error.
func (s *session) byName(text string) (id estate.ID, ok bool, err error) {
	words := strings.Fields(strings.ToLower(text))
	if len(words) == 0 || strings.Contains(text, "@") {
		return estate.None, false, nil
	}
	var exact, found []estate.ID
	for _, id := range s.rarest(words) {
		name := strings.Fields(strings.ToLower(s.e.Person(id).Name))
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
		names = append(names, s.e.Person(id).Name+" ("+s.e.Address(id).String()+")")
	}
	return estate.None, false, usageError("%q may be %s", text, someOf(names))
}

// rarest returns the people who have that of some words in their name which fewest have.
func (s *session) rarest(words []string) (few []estate.ID) {
	if s.byWord == nil {
		s.byWord = map[string][]estate.ID{}
		for i := range s.e.People() {
			id := s.e.PersonID(i)
			for word := range strings.FieldsSeq(strings.ToLower(s.e.Person(id).Name)) {
				if list := s.byWord[word]; len(list) == 0 || list[len(list)-1] != id {
					s.byWord[word] = append(list, id)
				}
			}
		}
	}
	for i, word := range words {
		if list := s.byWord[word]; i == 0 || len(list) < len(few) {
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
	return orList(list)
}
