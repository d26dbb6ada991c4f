package directory

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// Settings returns the settings of a group that are not the default, but for
// addresses, owners, moderators and access, as they are written.
func Settings(g *estate.Group) []estatefile.Field {
	var fields []estatefile.Field
	for setting := range estate.GroupSettings() {
		switch setting.Form {
		case estate.FormAddress, estate.FormAddresses, estate.FormParties, estate.FormSelector:
			continue
		}
		texts := setting.Texts(nil, g)
		switch {
		case setting.Form.IsList() && texts != nil:
			fields = append(fields, estatefile.Field{Name: setting.Name, List: texts})
		case len(texts) > 0:
			fields = append(fields, estatefile.Field{Name: setting.Name, Text: texts[0]})
		}
	}
	return fields
}

// ContentOf returns all that an estate holds, but for accepted hazards, so that it
// can be changed and built again.
func ContentOf(e *estate.Estate) *estatefile.Content {
	settings := *e.Settings()
	c := &estatefile.Content{Settings: &settings, Files: settings.Files}
	for i := range e.People() {
		id := e.PersonID(i)
		p := e.Person(id)
		if p.Implied {
			continue
		}
		one := estatefile.NewPerson{
			Place:  p.Place,
			Facts:  e.Facts(id),
			Fields: []estatefile.Field{{Name: "address", Text: p.Address.String()}},
		}
		if p.Name != "" {
			one.Fields = append(one.Fields, estatefile.Field{Name: "name", Text: p.Name})
		}
		if len(p.Also) > 0 {
			one.Fields = append(one.Fields, estatefile.Field{Name: "also", List: texts(p.Also)})
		}
		if p.Mailbox != estate.MailboxOpen {
			one.Fields = append(one.Fields, estatefile.Field{Name: "mailbox", Text: p.Mailbox.String()})
		}
		c.People = append(c.People, one)
	}
	for g := range estate.ID(e.Groups()) {
		c.Groups = append(c.Groups, groupContent(e, g))
	}
	return c
}

func groupContent(e *estate.Estate, g estate.ID) estatefile.NewGroup {
	group := e.Group(g)
	one := estatefile.NewGroup{
		Place:  group.Place,
		Fields: []estatefile.Field{{Name: "address", Text: group.Address.String()}},
	}
	list := func(name string, texts []string) {
		if len(texts) > 0 {
			one.Fields = append(one.Fields, estatefile.Field{Name: name, List: texts})
		}
	}
	list("also", texts(group.Also))
	for _, listed := range []struct {
		name string
		list []estate.Listed
	}{{"owners", group.Owners}, {"moderators", group.Moderators}} {
		var names []string
		for _, who := range listed.list {
			names = append(names, e.Address(who.ID).String())
		}
		list(listed.name, names)
	}
	one.Fields = append(one.Fields, Settings(group)...)
	for i, rule := range group.Access {
		if rule.Place != (estate.Place{}) {
			one.Access = append(one.Access, estatefile.Field{Name: estate.ActionWords[i], Text: rule.Text})
		}
	}
	for _, entry := range e.Entries(g) {
		one.Members = append(
			one.Members,
			estatefile.Member{Address: e.Address(entry.Member).String(), Membership: entry.Membership()},
		)
	}
	for _, rule := range e.Rules(g) {
		m := estatefile.Member{
			Everyone:   rule.Filter == nil,
			Membership: estate.Membership{Copy: rule.Copy, Invitations: rule.Invitations},
		}
		if rule.Filter != nil {
			m.Where = rule.Filter.String()
		}
		one.Members = append(one.Members, m)
	}
	return one
}
