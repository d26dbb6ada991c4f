package effect_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/sample"
)

// others are, for every setting of a group, values that differ from the default and
// from each other.
var others = map[string][2]string{
	"address": {"crew@kelp.example", "Crew@kelp.example"}, "also": {"[x@kelp.example]", "[y@kelp.example]"}, "title": {"A", "B"}, "about": {"A", "B"},
	"kind": {"forum", "mailbox"}, "owners": {"[ann@kelp.example]", "[bob@kelp.example]"}, "moderators": {"[ann@kelp.example]", "[bob@kelp.example]"},
	"copy": {"digest", "none"}, "joiners": {"digest", "none"}, "outside-copy": {"digest", "none"}, "invitations": {"every", "none"}, "welcome": {"false", "true"},
	"echo": {"false", "true"}, "gate": {"[hold suspect, admit inside]", "[]"}, "notify-sender": {"inside", "nobody"}, "send-as": {"[as members]", "[for members]"},
	"send-as-proof": {"mailed-code", "none"}, "replies-as": {"group", "person"}, "replies-to": {"group", "ann@kelp.example"}, "subject-tag": {"'[a]'", "'[b]'"}, "pause-after": {"3", "4"},
	"managed-in": {"a", "b"}, "outside-members": {"refused", "allowed"}, "footer": {"A", "B"}, "auto-answer": {"A", "B"},
	"attributes": {"{a: 1}", "{a: [1, 2]}"},
}

// Whatever setting of a group differs, it is never said that nothing changes: each
// by itself, on its way from the default and between two values.
func TestNoSettingIsForgotten(t *testing.T) {
	const head = "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example}, {address: bob@kelp.example}]\ngroups:\n"
	written := func(name, value string) string {
		address := "crew@kelp.example"
		text := ""
		switch action, isAccess := strings.CutPrefix(name, "access."); {
		case value == "":
		case name == "address":
			address = value
		case isAccess:
			text = ", access: {" + action + ": " + value + "}"
		default:
			text = ", " + name + ": " + value
		}
		return head + "- {address: " + address + ", members: [ann@kelp.example, c@out.example]" + text + "}\n"
	}
	for s := range estate.GroupSettings() {
		values, ok := others[s.Name]
		if s.Form == estate.FormAccess {
			values, ok = [2]string{"owners or anyone", "nobody and members"}, true
		}
		if !ok {
			t.Errorf("there are no values of %s to try", s.Name)
			continue
		}
		for _, pair := range [][2]string{{"", values[0]}, {values[0], values[1]}, {values[0], ""}} {
			older, newer := sample.Load(t, written(s.Name, pair[0])), sample.Load(t, written(s.Name, pair[1]))
			same := written(s.Name, pair[0]) == written(s.Name, pair[1])
			for about, report := range map[string]*effect.Report{"Compare": effect.Compare(older, newer), "CompareAll": effect.CompareAll(older, newer)} {
				if report.IsEmpty() != same {
					t.Errorf("%s of %s from %q to %q: nothing changes: %v", about, s.Name, pair[0], pair[1], report.IsEmpty())
				}
			}
			if report := effect.Compare(older, older); !report.IsEmpty() {
				t.Errorf("%s with itself: %+v", s.Name, report)
			}
		}
	}
}

// The same for what is said of the estate, of people and of memberships.
func TestNothingElseIsForgotten(t *testing.T) {
	const estateText = `yorvet: 1
name: Kelp
domains: [kelp.example, weed.example]
people:
  - {address: ann@kelp.example, name: Ann, mailbox: full, also: [a@kelp.example], attributes: {deck: upper}}
  - {address: bob@kelp.example}
groups:
  - {address: roll@kelp.example, kind: roster}
  - address: crew@kelp.example
    copy: none
    members: [ann@kelp.example, {address: bob@kelp.example, since: 2026-03-02, copy: replies, paused: true}, roll@kelp.example, {where: (deck=lower), invitations: none}]
    accept: [{hazard: no-owner, because: it is one}]
`
	before := sample.Load(t, estateText)
	for _, change := range [][3]string{
		{"name: Kelp", "name: Weed", "estate name"}, {", weed.example]", "]", "estate domains"}, {"weed.example]", "{domain: weed.example, same-as: kelp.example}]", "estate domains"},
		{"people:", "subaddress: '+'\npeople:", "estate subaddress"}, {"people:", "nested-gates: open\npeople:", "estate nested-gates"}, {"people:", "code-sender: c@out.example\npeople:", "estate code-sender"},
		{"name: Ann,", "name: Anna,", "person name"}, {"mailbox: full", "mailbox: closed", "person mailbox"}, {"also: [a@kelp.example]", "also: [b@kelp.example]", "person also"}, {"deck: upper", "deck: middle", "person attributes"},
		{"2026-03-02", "2026-03-03", "group members"}, {"copy: replies", "copy: none", "group members"}, {"paused: true", "paused: false", "group members"}, {"invitations: none", "invitations: every", "group members"},
		{"(deck=lower)", "(deck=lowest)", "group members"}, {", roll@kelp.example", "", "group members"}, {"because: it is one", "because: it is not", "group accept"},
	} {
		text := strings.Replace(estateText, change[0], change[1], 1)
		if text == estateText {
			t.Fatalf("%q is not in the estate", change[0])
		}
		report := effect.Compare(before, sample.Load(t, text))
		var told []string
		for _, s := range report.Estate {
			told = append(told, "estate "+s.Name)
		}
		for _, p := range report.Persons {
			for _, s := range p.Settings {
				told = append(told, "person "+s.Name)
			}
		}
		for _, c := range report.Changes {
			for _, s := range c.Settings {
				told = append(told, "group "+s.Name)
			}
		}
		if report.IsEmpty() || !slices.Contains(told, change[2]) {
			t.Errorf("%q for %q: told is %v, want %s", change[1], change[0], told, fmt.Sprint(change[2]))
		}
	}
}
