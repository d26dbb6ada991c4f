package directory

import (
	"strconv"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// defaults are the values of settings that say nothing.
var defaults = map[string]string{"kind": "list", "copy": "every", "invitations": "follow", "welcome": "true", "echo": "true", "tell-held": "all",
	"voice-proof": "none", "replies-as": "person", "replies-to": "author"}

// Settings returns the settings of a group that are not the default, but for
// addresses, owners and moderators, as they are written.
func Settings(g *estate.Group) []estatefile.Field {
	var fields []estatefile.Field
	text := func(name, value string) {
		if value != "" && value != defaults[name] {
			fields = append(fields, estatefile.Field{Name: name, Text: value})
		}
	}
	text("title", g.Title)
	text("about", g.About)
	text("kind", g.Kind.String())
	text("copy", g.Copy.String())
	text("joiners", g.Joiners.String())
	text("outside-copy", g.OutsideCopy.String())
	text("invitations", g.Invitations.String())
	text("welcome", strconv.FormatBool(!g.NoWelcome))
	text("echo", strconv.FormatBool(!g.NoEcho))
	if len(g.Gate) != 1 || &g.Gate[0] != &estate.DefaultGate[0] {
		f := estatefile.Field{Name: "gate", List: []string{}}
		for _, rule := range g.Gate {
			f.List = append(f.List, rule.Text)
		}
		fields = append(fields, f)
	}
	text("tell-held", g.TellHeld.String())
	if len(g.Voice) > 0 {
		f := estatefile.Field{Name: "voice"}
		for _, rule := range g.Voice {
			f.List = append(f.List, rule.Text)
		}
		fields = append(fields, f)
	}
	text("voice-proof", estate.ProofWords[g.VoiceProof])
	text("replies-as", estate.RepliesAsWords[g.RepliesAs])
	text("replies-to", estate.RepliesToWords[g.RepliesTo])
	text("subject-tag", g.SubjectTag)
	if g.PauseAfter > 0 {
		text("pause-after", strconv.Itoa(g.PauseAfter))
	}
	text("managed-in", g.ManagedIn)
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
		one := estatefile.NewPerson{Place: p.Place, Facts: e.Facts(id), Fields: []estatefile.Field{{Name: "address", Text: p.Address.String()}}}
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
	one := estatefile.NewGroup{Place: group.Place, Fields: []estatefile.Field{{Name: "address", Text: group.Address.String()}}}
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
		one.Members = append(one.Members, estatefile.Member{Address: e.Address(entry.Member).String(), Membership: entry.Membership()})
	}
	for _, rule := range e.Rules(g) {
		m := estatefile.Member{Everyone: rule.Filter == nil, Membership: estate.Membership{Copy: rule.Copy, Invitations: rule.Invitations}}
		if rule.Filter != nil {
			m.Where = rule.Filter.String()
		}
		one.Members = append(one.Members, m)
	}
	return one
}
