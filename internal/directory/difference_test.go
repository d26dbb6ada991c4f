package directory_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/ldif"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/sample"
)

const harbour = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ann@kelp.example, attributes: {unit: deck}}
  - {address: bob@kelp.example}
  - {address: cat@out.example}
groups:
  - {address: crew@kelp.example, title: Crew, owners: [ann@kelp.example], members: [ann@kelp.example, bob@kelp.example], managed-in: hq}
  - {address: deck@kelp.example, also: [tars@kelp.example], members: [crew@kelp.example, {where: (unit=deck)}], managed-in: hq}
  - {address: ours@kelp.example, members: [bob@kelp.example], managed-in: lists}
  - {address: free@kelp.example, members: [bob@kelp.example]}
`

// identifiers are those of a directory that has some of the people.
func identifiers(t *testing.T) *directory.Identifiers {
	t.Helper()
	m := directory.BuiltIn("ldap")
	c := directory.NewCollector("hq", "x", m, "", ldif.Normal)
	text := "dn: uid=ann,dc=kelp\nobjectClass: inetOrgPerson\nmail: ann@kelp.example\n\ndn: uid=bob,dc=kelp\nobjectClass: inetOrgPerson\nmail: bob@kelp.example\n\n" +
		"dn: cn=crew,dc=kelp\nobjectClass: groupOfNames\nmail: crew@kelp.example\n\ndn: cn=deck,dc=kelp\nobjectClass: groupOfUniqueNames\nmail: deck@kelp.example\nmailAlternateAddress: tars@kelp.example\n"
	if err := ldif.Read(context.Background(), strings.NewReader(text), ldif.Options{}, c.Add); err != nil {
		t.Fatal(err)
	}
	return directory.IdentifiersOf(c.Finish())
}

// Where two entries have one address, the one that a group holds is the one that is meant.
func TestHeldBy(t *testing.T) {
	const text = "dn: uid=bob,dc=kelp\nobjectClass: inetOrgPerson\nmail: bob@kelp.example\n\n" +
		"dn: uid=bob2,dc=kelp\nobjectClass: inetOrgPerson\nmail: BOB@kelp.example\n\n" +
		"dn: cn=crew,dc=kelp\nobjectClass: groupOfNames\nmail: crew@kelp.example\nmember: UID=bob2,dc=kelp\n\n" +
		"dn: cn=ours,dc=kelp\nobjectClass: groupOfNames\nmail: ours@kelp.example\nmember: uid=bob2,dc=kelp\n" +
		"member: uid=bob,dc=kelp\n\n" +
		"dn: cn=free,dc=kelp\nobjectClass: groupOfNames\nmail: free@kelp.example\nmember: uid=ann,dc=kelp\n"
	c := directory.NewCollector("hq", "x", directory.BuiltIn("ldap"), "", ldif.Normal)
	c.Identify()
	if err := ldif.Read(context.Background(), strings.NewReader(text), ldif.Options{}, c.Add); err != nil {
		t.Fatal(err)
	}
	x := directory.IdentifiersOf(c.Finish())
	e := sample.Load(t, harbour).Estate()
	find := func(text string) estate.ID {
		a, err := address.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		id, ok := e.Find(a)
		if !ok {
			t.Fatalf("%s is not there", text)
		}
		return id
	}
	for group, want := range map[string]string{
		"crew@kelp.example": "[uid=bob2,dc=kelp]",
		"ours@kelp.example": "[uid=bob,dc=kelp uid=bob2,dc=kelp]",
		"free@kelp.example": "[]",
		"deck@kelp.example": "[]",
	} {
		if got := fmt.Sprint(x.HeldBy(e, find(group), find("bob@kelp.example"))); got != want {
			t.Errorf("in %s: %s, want %s", group, got, want)
		}
	}
	if got := (*directory.Identifiers)(nil).HeldBy(e, 0, 0); got != nil {
		t.Errorf("no source holds %v", got)
	}
}

// Names that were made up are counted once each.
func TestMade(t *testing.T) {
	var m directory.Made
	if n, example := m.Count(); n != 0 || example != "" {
		t.Errorf("%d, %q of none", n, example)
	}
	for _, name := range []string{"uid=b", "uid=a", "uid=b"} {
		m.Note(name)
	}
	if n, example := m.Count(); n != 2 || example != "uid=a" {
		t.Errorf("%d, %q, want 2, uid=a", n, example)
	}
}

// What has to be done for each kind of change is said in as few words as LDIF and
// SCIM need; what is managed elsewhere is refused, and what cannot be said is
// listed.
func TestDifferences(t *testing.T) {
	ids := identifiers(t)
	inService := *ids
	inService.AddressAt = "" // it has no groups yet
	for _, test := range []struct {
		old, new string // what is replaced in the estate
		ldif     string // the change records, in short
		scim     string // the operations, in short
		refused  string
		losses   string
	}{
		{"", "", "", "", "", ""},
		{"members: [ann@kelp.example, bob@kelp.example]", "members: [bob@kelp.example]",
			"cn=crew,dc=kelp modify; delete: member; uid=ann,dc=kelp; -", "PATCH remove members[value eq \"uid=ann,dc=kelp\"]", "", ""},
		{"members: [crew@kelp.example, ", "members: [crew@kelp.example, ann@kelp.example, ",
			"cn=deck,dc=kelp modify; add: uniqueMember; uid=ann,dc=kelp; -", "PATCH add members", "", ""},
		{"members: [ann@kelp.example, bob@kelp.example]", "members: []",
			"cn=crew,dc=kelp modify; add: member; cn=crew,dc=kelp; -; delete: member; uid=ann,dc=kelp; uid=bob,dc=kelp; -", "PATCH remove members[value eq \"uid=ann,dc=kelp\"] remove members[value eq \"uid=bob,dc=kelp\"]", "", ""},
		{"title: Crew, owners: [ann@kelp.example]", "about: All, owners: [bob@kelp.example]",
			"cn=crew,dc=kelp modify; replace: displayName; -; replace: description; All; -; add: owner; uid=bob,dc=kelp; -; delete: owner; uid=ann,dc=kelp; -",
			"PATCH replace displayName replace about replace owners", "", ""},
		{"- {address: crew@kelp.example, title: Crew", "- {address: gang@kelp.example, also: [crew@kelp.example], title: Crew",
			"cn=crew,dc=kelp modify; replace: mail; gang@kelp.example; -; add: mailAlternateAddress; crew@kelp.example; -", "PATCH replace address replace also", "", ""},
		{"- {address: crew@kelp.example, title: Crew", "- {address: crew@kelp.example, also: [all@kelp.example], title: Crew",
			"cn=crew,dc=kelp modify; add: mailAlternateAddress; all@kelp.example; -", "PATCH replace also", "", ""},
		{"[tars@kelp.example]", "[TARS@kelp.example]", "", "", "", ""},
		{"[tars@kelp.example]", "[mates@kelp.example]",
			"cn=deck,dc=kelp modify; add: mailAlternateAddress; mates@kelp.example; -; delete: mailAlternateAddress; tars@kelp.example; -", "PATCH replace also", "", ""},
		{"(unit=deck)", "(unit=quay)", "cn=deck,dc=kelp modify; replace: memberURL; ldap:///dc=kelp%2Cdc=example??sub?" + inKelp + "%28ou=quay%29%29; -", "PATCH replace rules", "", ""},
		{"(unit=deck)", "(hobby=quay)", "", "PATCH replace rules", "", "rules for members of deck@kelp.example"},
		{"ours@kelp.example, members: [bob@kelp.example]", "ours@kelp.example, gate: [admit anyone], members: [bob@kelp.example]", "", "", "", ""},
		{"title: Crew, ", "title: Crew, gate: [admit anyone], ", "", "", "", "gate of crew@kelp.example"},
		{"members: [ann@kelp.example, bob@kelp.example]", "members: [ann@kelp.example, bob@kelp.example, cat@out.example]", "", "", "", "cat@out.example in crew@kelp.example"},
		{"ours@kelp.example, members: [bob@kelp.example]", "ours@kelp.example, members: [ann@kelp.example]", "", "", "ours@kelp.example: managed in lists, change it there", ""},
		{"free@kelp.example, members: [bob@kelp.example]", "free@kelp.example, members: [ann@kelp.example]", "", "", "free@kelp.example: the estate does not say where", ""},
		{"  - {address: ours", "  - {address: new@kelp.example, members: [crew@kelp.example], managed-in: hq}\n  - {address: ours",
			"cn=new@kelp.example,ou=groups,dc=kelp,dc=example add; groupOfNames; extensibleObject; new@kelp.example; new@kelp.example; cn=crew,dc=kelp", "POST", "", ""},
		{"  - {address: deck@kelp.example, also: [tars@kelp.example], members: [crew@kelp.example, {where: (unit=deck)}], managed-in: hq}\n", "", "cn=deck,dc=kelp delete", "DELETE", "", ""},
	} {
		older := sample.Load(t, harbour).Estate()
		newer := sample.Load(t, strings.Replace(harbour, test.old, test.new, 1)).Estate()
		d := directory.Differ(older, newer, "hq")
		refused := ""
		for _, r := range d.Refused {
			refused += r.String()
		}
		if !strings.Contains(refused, test.refused) || refused != "" && test.refused == "" {
			t.Errorf("%s: refused %q, want %q", test.new, refused, test.refused)
		}
		var b bytes.Buffer
		losses, err := (&ldif.Export{Map: directory.BuiltIn("ldap"), IDs: ids}).WriteDifference(&b, d)
		if err != nil {
			t.Fatal(err)
		}
		if got := short(b.String()); got != test.ldif {
			t.Errorf("%s: LDIF\n got %s\nwant %s", test.new, got, test.ldif)
		}
		if got := fmt.Sprint(losses); !strings.Contains(got, test.losses) || len(losses) > 0 && test.losses == "" {
			t.Errorf("%s: losses %s, want %s", test.new, got, test.losses)
		}
		b.Reset()
		if _, _, err := (&scim.Export{Map: directory.BuiltIn("scim"), IDs: &inService}).WriteDifference(&b, d); err != nil {
			t.Fatal(err)
		}
		if got := shortSCIM(t, b.Bytes()); got != test.scim {
			t.Errorf("%s: SCIM\n got %s\nwant %s", test.new, got, test.scim)
		}
	}
}

// What comes is said first, and what goes last, wherever they stand in the estate.
func TestDifferencesInTurn(t *testing.T) {
	older := sample.Load(t, harbour).Estate()
	newer := sample.Load(t, strings.NewReplacer(
		"- {address: crew@kelp.example, title: Crew", "- {address: crew@kelp.example, title: Hands",
		"- {address: deck@kelp.example, also: [tars@kelp.example], members: [crew@kelp.example, {where: (unit=deck)}], managed-in: hq}",
		"- {address: yard@kelp.example, managed-in: hq}",
	).Replace(harbour)).Estate()
	var got []string
	for _, one := range directory.Differ(older, newer, "hq").Groups {
		text := "-"
		if one.Old != estate.None {
			text = older.Address(one.Old).Local()
		}
		text += " "
		if one.New != estate.None {
			text += newer.Address(one.New).Local()
		}
		got = append(got, text+fmt.Sprint(one.Fields))
	}
	if want := "- yard[address]; crew crew[title]; deck [address]"; strings.Join(got, "; ") != want {
		t.Errorf("%s, want %s", strings.Join(got, "; "), want)
	}
}

// short puts change records on a line, the values without their names.
func short(text string) string {
	var parts []string
	for line := range strings.Lines(strings.ReplaceAll(strings.TrimPrefix(text, "version: 1\n"), "\n ", "")) {
		name, value, ok := strings.Cut(strings.TrimSpace(line), ": ")
		switch {
		case strings.TrimSpace(line) == "":
		case name == "changetype":
			parts[len(parts)-1] += " " + value
		case name == "add" || name == "delete" || name == "replace" || !ok:
			parts = append(parts, strings.TrimSpace(line))
		default:
			parts = append(parts, value)
		}
	}
	return strings.Join(parts, "; ")
}

// shortSCIM puts the operations of a bulk request on a line.
func shortSCIM(t *testing.T, data []byte) string {
	t.Helper()
	var bulk struct {
		Operations []struct {
			Method string
			Data   struct{ Operations []struct{ Op, Path string } }
		}
	}
	if err := json.Unmarshal(data, &bulk); err != nil {
		t.Fatal(err)
	}
	var parts []string
	for _, one := range bulk.Operations {
		parts = append(parts, one.Method)
		for _, op := range one.Data.Operations {
			parts = append(parts, op.Op, strings.TrimPrefix(op.Path, scim.Extension+":"))
		}
	}
	return strings.Join(parts, " ")
}

// inKelp is what each rule for members asks for, escaped: people with an address in kelp.example.
var inKelp = url.PathEscape("(&(|(objectclass=inetorgperson)(objectclass=organizationalperson)(objectclass=person)" +
	"(objectclass=posixaccount)(objectclass=account))(mail=*@kelp.example)")

// A rule goes to an LDAP URL and back, and picks people inside alone.
func TestRuleURLs(t *testing.T) {
	m := directory.BuiltIn("ldap")
	e := sample.Load(t, harbour).Estate()
	for filter, want := range map[string]string{
		"(unit=deck)":                           "(unit=deck)",
		"(&(unit=deck)(!(title=mate)))":         "(&(unit=deck)(!(title=mate)))",
		"(|(name=a*b)(address=*@kelp.example))": "(|(name=a*b)(address=*@kelp.example))",
		`(title=\2a\28x\29 ? %)`:                `(title=\2a\28x\29 ? %)`,
		"(hobby=x)":                             "",
	} {
		f, err := selector.ParseFilter(filter)
		if err != nil {
			t.Fatal(err)
		}
		link, ok := m.RuleURL(e, "dc=kelp", estate.MemberRule{Filter: f})
		if !ok {
			if want != "" {
				t.Errorf("%s cannot be written", filter)
			}
			continue
		}
		c := directory.NewCollector("x", "x", m, "", nil)
		e := &directory.Entry{ID: "cn=g"}
		e.Add("objectClass", "groupOfURLs")
		e.Add("mail", "g@kelp.example")
		e.Add("memberURL", link)
		c.Add(e)
		d := directory.Merge([]*directory.Directory{c.Finish()}, directory.MergeOptions{Domains: []string{"kelp.example"}})
		if len(d.Groups) != 1 || len(d.Groups[0].Members) != 1 || d.Groups[0].Members[0].Where != want {
			t.Errorf("%s is written as %s, and read as %+v %v", filter, link, d.Groups, d.Remarks)
		}
	}
	c := directory.NewCollector("x", "x", m, "", nil)
	for _, url := range []string{"ldap:///dc=x??sub?(objectClass=*)", "ldap:///dc=x", "http://x/", "ldap:///dc=x??sub?((", "ldap:///dc=x??sub?(hobby=x)", "ldap:///ou=a,dc=x??sub?(ou=b)", "%zz"} {
		e := &directory.Entry{ID: url}
		e.Add("objectClass", "groupOfURLs")
		e.Add("mail", fmt.Sprintf("g%d@kelp.example", len(c.Directory().Groups)))
		e.Add("memberURL", url)
		c.Add(e)
	}
	d := c.Finish()
	var got []string
	for _, g := range d.Groups {
		for _, one := range g.Members {
			got = append(got, fmt.Sprint(one.Everyone, one.Where))
		}
	}
	harm := 0
	for _, r := range d.Remarks {
		if r.Harm {
			harm++ // but for the rule that picks from more than it should
		}
	}
	if text := strings.Join(got, "; "); text != "true; true; false(unit=b)" || len(d.Remarks) != 5 || harm != 4 {
		t.Errorf("%s\n%v", text, d.Remarks)
	}
}

// What a format cannot hold is counted by kind, with an example.
func TestLosses(t *testing.T) {
	e := sample.Load(t, `yorvet: 1
domains: [kelp.example, {domain: weed.example, same-as: kelp.example}]
subaddress: "+"
nested-gates: open
code-sender: codes@post.example
edge: [refuse suspect]
accept: [{hazard: no-owner, because: Known.}]
people:
  - {address: ann@kelp.example, name: Ann, also: [a@kelp.example], mailbox: full, attributes: {base: quay, post: [x, y]}}
  - {address: bob@kelp.example, name: Bob}
groups:
  - {address: g@kelp.example, also: [h@kelp.example], owners: [ann@kelp.example], moderators: [nobody@kelp.example], access: {find: anyone}, gate: [], echo: false,
     members: [{address: ann@kelp.example, copy: none, paused: true}, nobody@kelp.example, ann@weed.example, {everyone: true, copy: none}], accept: [{hazard: gets-nothing, because: x}]}
  - {address: k@kelp.example}
`).Estate()
	var got []string
	for _, loss := range directory.Losses(e, directory.Carries{}) {
		got = append(got, loss.String())
	}
	want := `subaddress of the estate
nested-gates of the estate
code-sender of the estate
edge of the estate
accept of the estate
same-as of the domain weed.example
aliases of 2, such as ann@kelp.example
names of 2, such as ann@kelp.example
the mailbox being full of ann@kelp.example
the attribute base of ann@kelp.example
the attribute post of 2, such as ann@kelp.example
owners of g@kelp.example
moderators of g@kelp.example
echo of g@kelp.example
gate of g@kelp.example
access of g@kelp.example
accepted hazards of g@kelp.example
an owner or moderator that does not exist of g@kelp.example
what members chose (copy, paused) of ann@kelp.example in g@kelp.example
a member that does not exist of g@kelp.example
a second entry of ann@kelp.example in g@kelp.example
a rule for members of g@kelp.example
the group itself, as it has no named member, of k@kelp.example`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("got\n%s\nwant\n%s", text, want)
	}
}

// What a format holds only in part is told of what it does not hold.
func TestPartialLosses(t *testing.T) {
	e := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people:
  - {address: ann@kelp.example, attributes: {base: quay, post: [x, y, z], rank: a}}
groups:
  - {address: g@kelp.example, gate: [], members: [{everyone: true, copy: none}]}
  - {address: h@kelp.example, members: [{where: (base=quay)}, {where: (base=pier), invitations: none}]}
`).Estate()
	var got []string
	for _, loss := range directory.Losses(e, directory.Carries{
		Attributes: func(name, _ string) bool { return name != "rank" }, OneValue: true, Unnamed: true, Settings: []string{"all"},
		Rules: func(estate.MemberRule) bool { return true },
	}) {
		got = append(got, loss.String())
	}
	want := []string{"further values of the attribute post of 2, such as ann@kelp.example", "the attribute rank of ann@kelp.example",
		"what senders are told by an empty gate (it becomes refuse anyone) of g@kelp.example",
		"what the members by a rule get of 2, such as g@kelp.example"}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// A text with control characters is told where a format has no way to say them.
func TestControlLosses(t *testing.T) {
	e := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example, name: "Ann\e"}, {address: bob@kelp.example, name: Bob}]
groups:
  - {address: g@kelp.example, title: "G\u0007", members: [ann@kelp.example, bob@kelp.example]}
  - {address: h@kelp.example, about: "one\ntwo", members: [bob@kelp.example]}
`).Estate()
	for _, controls := range []bool{false, true} {
		var got []string
		for _, loss := range directory.Losses(e, directory.Carries{
			Settings: []string{"title", "about"}, Names: true, Memberships: true, Unnamed: true, Controls: controls,
		}) {
			got = append(got, loss.String())
		}
		want := "control characters in texts of 2, such as ann@kelp.example"
		if controls {
			want = ""
		}
		if text := strings.Join(got, "; "); text != want {
			t.Errorf("with controls %v: %q, want %q", controls, text, want)
		}
	}
}

// Of remarks there are a thousand at most, and one that says so.
func TestManyRemarks(t *testing.T) {
	d := &directory.Directory{File: "x"}
	for n := range 1500 {
		d.Remark(n+1, n == 7, "just so")
	}
	if len(d.Remarks) != 1001 || d.Remarks[999].Line != 1000 || d.Remarks[1000].Line != 0 || d.Remarks[1000].Text != "there is more like this" || !d.Remarks[7].Harm {
		t.Errorf("%d remarks, the last %+v", len(d.Remarks), d.Remarks[len(d.Remarks)-1])
	}
}

// What a mail server would take for a program, file or list is told of each kind.
func TestHarmfulLosses(t *testing.T) {
	e := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example, also: [bad1@kelp.example]}, {address: bad2@kelp.example, also: [b@kelp.example]}]
groups:
  - {address: g@kelp.example, also: [bad3@kelp.example], owners: [bad2@kelp.example], moderators: [ann@kelp.example], members: [ann@kelp.example, bad2@kelp.example]}
  - {address: bad4@kelp.example, owners: [ann@kelp.example], members: [ann@kelp.example]}
`).Estate()
	all := directory.Carries{
		Settings: []string{"all"}, Also: true, AlsoPeople: true, AlsoOutside: true, Owners: true, Moderators: true, Names: true, Memberships: true, Access: true,
		Controls: true, Nobody: true, Unnamed: true, Addresses: func(a address.Address) bool { return !strings.HasPrefix(a.Local(), "bad") },
	}
	var got []string
	for _, loss := range directory.Losses(e, all) {
		got = append(got, loss.String())
	}
	want := []string{
		"aliases of 2, such as ann@kelp.example",
		"aliases that a mail server would take for a program, file or list of g@kelp.example",
		"an owner that a mail server would take for a program, file or list of bad2@kelp.example of g@kelp.example",
		"a member that a mail server would take for a program, file or list of bad2@kelp.example in g@kelp.example",
		"the group itself, as a mail server would take its address for a program, file or list, of bad4@kelp.example",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
