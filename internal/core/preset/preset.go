// Package preset holds ready sets of settings for new groups: what a group is
// for decides who may post to it and who receives it.
package preset

import (
	"slices"

	"yorvet.example/yorvet/internal/core/change"
)

// A Preset is a set of settings that go together.
type Preset struct {
	Name     string
	For      string // what it is for, in a few words
	Posts    string // what it means for who posts
	Receives string // what it means for who receives
	Settings []change.Said
}

const signIn = `refuse unproven because "Sign in before you write in our name."`

// All returns all presets.
func All() []Preset { return slices.Clone(all) }

var all = []Preset{
	{
		Name:  "desk",
		For:   "an address that people outside write to, answered in its own name",
		Posts: "Everybody, also from outside. Forged mail is refused, and suspect mail is held for approval.",
		Receives: "Every member gets a copy, and past mail can be read. Members answer its author as the group, so that " +
			"what the author writes next comes to the group.",
		Settings: []change.Said{
			{Setting: "kind", Texts: []string{"forum"}},
			{Setting: "copy", Texts: []string{"every"}},
			{Setting: "gate", Texts: []string{signIn, "hold suspect", "admit anyone"}},
			{Setting: "send-as", Texts: []string{"as members"}},
			{Setting: "replies-as", Texts: []string{"group"}},
			{Setting: "replies-to", Texts: []string{"author"}},
		},
	},
	{
		Name:     "discussion",
		For:      "people who write to each other",
		Posts:    "Only members and owners. Everybody else is refused and told so.",
		Receives: "Every member gets a copy.",
		Settings: []change.Said{
			{Setting: "kind", Texts: []string{"list"}},
			{Setting: "copy", Texts: []string{"every"}},
			{Setting: "gate", Texts: []string{signIn, "admit members or owners"}},
			{Setting: "access.find", Texts: []string{"members"}},
		},
	},
	{
		Name:     "bulletin",
		For:      "news from a few to many",
		Posts:    "Only owners and moderators. Everybody else is refused and told so.",
		Receives: "Every member gets a copy. Answers go to the author, not to all.",
		Settings: []change.Said{
			{Setting: "kind", Texts: []string{"list"}},
			{Setting: "copy", Texts: []string{"every"}},
			{
				Setting: "gate",
				Texts: []string{
					signIn,
					"admit owners or moderators",
					`refuse anyone because "Only its owners write to this group."`,
				},
			},
			{Setting: "replies-to", Texts: []string{"author"}},
		},
	},
	{
		Name: "moderated",
		For:  "mail that somebody looks at before anybody gets it",
		Posts: "Everybody, and every message is held for approval, except those of moderators and owners. Forged mail " +
			"is refused.",
		Receives: "Every member gets a copy of what is admitted.",
		Settings: []change.Said{
			{Setting: "kind", Texts: []string{"list"}},
			{Setting: "copy", Texts: []string{"every"}},
			{Setting: "gate", Texts: []string{signIn, "admit moderators or owners", "hold anyone"}},
		},
	},
	{
		Name:     "shared-inbox",
		For:      "mail that is kept where members read it, and not copied",
		Posts:    "Everybody inside. Everybody else is refused and told so.",
		Receives: "Nobody gets a copy: members read the mail in the group's own mailbox.",
		Settings: []change.Said{
			{Setting: "kind", Texts: []string{"mailbox"}},
			{Setting: "gate", Texts: []string{signIn, "admit inside"}},
		},
	},
	{
		Name:     "access-only",
		For:      "a set of people that other groups, gates and systems name",
		Posts:    "Nobody: it accepts no mail.",
		Receives: "Nobody, except as part of a group that it is nested in.",
		Settings: []change.Said{{Setting: "kind", Texts: []string{"roster"}}},
	},
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
