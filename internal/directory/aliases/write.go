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
	return directory.Carries{Settings: []string{"managed-in"}, Also: true, AlsoPeople: true, Owners: true, Nobody: true,
		Controls:  true, // it holds no texts at all
		Addresses: isPlainTarget}
}

// isPlainTarget reports whether mail servers take an address for one, quoted or not:
// what begins with a bar is a program to them, with a slash a file, with a colon a
// list to include, with a backslash an account to deliver to at once.
func isPlainTarget(a address.Address) bool {
	local := a.Local()
	if strings.HasPrefix(local, `"`) {
		local = strings.TrimSpace(strings.Trim(local, `"`))
	}
	return local != "" && !strings.ContainsAny(local, `\"`) && !strings.ContainsAny(local[:1], "|/:~")
}

// Write writes the groups of an estate, and the further addresses of its people.
// Names in the first domain stand without it, as such a file is for one domain. An
// address that a mail server would not take for one is left out.
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
		if !isPlainTarget(group.Address) {
			continue
		}
		var targets []string
		for _, entry := range e.Entries(g) {
			if a := e.Address(entry.Member); isPlainTarget(a) {
				targets = append(targets, short(a))
			}
		}
		if len(targets) == 1 {
			// Twice, or it would be a further address of its only member.
			targets = append(targets, targets[0])
		}
		if len(targets) > 0 {
			line(short(group.Address), strings.Join(targets, ",\n  "))
		}
		for _, a := range group.Also {
			if isPlainTarget(a) {
				line(short(a), short(group.Address))
			}
		}
		var owners []string
		for _, one := range group.Owners {
			if a := e.Address(one.ID); isPlainTarget(a) {
				owners = append(owners, short(a))
			}
		}
		if len(owners) > 0 && len(targets) > 0 {
			line("owner-"+short(group.Address), strings.Join(owners, ", "))
		}
	}
	for i := range e.People() {
		p := e.Person(e.PersonID(i))
		for _, a := range p.Also {
			// Anything else would forward mail to somebody else.
			if Carries().HoldsAlso(e, e.PersonID(i), a) && isPlainTarget(a) && isPlainTarget(p.Address) {
				line(short(a), short(p.Address))
			}
		}
	}
	return out.Flush()
}
