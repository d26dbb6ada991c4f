package resolve_test

import (
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

const wharf = `yorvet: 1
domains: [kelp.example, {domain: sea.example}]
people:
  - {address: ada@kelp.example, also: [ada@sea.example, a.da@kelp.example]}
  - {address: bo@sea.example, attributes: {post: deck}}
  - {address: cy@kelp.example}
groups:
  - {address: main@kelp.example, also: [main@sea.example], gate: [admit @sea.example], members: [nest@kelp.example, other@kelp.example, {where: (post=deck)}]}
  - {address: nest@kelp.example, gate: [admit far@out.example or ada@kelp.example or ghost@kelp.example], members: [cy@kelp.example]}
  - {address: other@kelp.example, gate: [admit "@*.out.example" or far@out.example or far@out.example], members: [cy@kelp.example, bo@sea.example]}
  - {address: plain@kelp.example, gate: [admit inside]}
`

func find(t *testing.T, e *estate.Estate, text string) estate.ID {
	t.Helper()
	id, ok := e.Find(address.MustParse(text))
	if !ok {
		t.Fatalf("there is no %s", text)
	}
	return id
}

// Besides the main addresses, forgers may claim what a gate names and nobody has, and,
// where it asks about domains, aliases in other domains.
func TestClaims(t *testing.T) {
	r := sample.Load(t, strings.ReplaceAll(wharf, `"@*.out.example"`, "@*.out.example"))
	for name, want := range map[string][]string{
		"main@kelp.example":  {resolve.MadeUp + "@sea.example", "main@sea.example", "ada@sea.example"},
		"nest@kelp.example":  {"far@out.example", "ghost@kelp.example"},
		"other@kelp.example": {resolve.MadeUp + "@" + resolve.Below + "out.example", "far@out.example", "main@sea.example", "ada@sea.example"},
		"plain@kelp.example": nil,
	} {
		var got []string
		for _, s := range r.Gate(find(t, r.Estate(), name)).Claims() {
			got = append(got, s.Address.String())
		}
		if !slices.Equal(got, want) {
			t.Errorf("of %s: %v, want %v", name, got, want)
		}
	}
}

// Somebody is a member by the shortest path, and by the place of what names them there.
func TestLineage(t *testing.T) {
	r := sample.Load(t, strings.ReplaceAll(wharf, `"@*.out.example"`, "@*.out.example"))
	e := r.Estate()
	for _, c := range []struct {
		group, member, path string
		line                uint32
		rule                bool
	}{
		{"main@kelp.example", "cy@kelp.example", "main@kelp.example nest@kelp.example", 9, false},
		{"main@kelp.example", "bo@sea.example", "main@kelp.example", 8, true},
		{"other@kelp.example", "bo@sea.example", "other@kelp.example", 10, false},
		{"main@kelp.example", "nest@kelp.example", "main@kelp.example", 8, false},
		{"main@kelp.example", "ada@kelp.example", "", 0, false},
	} {
		l, ok := r.Lineage(find(t, e, c.group), find(t, e, c.member))
		var path []string
		for _, id := range l.Groups {
			path = append(path, e.Address(id).String())
		}
		if ok != (c.path != "") || strings.Join(path, " ") != c.path || l.Place.Line != c.line || l.Rule != c.rule {
			t.Errorf("%s in %s: %v %+v, %t", c.member, c.group, path, l, ok)
		}
	}
	if _, ok := r.Lineage(0, estate.None); ok {
		t.Error("nobody is a member")
	}
	for member, want := range map[string]int{"cy@kelp.example": 3, "bo@sea.example": 2, "ada@kelp.example": 0, "nest@kelp.example": 1} {
		if groups := r.GroupsOf(find(t, e, member)); len(groups) != want {
			t.Errorf("%s is in %v, want %d groups", member, groups, want)
		}
	}
	empty := sample.Load(t, "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ada@kelp.example}]\n")
	if groups := empty.GroupsOf(0); groups != nil {
		t.Errorf("without a group, somebody is in %v", groups)
	}
}

// An invitation that comes for another reason than the copy is told apart.
func TestInvited(t *testing.T) {
	r := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: ada@kelp.example}, {address: bo@kelp.example}, {address: cy@kelp.example}, {address: dee@kelp.example}]
groups:
  - address: main@kelp.example
    members:
      - {address: ada@kelp.example, copy: digest, invitations: every}
      - {address: bo@kelp.example, copy: every, invitations: every}
      - {address: cy@kelp.example, copy: every}
      - {address: dee@kelp.example, copy: digest}
`)
	d := r.Deliver(resolve.Query{Group: 0, Message: resolve.Message{Invitation: true}})
	want := map[string]bool{"ada@kelp.example": true, "bo@kelp.example": false, "cy@kelp.example": false, "dee@kelp.example": false}
	for _, recipient := range d.Recipients() {
		name := r.Estate().Address(recipient.ID).String()
		reason := d.Reason(recipient)
		if reason.Invited != want[name] || (reason.Muting == resolve.MutedInvitations) != (name == "dee@kelp.example") {
			t.Errorf("%s: %+v", name, reason)
		}
	}
}
