package expect_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/golden"
	"yorvet.example/yorvet/internal/sample"
)

// crowd has more people than a draft names, in a list that takes some sizes only.
func crowd() string {
	var people, members strings.Builder
	for i := range 320 {
		fmt.Fprintf(&people, "  - {address: p%d@kelp.example, attributes: {post: \"%d\"}}\n", i, i%7)
		if i%3 == 0 {
			fmt.Fprintf(&members, "      - {address: p%d@kelp.example, copy: %s}\n", i, []string{"every", "digest", "none"}[i%9/3])
		}
	}
	return "yorvet: 1\ndomains: [kelp.example]\npeople:\n" + people.String() + `groups:
  - address: many@kelp.example
    gate: [refuse unproven, refuse larger(5MB), hold p1@kelp.example or p2@kelp.example, hold suspect, admit inside, drop automatic]
    moderators: [p1@kelp.example, few@kelp.example]
    send-as: [for few@kelp.example, as in few@kelp.example]
    members:
      - few@kelp.example
` + members.String() + `  - {address: few@kelp.example, gate: [admit in many@kelp.example], members: [p5@kelp.example, p7@kelp.example, {where: (post=6), copy: digest}]}
`
}

// A draft of each group of the demo, and of a large one: testdata/drafts.txt was read
// by people.
func TestDrafts(t *testing.T) {
	r := sample.Demo(t, demo.Estate)
	got := expect.Draft(r, allGroups(r))
	large := sample.Load(t, crowd())
	got += "\n# a large one\n" + expect.Draft(large, allGroups(large))
	golden.Compare(t, "drafts.txt", got)
}

// A probe tries what a statement speaks of: everybody it picks with each of its
// messages, or the one sender that it names.
func TestTries(t *testing.T) {
	r := sample.Load(t, desk)
	for statement, want := range map[string][]string{
		"admits where (post=desk)":           {"ada@kelp.example {}", "bo@kelp.example {}"},
		"holds suspect and ada@kelp.example": {"ada@kelp.example {Suspect:true}"},
		"refuses unproven and (ada@kelp.example or not known)": {"ada@kelp.example {Unproven:true}",
			"no-such-stranger@kelp.example forged {Unproven:true}"},
		"admits larger(5MB) and bo@kelp.example":      {"bo@kelp.example {Size:5000001}"},
		"reaches members":                             nil,
		"reaches members from ada@kelp.example":       {"ada@kelp.example {}"},
		"never reaches members from ada@kelp.example": {"ada@kelp.example {}"},
		"invites members from ada@kelp.example":       {"ada@kelp.example {Invitation:true}"},
		"sends as ada@kelp.example":                   nil,
		"approves at least 1":                         nil,
	} {
		list, errs := expect.Parse("to desk@kelp.example\n  " + statement + "\n")
		if len(errs) > 0 || len(list) != 1 {
			t.Fatalf("%s: %v", statement, errs)
		}
		var got []string
		for _, try := range expect.Tries(r, &list[0]) {
			got = append(got, strings.Join(strings.Fields(fmt.Sprintf("%s %s %s", try.From.Address, try.Stranger, flags(try.Message))), " "))
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s tries %q, want %q", statement, got, want)
		}
	}
}

// flags writes what is not the default of a message.
func flags(m resolve.Message) string {
	var list []string
	for name, set := range map[string]bool{"Unproven:true": m.Unproven, "Suspect:true": m.Suspect, "Automatic:true": m.Automatic,
		"Invitation:true": m.Invitation, fmt.Sprintf("Size:%d", m.Size): m.Size > 0} {
		if set {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return "{" + strings.Join(list, " ") + "}"
}
