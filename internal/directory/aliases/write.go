package aliases

import (
	"bufio"
	"io"
	"slices"
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
func Write(w io.Writer, e *estate.Estate) error { return write(w, e, false) }

// Expand writes what Write does, for mail servers: rules among the members stand as the people
// who they pick, and a roster, which accepts no mail, as those who are in it, where it is listed.
func Expand(w io.Writer, e *estate.Estate) error { return write(w, e, true) }

// Expanded is what Carries says of Expand.
func Expanded() directory.Carries {
	c := Carries()
	c.Expanded = true
	return c
}

func write(w io.Writer, e *estate.Estate, expand bool) error {
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
		if !isPlainTarget(group.Address) || expand && group.Kind == estate.Roster {
			continue
		}
		var targets []string
		if expand {
			for _, a := range recipients(e, g) {
				targets = append(targets, short(a))
			}
		} else {
			for _, entry := range e.Entries(g) {
				if a := e.Address(entry.Member); isPlainTarget(a) {
					targets = append(targets, short(a))
				}
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

// recipients returns the addresses that mail to a group goes to, each once: members as they are
// listed, rosters among them by their members, and who rules pick.
func recipients(e *estate.Estate, group estate.ID) (list []address.Address) {
	met := map[estate.ID]bool{}
	var add func(g estate.ID)
	add = func(g estate.ID) {
		for _, entry := range e.Entries(g) {
			switch id := entry.Member; {
			case met[id]:
			case e.IsGroup(id) && e.Group(id).Kind == estate.Roster:
				met[id] = true
				add(id)
			default:
				met[id] = true
				list = append(list, e.Address(id))
			}
		}
		for _, rule := range e.Rules(g) {
			for i := range e.People() {
				id := e.PersonID(i)
				if !met[id] && e.Inside(id) && (rule.Filter == nil || e.Matches(id, rule.Filter)) {
					met[id] = true
					list = append(list, e.Address(id))
				}
			}
		}
	}
	add(group)
	return slices.DeleteFunc(list, func(a address.Address) bool { return !isPlainTarget(a) })
}
