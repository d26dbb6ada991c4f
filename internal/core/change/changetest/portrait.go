package changetest

import (
	"fmt"
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
)

// Portrait tells all that an estate holds line by line, but for places, the order of
// members, and people who are known only by being listed.
func Portrait(e *estate.Estate) []string {
	lines := []string{fmt.Sprint("nested gates ", e.Settings().OpenNestedGates)}
	for _, d := range e.Settings().Domains {
		lines = append(lines, fmt.Sprint("domain ", d.Name, " ", d.SameAs))
	}
	for i := range e.People() {
		id := e.PersonID(i)
		p := *e.Person(id)
		if p.Implied {
			continue
		}
		p.Place = estate.Place{}
		lines = append(lines, fmt.Sprintf("person %+v %q", p, e.Attributes(id)))
	}
	for g := range estate.ID(e.Groups()) {
		for setting := range estate.GroupSettings() {
			lines = append(lines, fmt.Sprintf("%s %q", setting.Name, setting.Holds(e, e.Group(g))))
		}
		var members []string
		for _, entry := range e.Entries(g) {
			members = append(members, fmt.Sprintf("member %s %+v", e.Address(entry.Member), entry.Membership()))
		}
		for _, rule := range e.Rules(g) {
			members = append(members, fmt.Sprintf("rule %v %+v", rule.Filter, rule.Membership))
		}
		slices.Sort(members)
		lines = append(lines, members...)
	}
	return lines
}

// Differing tells the first line in which two portraits differ, or "".
func Differing(got, want []string) string {
	for i := range max(len(got), len(want)) {
		switch {
		case i >= len(got):
			return fmt.Sprintf("%q is missing", want[i])
		case i >= len(want):
			return fmt.Sprintf("%q is too much", got[i])
		case got[i] != want[i]:
			return fmt.Sprintf("%q, want %q", got[i], want[i])
		}
	}
	return ""
}
