package aliases

import (
	"bufio"
	"io"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
)

// Carries says what an alias file holds: who is in a group, and further addresses.
func Carries() directory.Carries {
	return directory.Carries{Settings: []string{"managed-in"}, Also: true, AlsoPeople: true, Owners: true, Nobody: true}
}

// Write writes the groups of an estate, and the further addresses of its people.
// Names in the first domain stand without it, as such a file is for one domain.
func Write(w io.Writer, e *estate.Estate) error {
	out := bufio.NewWriter(w)
	domain := "@" + e.Settings().Domains[0].Name
	short := func(a address.Address) string {
		text := a.String()
		if len(text) > len(domain) && strings.EqualFold(text[len(text)-len(domain):], domain) {
			text = text[:len(text)-len(domain)]
		}
		if strings.ContainsAny(text, " :#,\"") && !strings.HasPrefix(text, `"`) {
			return `"` + text + `"`
		}
		return text
	}
	line := func(name, to string) { _, _ = out.WriteString(name + ": " + to + "\n") }
	for g := range estate.ID(e.Groups()) {
		group := e.Group(g)
		var targets []string
		for _, entry := range e.Entries(g) {
			targets = append(targets, short(e.Address(entry.Member)))
		}
		if len(targets) == 1 {
			// Twice, or it would be a further address of its only member.
			targets = append(targets, targets[0])
		}
		if len(targets) > 0 {
			line(short(group.Address), strings.Join(targets, ",\n  "))
		}
		for _, a := range group.Also {
			line(short(a), short(group.Address))
		}
		var owners []string
		for _, one := range group.Owners {
			owners = append(owners, short(e.Address(one.ID)))
		}
		if len(owners) > 0 && len(targets) > 0 {
			line("owner-"+short(group.Address), strings.Join(owners, ", "))
		}
	}
	for i := range e.People() {
		p := e.Person(e.PersonID(i))
		for _, a := range p.Also {
			// Anything else would forward mail to somebody else.
			if Carries().HoldsAlso(e, e.PersonID(i), a) {
				line(short(a), short(p.Address))
			}
		}
	}
	return out.Flush()
}
