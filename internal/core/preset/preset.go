// Package preset holds ready sets of settings for new groups: what a group is
// for decides who may post to it and who receives it.
package preset

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

// A Preset is a set of settings that go together.
type Preset struct {
	Name     string
	For      string // what it is for, in a few words
	Posts    string // what it means for who posts
	Receives string // what it means for who receives
	Held     string // what else the choice held changes, "" if there is no such choice

	settings []change.Said
	held     []string // the gate of that choice
}

// our stands in a rule for the domains of the estate.
const our = "OUR"

const (
	signIn  = `refuse unproven and ` + our + ` because "Sign in before you write in our name."`
	proveIt = `refuse unproven because "Nothing shows that this message is from the address in it."`
)

// All returns all presets.
func All() []Preset { return slices.Clone(all) }

var all = []Preset{
	{
		Name: "desk",
		For:  "an address that people outside write to, answered in its own name",
		Posts: "Everybody, also from outside. Mail that claims to be from inside and is not authenticated is refused, and " +
			"suspect mail is held for approval.",
		Receives: "Every member gets a copy, and past mail can be read. Inside members answer its author as the group, so " +
			"that what the author writes next comes to the group.",
		settings: []change.Said{
			{Setting: "kind", Texts: []string{"forum"}},
			{Setting: "copy", Texts: []string{"every"}},
			{Setting: "gate", Texts: []string{signIn, "hold suspect", "admit anyone"}},
			{Setting: "send-as", Texts: []string{"as inside and (members or owners)"}},
			{Setting: "replies-as", Texts: []string{"group"}},
			{Setting: "replies-to", Texts: []string{"author"}},
		},
	},
	{
		Name: "discussion",
		For:  "people inside who write to each other",
		Posts: "Only members and owners inside. Everybody else is refused and told so, and so is mail that is not " +
			"authenticated.",
		Receives: "Every member gets a copy. Members outside read along.",
		settings: []change.Said{
			{Setting: "kind", Texts: []string{"list"}},
			{Setting: "copy", Texts: []string{"every"}},
			{Setting: "gate", Texts: []string{proveIt, "admit inside and (members or owners)"}},
			{Setting: "access.find", Texts: []string{"members"}},
		},
	},
	{
		Name:     "bulletin",
		For:      "news from a few to many",
		Posts:    "Only owners and moderators inside. Everybody else is refused and told so.",
		Receives: "Every member gets a copy. Answers go to the author, not to all.",
		Held:     "What others inside write is held for approval.",
		settings: []change.Said{
			{Setting: "kind", Texts: []string{"list"}},
			{Setting: "copy", Texts: []string{"every"}},
			{
				Setting: "gate",
				Texts: []string{
					proveIt,
					"admit inside and (owners or moderators)",
					`refuse anyone because "Only its owners write to this group."`,
				},
			},
			{Setting: "replies-to", Texts: []string{"author"}},
		},
		held: []string{proveIt, "admit inside and (owners or moderators)", "hold inside"},
	},
	{
		Name: "moderated",
		For:  "mail that somebody looks at before anybody gets it",
		Posts: "Everybody, and every message is held for approval, except those of moderators and owners. Mail that claims " +
			"to be from inside and is not authenticated is refused.",
		Receives: "Every member gets a copy of what is admitted. Inside members answer as the group.",
		settings: []change.Said{
			{Setting: "kind", Texts: []string{"list"}},
			{Setting: "copy", Texts: []string{"every"}},
			{Setting: "gate", Texts: []string{signIn, "admit inside and (moderators or owners)", "hold anyone"}},
			{Setting: "send-as", Texts: []string{"as inside and (members or owners)"}},
			{Setting: "replies-as", Texts: []string{"group"}},
			{Setting: "replies-to", Texts: []string{"author"}},
		},
	},
	{
		Name:     "shared-inbox",
		For:      "mail that is kept where members read it, and not copied",
		Posts:    "Everybody inside. Everybody else is refused and told so.",
		Receives: "Nobody gets a copy: members read the mail in the group's own mailbox.",
		settings: []change.Said{
			{Setting: "kind", Texts: []string{"mailbox"}},
			{Setting: "gate", Texts: []string{signIn, "admit inside"}},
		},
	},
	{
		Name:     "access-only",
		For:      "a set of people that other groups, gates and systems name",
		Posts:    "Nobody: it accepts no mail.",
		Receives: "Nobody, except as part of a group that it is nested in.",
		settings: []change.Said{{Setting: "kind", Texts: []string{"roster"}}},
	},
}

// Settings returns the settings of a group in an estate of which it is one; held is the
// choice that Held is about.
func (p *Preset) Settings(e *estate.Estate, held bool) []change.Said {
	list := slices.Clone(p.settings)
	for i, said := range list {
		if said.Setting != "gate" {
			continue
		}
		texts := said.Texts
		if held && p.held != nil {
			texts = p.held
		}
		list[i].Texts = nil
		for _, text := range texts {
			list[i].Texts = append(list[i].Texts, strings.ReplaceAll(text, our, ours(e)))
		}
	}
	return list
}

// Said returns the settings as they are shown without an estate.
func (p *Preset) Said() []change.Said {
	list := slices.Clone(p.settings)
	for i := range list {
		list[i].Texts = slices.Clone(list[i].Texts)
		for j, text := range list[i].Texts {
			list[i].Texts[j] = strings.ReplaceAll(text, our, "@DOMAIN")
		}
	}
	return list
}

// ours returns a selector of the domains of an estate.
func ours(e *estate.Estate) string {
	var list []string
	for _, d := range e.Settings().Domains {
		if d.SameAs == "" {
			list = append(list, "@"+d.Name)
		}
	}
	if len(list) == 1 {
		return list[0]
	}
	return "(" + strings.Join(list, " or ") + ")"
}

// TakesMail reports whether groups of the preset take mail that their owners are to see.
func (p *Preset) TakesMail() bool {
	return !slices.ContainsFunc(p.settings, func(s change.Said) bool {
		return s.Setting == "kind" && slices.Equal(s.Texts, []string{"roster"})
	})
}

// Find returns the preset of a name, and whether there is one.
func Find(name string) (Preset, bool) {
	for _, p := range all {
		if p.Name == name {
			return p, true
		}
	}
	return Preset{}, false
}

// Names returns the names of all presets.
func Names() []string {
	var names []string
	for _, p := range all {
		names = append(names, p.Name)
	}
	return names
}
