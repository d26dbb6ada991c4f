package estatefile

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// write writes files below a new folder and returns it.
func write(t testing.TB, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, content := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

const top = "yorvet: 1\ndomains: [kelp.example]\n"

// Every line of want is an error, without the folder. Each has to be there, in
// this order.
func TestErrors(t *testing.T) {
	for _, c := range []struct {
		name, yaml string
		want       []string
	}{
		{"empty file", "", []string{`estate.yaml:1:1: the file is empty`}},
		{"no version", "domains: [kelp.example]\n", []string{`estate.yaml:1:1: the format version is missing`}},
		{"other version", "yorvet: 2\ndomains: [kelp.example]\n", []string{`estate.yaml:1:9: expected format version 1, not a number ("2")`}},
		{"version as text", "yorvet: \"1\"\ndomains: [kelp.example]\n", []string{`estate.yaml:1:9: expected format version 1, not text ("1")`}},
		{"no domains", "yorvet: 1\n", []string{`estate.yaml:1:1: there are no domains`}},
		{"no mapping", "- yorvet\n", []string{`estate.yaml:1:1: expected a mapping for the estate, not a list`}},
		{"no YAML", "yorvet: 1\n  domains: [\n", []string{`estate.yaml:2:`}},
		{"two documents", top + "---\nyorvet: 1\n", []string{`estate.yaml:3:1: a second YAML document`}},
		{"not UTF-8", top + "name: \"é\xff\"\n", []string{`estate.yaml:3:9: this is not UTF-8`}},
		{"words of before", top + "groups:\n  - {address: desk@kelp.example, tell-held: all}\n  - {address: crew@kelp.example, notify-sender: all}\n" +
			"  - {address: mast@kelp.example, notify-sender: none}\n  - {address: keel@kelp.example, notify-sender: insid}\n", []string{
			`estate.yaml:4:34: unknown setting "tell-held" in a group; did you mean "notify-sender"?`,
			`estate.yaml:5:49: notify-sender: "all" is no selector; write anyone`,
			`estate.yaml:6:49: notify-sender: "none" is no selector; write nobody`,
			`estate.yaml:7:49: `,
			`    insid`,
			`    ^^^^^`,
		}},
		{"unknown and duplicate keys", top + "persons: []\nname: A\nname: B\n2: x\n", []string{
			`estate.yaml:3:1: unknown key "persons" in the estate, expected one of yorvet, name,`,
			`estate.yaml:5:1: the key "name" stands here for the second time (see estate.yaml:4:1)`,
			`estate.yaml:6:1: unknown key "2"`,
		}},
		{"settings", top + "nested-gates: enforced\nsubaddress: \"@\"\ncode-sender: codes\nname: 12\n", []string{
			`estate.yaml:3:15: nested-gates: unknown value "enforced"; did you mean "enforce"?`,
			`estate.yaml:4:13: expected a separator`,
			`estate.yaml:5:14: "codes" is no address: there is no @`,
			`estate.yaml:6:7: expected text (in quotes, if it is meant so), not a number ("12")`,
		}},
		{"people", top + `people:
  - address: ines.maro@kelp.example
    nmae: Ines
    mailbox: opne
    attributes: {base: {a: b}, Base: x, name: y, "": z}
  - {name: Tam}
  - text
  - {address: [a], also: b, attributes: [c]}
`, []string{
			`estate.yaml:5:5: unknown key "nmae" in a person; did you mean "name"?`,
			`estate.yaml:6:14: mailbox: unknown value "opne"; did you mean "open"?`,
			`estate.yaml:7:24: expected text or a list of texts for an attribute, not a mapping`,
			`estate.yaml:7:32: the key "Base" stands here for the second time (see estate.yaml:7:18)`,
			`estate.yaml:7:41: an attribute cannot be called "name"`,
			`estate.yaml:7:50: an attribute has no name`,
			`estate.yaml:8:5: the person has no address`,
			`estate.yaml:9:5: expected a mapping for a person, not text ("text")`,
			`estate.yaml:10:5: the person has no address`,
			`estate.yaml:10:15: expected text, not a list`,
			`estate.yaml:10:26: expected a list of addresses, not text ("b")`,
			`estate.yaml:10:41: expected a mapping for attributes, not a list`,
		}},
		{"clashes", top + `people:
  - {address: ines@kelp.example, also: [i@kelp.example]}
  - {address: I@KELP.example}
groups:
  - {address: Ines@kelp.example}
`, []string{
			`estate.yaml:5:15: "I@KELP.example" is already the address of a person (see estate.yaml:4:41)`,
			`estate.yaml:7:15: "ines@kelp.example" is already the address of a person (see estate.yaml:4:15)`,
		}},
		{"a group", top + `groups:
  - address: desk@kelp.example
    kind: froum
    copy: all
    welcome: yes
    echo: "true"
    pause-after: 0
    owners: ines@kelp.example
    members:
      - {address: a@kelp.example, everyone: true}
      - {copy: none}
      - {everyone: false}
      - {where: (post=x), since: 2026-01-01}
      - {where: "(post~=x)"}
      - {address: a@kelp.example, since: 2026-02-30, paused: no}
      - {address: desk@kelp.example, copy: digest}
      - 7
    access: {fnid: inside, read: unproven}
  - address: far@out.example
`, []string{
			`estate.yaml:5:11: kind: unknown value "froum"; did you mean "forum"?`,
			`estate.yaml:6:11: copy: expected every, digest, replies or none, not "all"`,
			`estate.yaml:7:14: expected true or false, not text ("yes")`,
			`estate.yaml:8:11: expected true or false, not text ("true")`,
			`estate.yaml:9:18: pause-after: expected a whole number of bounces from 1 up, not "0"`,
			`estate.yaml:10:13: expected a list, not text ("ines@kelp.example")`,
			`estate.yaml:12:9: expected exactly one of address, where and everyone`,
			`estate.yaml:13:9: expected exactly one of address, where and everyone`,
			`estate.yaml:14:20: everyone is true or left out`,
			`estate.yaml:15:9: a member rule takes copy and invitations`,
			`estate.yaml:16:23: this kind of match is not supported`,
			`    (post~=x)`,
			`         ^`,
			`estate.yaml:17:42: since: there is no date "2026-02-30"`,
			`estate.yaml:17:62: expected true or false, not text ("no")`,
			`estate.yaml:18:19: the nested group "desk@kelp.example" takes copy every or none, not digest`,
			`estate.yaml:19:9: expected text (in quotes, if it is meant so), not a number ("7")`,
			`estate.yaml:20:14: unknown key "fnid" in access; did you mean "find"?`,
			`estate.yaml:20:34: "unproven" is about a message`,
			`    unproven`,
			`    ^^^^^^^^`,
			`estate.yaml:21:14: the group "far@out.example" is outside`,
		}},
		{"rules", top + `groups:
  - address: desk@kelp.example
    gate:
      - admit memebrs or inside
      - "hold  outsdie"
      - refuse unproven because "Sign in: now"
      - >-
        admit inside
        or outzide
      - admit in dekc@kelp.example
      - drop
    send-as: [as owners because "x", speak as members]
`, []string{
			`estate.yaml:6:15: unknown word "memebrs"; did you mean "members"?`,
			`    admit memebrs or inside`,
			`          ^^^^^^^`,
			`estate.yaml:7:16: unknown word "outsdie"; did you mean "outside"?`,
			`    hold  outsdie`,
			`          ^^^^^^^`,
			`estate.yaml:8:9: expected text, not a mapping; a text with a colon and a space in it has to stand in quotes`,
			`estate.yaml:9:9: unknown word "outzide"`,
			`    admit inside or outzide`,
			`                    ^^^^^^^`,
			`estate.yaml:12:15: there is no group "dekc@kelp.example", expected one after "in"; did you mean "desk@kelp.example"?`,
			`    admit in dekc@kelp.example`,
			`          ^^^^^^^^^^^^^^^^^^^^`,
			`estate.yaml:13:13: expected who is meant`,
			`    drop`,
			`        ^`,
			`estate.yaml:14:25: "because" belongs to the rules of a gate`,
			`    as owners because "x"`,
			`              ^^^^^^^`,
			`estate.yaml:14:38: expected as or for, not "speak"`,
			`    speak as members`,
			`    ^^^^^`,
		}},
		{"memberships", top + `groups: [{address: desk@kelp.example}]
people: [{address: ines@kelp.example}]
memberships:
  - {group: dekc@kelp.example, address: ines@kelp.example}
  - {group: ines@kelp.example, address: ines@kelp.example}
  - {group: desk@kelp.example}
  - {group: desk, address: ines@kelp.example, paused: "true", copy: 7}
`, []string{
			`estate.yaml:6:13: there is no group "dekc@kelp.example", expected the address of one; did you mean "desk@kelp.example"?`,
			`estate.yaml:7:13: "ines@kelp.example" is a person, expected the address of a group`,
			`estate.yaml:8:5: expected group and address in a membership`,
			`estate.yaml:9:13: "desk" is no address`,
			`estate.yaml:9:55: expected true or false, not text ("true")`,
			`estate.yaml:9:69: expected text`,
		}},
		{"the edge", top + `edge:
  - refuse unproven and @kelp.example because "Forged."
  - admit anyone
  - drop members
  - 7
  - refuse unporven
`, []string{
			`estate.yaml:5:5: expected refuse or drop, not "admit"`,
			`    admit anyone`,
			`    ^^^^^`,
			`estate.yaml:6:10: `,
			`    drop members`,
			`         ^^^^^^^`,
			`estate.yaml:7:5: expected text`,
			`estate.yaml:8:12: unknown word "unporven"; did you mean "unproven"?`,
			`    refuse unporven`,
			`           ^^^^^^^^`,
		}},
		{"attributes of a group", top + `groups:
  - address: desk@kelp.example
    attributes: {unit: deck, kind: x, outside: y, hazard: z, Unit: twice, nest: {a: b}, "": q}
  - address: crew@kelp.example
    attributes: [unit]
`, []string{
			`estate.yaml:5:30: `,
			`estate.yaml:5:39: `,
			`estate.yaml:5:51: `,
			`estate.yaml:5:62: the key "Unit" stands here for the second time (see estate.yaml:5:18)`,
			`estate.yaml:5:81: expected text or a list of texts for an attribute, not a mapping`,
			`estate.yaml:5:89: `,
			`estate.yaml:7:17: expected a mapping for attributes, not a list`,
		}},
		{"accepted hazards", top + `groups:
  - address: desk@kelp.example
    accept:
      - {hazard: no-owner, because: So it is.}
      - {hazard: no-ownr, because: So it is.}
      - {hazard: no-owner}
      - {because: So it is.}
      - {hazard: voice-unprovable, because: Well.}
      - {hazard: zzzzzzzz, because: Well.}
      - {hazard: no-owner, becuase: Well.}
      - no-owner
`, []string{
			`estate.yaml:7:18: unknown hazard "no-ownr"; did you mean "no-owner"?`,
			`estate.yaml:8:9: expected hazard and because in an accepted hazard`,
			`estate.yaml:9:9: expected hazard and because in an accepted hazard`,
			`estate.yaml:10:18: "voice-unprovable" is "send-as-unprovable" now`,
			`estate.yaml:11:18: unknown hazard "zzzzzzzz", expected one of those of yorvet check`,
			`estate.yaml:12:9: expected hazard and because in an accepted hazard`,
			`estate.yaml:12:28: unknown key "becuase" in an accepted hazard; did you mean "because"?`,
			`estate.yaml:13:9: expected a mapping for an accepted hazard`,
		}},
		{"domains", "yorvet: 1\ndomains: [kelp.example, {same-as: kelp.example}, {domain: a.example, same-as: b.example}, b_c, 7]\n", []string{
			`estate.yaml:2:25: the domain is missing`,
			`estate.yaml:2:59: same-as names "b.example", expected a domain of the estate`,
			`estate.yaml:2:91: the domain "b_c" is no address`,
			`estate.yaml:2:96: expected text`,
		}},
		{"nothing where something should be", top + "groups:\npeople: {}\nmemberships: {tabel: x}\n", []string{
			`estate.yaml:3:8: expected a list of groups or {table: FILE.csv}, not nothing`,
			`estate.yaml:4:9: expected a list of people or {table: FILE.csv}, not a mapping`,
			`estate.yaml:5:15: unknown key "tabel" in memberships; did you mean "table"?`,
		}},
		{"a table that is not there", top + "people: {table: people.csv}\n", []string{`estate.yaml:3:17: the table "`}},
		{"a tag", top + "name: !secret x\n", []string{`estate.yaml:3:7: expected text, not a value tagged "!secret"`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := write(t, map[string]string{"estate.yaml": c.yaml})
			e, err := Load(context.Background(), filepath.Join(dir, "estate.yaml"))
			checkErrors(t, e, err, dir, c.want)
		})
	}
}

// checkErrors compares the lines of an error with how they have to begin.
func checkErrors(t *testing.T, e *estate.Estate, err error, dir string, want []string) {
	t.Helper()
	var bad *Errors
	if !errors.As(err, &bad) || e != nil {
		t.Fatalf("Load = %v, %v, want Errors", e, err)
	}
	lines := strings.Split(strings.ReplaceAll(err.Error(), dir+string(filepath.Separator), ""), "\n")
	for i, line := range lines {
		if i >= len(want) {
			t.Errorf("there is also: %s", line)
		} else if !strings.HasPrefix(line, want[i]) {
			t.Errorf("line %d is\n%s\nwant\n%s", i+1, line, want[i])
		}
	}
	if len(lines) < len(want) {
		t.Errorf("missing: %s", strings.Join(want[len(lines):], "\n"))
	}
}

func TestFolder(t *testing.T) {
	dir := write(t, map[string]string{
		"b.yaml":            "yorvet: 1\nname: Kelp\ndomains: [b.example]\ngroups:\n  - {address: two@kelp.example}\n",
		"a.yaml":            top + "name: Kelp\ngroups:\n  - {address: one@kelp.example, gate: [admit in three@kelp.example]}\n",
		"c.yaml":            "groups: [{address: three@kelp.example, members: [x@b.example]}]\npeople: {table: tables/people.csv}\n",
		"tables/people.csv": "address\nx@b.example\n",
		"notes.txt":         "no estate",
		"d.yaml/x":          "a folder",
	})
	e, err := Load(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	var order []string
	for id := range estate.ID(e.Groups()) {
		order = append(order, e.Address(id).String())
	}
	if !slices.Equal(order, []string{"one@kelp.example", "two@kelp.example", "three@kelp.example"}) || e.People() != 1 || e.Settings().Name != "Kelp" {
		t.Errorf("groups %v, %d people, name %q", order, e.People(), e.Settings().Name)
	}
	for _, c := range []struct {
		name  string
		files map[string]string
		want  []string
	}{
		{"different scalars", map[string]string{"a.yaml": top + "name: A\n", "b.yaml": "name: B\n"}, []string{`b.yaml:1:7: name is "B" here and "A" elsewhere, expected one value (see a.yaml:3:7)`}},
		{"a domain in two files", map[string]string{"a.yaml": top, "b.yaml": "domains: [KELP.example]\n"}, []string{`b.yaml:1:11: the domain "KELP.example" is listed twice (see a.yaml:2:11)`}},
		{"errors in all files", map[string]string{"a.yaml": top + "x: 1\n", "b.yaml": "y: 1\n"}, []string{`a.yaml:3:1: unknown key "x"`, `b.yaml:1:1: unknown key "y"`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := write(t, c.files)
			e, err := Load(context.Background(), dir)
			checkErrors(t, e, err, dir, c.want)
		})
	}
	if _, err := Load(context.Background(), write(t, map[string]string{"x.txt": ""})); err == nil || !strings.Contains(err.Error(), "no *.yaml") {
		t.Errorf("an empty folder: %v", err)
	}
	if _, err := Load(context.Background(), filepath.Join(dir, "none")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("no folder: %v", err)
	}
}

// All fields, in YAML and as JSON, and what they become.
func TestFields(t *testing.T) {
	const yaml = top + `name: Kelp
subaddress: "+"
nested-gates: open
code-sender: codes@post.example
people:
  - address: &ada Ada@kelp.example
    name: Ada
    also: [a@out.example]
    mailbox: closed
    attributes: {years: 007, on: no, when: 2026-03-02, big: 1_000, is: true, tags: [x, 7], gone: ~, n: 0x1F}
groups:
  - address: desk@kelp.example
    also: [found@kelp.example]
    title: Desk
    about: For all.
    kind: forum
    owners: [*ada]
    moderators: [bo@out.example]
    members:
      - ada@kelp.example
      - {address: bo@out.example, copy: digest, since: 2026-03-02, invitations: none, paused: true}
      - {where: (years>=7), copy: replies, invitations: every}
      - everyone: true
    copy: none
    joiners: every
    outside-copy: digest
    invitations: none
    welcome: false
    echo: false
    gate: [hold anyone because "Wait."]
    notify-sender: inside
    send-as: [as owners, for members]
    send-as-proof: mailed-code
    replies-as: group
    replies-to: group
    access: {find: anyone, see-members: nobody}
    subject-tag: "[desk]"
    pause-after: 5
    managed-in: hq
  - {address: plain@kelp.example}
  - {address: shut@kelp.example, gate: []}
`
	e, err := Load(context.Background(), filepath.Join(write(t, map[string]string{"e.yaml": "\ufeff" + yaml}), "e.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	if s := e.Settings(); s.Name != "Kelp" || !s.OpenNestedGates || s.CodeSender.String() != "codes@post.example" || s.Subaddress != "+" {
		t.Errorf("the settings are %+v", s)
	}
	ada, _ := e.Find(address.MustParse("ada+x@kelp.example"))
	if p := e.Person(ada); p.Name != "Ada" || p.Mailbox != estate.MailboxClosed || len(p.Also) != 1 {
		t.Errorf("the person is %+v", p)
	}
	var attributes []string
	for _, f := range e.Attributes(ada) {
		attributes = append(attributes, f.Name+"="+f.Value)
	}
	if got := strings.Join(attributes, " "); got != "big=1_000 is=true n=0x1F on=no tags=x tags=7 when=2026-03-02 years=007" {
		t.Errorf("the attributes are %s", got)
	}
	g := e.Group(0)
	if g.Title != "Desk" || g.About != "For all." || g.Kind != estate.Forum || g.Copy != estate.CopyNone || g.Joiners != estate.CopyEvery ||
		g.OutsideCopy != estate.CopyDigest || g.Invitations != estate.InvitationsNone || !g.NoWelcome || !g.NoEcho || g.NotifySender.Text != "inside" ||
		g.SendAsProof != estate.ProofMailedCode || g.RepliesAs != estate.PartyGroup || g.RepliesTo != estate.PartyGroup || g.SubjectTag != "[desk]" ||
		g.PauseAfter != 5 || g.ManagedIn != "hq" || len(g.Owners) != 1 || g.Owners[0].ID != ada || len(g.Moderators) != 1 {
		t.Errorf("the group is %+v", g)
	}
	if g.Gate[0].Because != "Wait." || g.Gate[0].Verdict != estate.Hold || g.Gate[0].Place != (estate.Place{Line: 32, Column: 12}) ||
		g.SendAs[1].SendAs != estate.ForGroup || g.Access[estate.Find].Text != "anyone" || g.Access[estate.Read].Text != "members" {
		t.Errorf("the rules are %+v, %+v, %+v", g.Gate, g.SendAs, g.Access)
	}
	entries, rules := e.Entries(0), e.Rules(0)
	if len(entries) != 2 || entries[1].Copy() != estate.CopyDigest || entries[1].Since().String() != "2026-03-02" || !entries[1].Paused() ||
		len(rules) != 2 || rules[0].Copy != estate.CopyReplies || rules[0].Invitations != estate.InvitationsEvery || rules[1].Filter != nil {
		t.Errorf("the members are %+v and %+v", entries, rules)
	}
	if plain, shut := e.Group(1), e.Group(2); plain.Gate[0].Text != "admit inside" || len(shut.Gate) != 0 || plain.NoWelcome || plain.NoEcho {
		t.Errorf("the plain groups are %+v, %+v", plain, shut)
	}
	const asJSON = `{"yorvet":1,"domains":["kelp.example",{"domain":"b.example","same-as":"kelp.example"}],"groups":[{"address":"desk@b.example","members":[{"everyone":true}]}]}`
	if e, err := Load(context.Background(), filepath.Join(write(t, map[string]string{"e.yaml": asJSON}), "e.yaml")); err != nil || e.Groups() != 1 {
		t.Errorf("as JSON: %v", err)
	}
}

// Hostile input has to be refused in a moment, with a message of sane length.
func TestHostileInput(t *testing.T) {
	if testing.Short() {
		t.Skip("large inputs take their time")
	}
	var bomb strings.Builder
	bomb.WriteString(top + "people:\n  - &a0 {address: a@kelp.example}\ngroups:\n")
	for i := range 20 {
		list := strings.Repeat("*b"+string(rune('a'+i-1))+", ", 9)
		if i == 0 {
			list = "x@kelp.example, "
		}
		bomb.WriteString("  - {address: g" + string(rune('a'+i)) + "@kelp.example, owners: &b" + string(rune('a'+i)) + " [" + list + "]}\n")
	}
	list := strings.Repeat("x@kelp.example, ", 10000)
	wide := top + "groups:\n  - {address: g@kelp.example, owners: &l [" + list + "]}\n" + strings.Repeat("  - {address: g@kelp.example, owners: *l}\n", 5000)
	for _, c := range []struct{ name, content, want string }{
		{"aliases in aliases", bomb.String(), "expected text, not a list"},
		{"aliases of a long list", wide, "aliases make this file too large"},
		{"an alias of itself", top + "groups: &a [*a]\n", "expected a mapping for a group"},
		{"flow nested deep", top + "groups: " + strings.Repeat("[", 1<<20), "this is no YAML"},
		{"blocks nested deep", top + "groups:\n" + nestedBlocks(3000), "a list"},
		{"a long line", top + "name: " + strings.Repeat("x", 100<<20), "larger than 32 MiB"},
		{"a long line in a smaller file", top + "name: " + strings.Repeat("x", 20<<20), "the line is longer than 4 MiB"},
		{"binary", "\x00\x01\x02\x00", "this is no YAML"},
		{"a long address", top + "people: [{address: " + strings.Repeat("x", 1<<20) + "@kelp.example}]\n", "longer than 64 octets"},
		{"a long selector", top + "groups: [{address: g@kelp.example, gate: [admit " + strings.Repeat("(", 1<<20) + "]}]\n", "nested deeper"},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(write(t, map[string]string{"e.yaml": c.content}), "e.yaml")
			_, err := Load(context.Background(), path)
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("Load = %.300v, want %q", err, c.want)
			}
			if err != nil && len(err.Error()) > 2<<20 {
				t.Errorf("the message has %d bytes", len(err.Error()))
			}
		})
	}
}

func nestedBlocks(depth int) string {
	var b strings.Builder
	for i := range depth {
		b.WriteString(strings.Repeat(" ", i) + "-\n")
	}
	return b.String()
}

func TestManyErrors(t *testing.T) {
	var b strings.Builder
	b.WriteString(top + "people:\n")
	for range mostErrors + 5 {
		b.WriteString("  - {address: x}\n")
	}
	_, err := Load(context.Background(), filepath.Join(write(t, map[string]string{"e.yaml": b.String()}), "e.yaml"))
	var bad *Errors
	if !errors.As(err, &bad) || len(bad.List) != mostErrors || bad.More != 5 || !strings.HasSuffix(err.Error(), "\n... and 5 more errors") {
		t.Errorf("%d errors and %d more", len(bad.List), bad.More)
	}
}

func FuzzLoad(f *testing.F) {
	f.Add(top+"groups:\n  - {address: a@kelp.example, gate: [admit inside], members: [b@c.example, {where: (a=b)}]}\npeople: {table: t.csv}\n", "address,name\nx@kelp.example,\"a\nb\"\n")
	f.Add("yorvet: 1\ndomains: [{domain: a.example, same-as: b.example}, b.example]\nmemberships: {table: t.csv}\ngroups: [{address: g@a.example}]\n", "group,address,copy,since\ng@b.example,x@y,every,2026-01-01\n")
	f.Add("yorvet: 1\ndomains: [a.example]\ngroups: {table: t.csv}\n", "address,gate,members,access.find\ng@a.example,\"refuse unproven because \"\"no; way\"\"; admit anyone\",everyone;where (a=b),inside\n")
	f.Add("a: &a [*a]\n? x\n: y\n", "\"")
	f.Fuzz(func(t *testing.T, yaml, table string) {
		if strings.Contains(yaml, "table") && !strings.Contains(yaml, "t.csv") {
			return // do not read what the fuzzer dreams up
		}
		dir := write(t, map[string]string{"e.yaml": yaml, "t.csv": table})
		e, err := Load(context.Background(), filepath.Join(dir, "e.yaml"))
		if (e == nil) == (err == nil) {
			t.Fatalf("Load = %v, %v", e, err)
		}
		var bad *Errors
		if err != nil && !errors.As(err, &bad) {
			t.Fatalf("Load = %v, want Errors", err)
		}
		if bad != nil {
			for _, one := range bad.List {
				if one.Line < 1 || one.Column < 1 || one.Text == "" {
					t.Fatalf("an error without a place: %+v", one)
				}
			}
		}
	})
}

// An excerpt is one line with carets under what is meant, and no longer than can be read.
func TestExcerpt(t *testing.T) {
	long := strings.Repeat("a", 100)
	for _, c := range []struct {
		source         string
		offset, length int
		want           string
	}{
		{"one two three", 4, 3, "one two three\n    ^^^"},
		{"first\nsecond line\nthird", 13, 4, "second line\n       ^^^^"},
		{"first\nsecond", 0, 20, "first\n^^^^^"},
		{"first", 5, 1, "first\n     ^"},
		{"first", 9, 1, "first\n     ^"},
		{"größer als", 9, 3, "größer als\n       ^^^"},
		{long + "X" + long, 100, 1, "..." + long[:60] + "X" + long[:59] + "...\n" + strings.Repeat(" ", 63) + "^"},
	} {
		want := "\n    " + strings.Replace(c.want, "\n", "\n    ", 1)
		if got := excerpt(c.source, c.offset, c.length); got != want {
			t.Errorf("%q at %d:\n%s\nwant\n%s", c.source, c.offset, got, want)
		}
	}
}

// Groups that hold one another too often are an error that names one, before anything is answered.
func TestTooManyNestings(t *testing.T) {
	ring := func(groups int) string {
		var b strings.Builder
		b.WriteString("yorvet: 1\ndomains: [kelp.example]\ngroups:\n")
		for i := range groups {
			fmt.Fprintf(&b, "  - {address: g%d@kelp.example, members: [g%d@kelp.example]}\n", i, (i+1)%groups)
		}
		return b.String()
	}
	for groups, refused := range map[int]bool{300: false, 400: true, 7000: true} {
		path := filepath.Join(t.TempDir(), "estate.yaml")
		if err := os.WriteFile(path, []byte(ring(groups)), 0o600); err != nil {
			t.Fatal(err)
		}
		_, err := Load(t.Context(), path)
		if (err != nil) != refused || err != nil && (!strings.Contains(err.Error(), "hold one another too often") || !strings.Contains(err.Error(), "estate.yaml:")) {
			t.Errorf("a ring of %d: %v", groups, err)
		}
	}
}

// What a table has of columns and of items in a cell takes time as its size, and columns have a bound.
func TestWideTables(t *testing.T) {
	columns := strings.Repeat(",x", 10_000)
	var header strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&header, ",c%d", i)
	}
	aliases := make([]string, 30_000)
	for i := range aliases {
		aliases[i] = fmt.Sprintf("é%d@kelp.example", i)
	}
	for about, test := range map[string]struct{ table, want string }{
		"too many columns": {"address" + header.String() + "\nann@kelp.example" + columns + "\n", "more than 10000 columns"},
		"many aliases":     {"address,also\nann@kelp.example,\"" + strings.Join(aliases, "; ") + "; no address\"\n", "people.csv:2:65535"},
	} {
		dir := t.TempDir()
		for name, text := range map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\npeople: {table: people.csv}\n", "people.csv": test.table} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := Load(t.Context(), dir); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %.300v, want %s", about, err, test.want)
		}
	}
}
