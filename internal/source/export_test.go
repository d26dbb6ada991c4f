package source_test

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/aliases"
	"yorvet.example/yorvet/internal/directory/ldif"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/directory/vcard"
	"yorvet.example/yorvet/internal/sample"
)

// hostile is an estate whose texts and addresses try to be something else in other
// formats.
func hostile(t *testing.T) *estate.Estate {
	return sample.Load(t, `yorvet: 1
domains: [kelp.example]
people:
  - {address: "|touch@kelp.example", name: "=cmd|' /C calc'!A0", attributes: {base: "\e]0;pier\a", note: "a\r\nEND:VCARD\rBEGIN:VCARD"}}
  - {address: ann@kelp.example, also: ["/etc/ann@kelp.example", '":include:/etc/passwd"@kelp.example'], name: "Ann\nmember: x\r\n\r\ndn: cn=evil"}
  - {address: '"|sh -c x"@kelp.example', name: "\e[31mred"}
  - {address: bob@kelp.example, name: "   "}
groups:
  - {address: crew@kelp.example, title: "Crew\u0085\u2028 \u009b31m", about: "-\nEND:VCARD\r\nX:y\rZ:z", members: ["|touch@kelp.example", "/dev/null@kelp.example", '"|sh -c x"@kelp.example', ann@kelp.example, '"\\x"@out.example', '"/var/mail/x"@out.example', "~bob@kelp.example"], owners: ["|touch@kelp.example", ann@kelp.example]}
  - {address: "/spool@kelp.example", members: [ann@kelp.example]}
  - {address: desk@kelp.example, also: ["|desk@kelp.example"], members: ["|touch@kelp.example"]}
`).Estate()
}

// In an alias file nothing becomes a program, a file or a list to include, and what
// is left out is listed.
func TestAliasesHandNothingToPrograms(t *testing.T) {
	e := hostile(t)
	var b bytes.Buffer
	if err := aliases.Write(&b, e); err != nil {
		t.Fatal(err)
	}
	text := b.String()
	if strings.ContainsAny(text, `|/\~`) || strings.Contains(text, ":include:") || strings.Contains(text, "touch") {
		t.Errorf("the file holds:\n%s", text)
	}
	if !strings.Contains(text, "crew: ann") {
		t.Errorf("Ann is not in the crew any more:\n%s", text)
	}
	var lost []string
	for _, loss := range directory.Losses(e, aliases.Carries()) {
		lost = append(lost, loss.String())
	}
	all := strings.Join(lost, "\n")
	for _, want := range []string{"a member that a mail server would take for a program, file or list of 7", "the group itself, as a mail server would take its address for a program, file or list, of /spool@kelp.example",
		"an owner that a mail server would take for a program, file or list of |touch@kelp.example of crew@kelp.example", "aliases that a mail server would take for a program, file or list of desk@kelp.example"} {
		if !strings.Contains(all, want) {
			t.Errorf("it is not told: %s\n%s", want, all)
		}
	}
}

// In no format does a text become a record, a line, a formula or a command of a
// terminal; what is left out of it is listed, and what is not is read back.
func TestTextsStayTexts(t *testing.T) {
	e := hostile(t)
	lost := func(c directory.Carries) string {
		var all []string
		for _, loss := range directory.Losses(e, c) {
			all = append(all, loss.String())
		}
		return strings.Join(all, "\n")
	}
	controls := func(format, text string) {
		t.Helper()
		if i := strings.IndexFunc(text, func(r rune) bool {
			return r < ' ' && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 || r == '\u2028'
		}); i >= 0 {
			t.Errorf("%s holds a control character: %q", format, text[i:min(i+20, len(text))])
		}
	}
	const told = "control characters in texts of"

	var cards bytes.Buffer
	m := directory.BuiltIn("vcard")
	if err := vcard.Write(&cards, e, m); err != nil {
		t.Fatal(err)
	}
	text := strings.ReplaceAll(cards.String(), "\r\n", "\n")
	controls("vCard", text)
	if n := strings.Count(text, "\nEND:VCARD\n"); n != e.People()+e.Groups() || strings.Count("\n"+text, "\nBEGIN:VCARD\n") != n {
		t.Errorf("%d cards of %d people and %d groups:\n%s", n, e.People(), e.Groups(), text)
	}
	if all := lost(vcard.Carries(m)); !strings.Contains(all, told) {
		t.Errorf("vCard does not tell of what it leaves out: %s", all)
	}

	var entries bytes.Buffer
	x := &ldif.Export{Map: directory.BuiltIn("ldap")}
	if err := x.Write(&entries, e); err != nil {
		t.Fatal(err)
	}
	controls("LDIF", entries.String())
	read := 0
	if err := ldif.Read(t.Context(), &entries, ldif.Options{Name: "x"}, func(entry *directory.Entry) {
		if strings.Contains(strings.ToLower(entry.ID), "evil") {
			t.Errorf("a text became the entry %s", entry.ID)
		}
		read++
	}); err != nil || read != 3+e.People()+e.Groups() {
		t.Errorf("%d entries: %v", read, err)
	}

	var resources bytes.Buffer
	if err := (&scim.Export{Map: directory.BuiltIn("scim")}).Write(&resources, e); err != nil {
		t.Fatal(err)
	}
	controls("SCIM", resources.String())

	for name, data := range table.Write(e) {
		controls(name, strings.ReplaceAll(string(data), "\r\n", "\n"))
		rows, err := csv.NewReader(bytes.NewReader(data)).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range rows {
			for _, cell := range row {
				if cell != "" && strings.IndexByte("=+-@\t\r", cell[0]) >= 0 {
					t.Errorf("%s holds a formula: %q", name, cell)
				}
			}
		}
	}
	if all := lost(table.Carries()); !strings.Contains(all, told) {
		t.Errorf("tables do not tell of what they leave out: %s", all)
	}
}

// What is no name of an attribute or property is never written as one.
func TestMapsNameNothingElse(t *testing.T) {
	e := hostile(t)
	m, err := directory.ParseMap("x", []byte("yorvet-map: 1\npeople:\n- {match: '(a=b)', address: mail, attributes: {base: \"x\\nchangetype\", note: \"X:y\\r\\nEND\"}}\ngroups:\n- {match: '(a=b)', address: mail}\n"))
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := (&ldif.Export{Map: m}).Write(&b, e); err == nil || !strings.Contains(err.Error(), "no name of an attribute") {
		t.Errorf("LDIF: %v", err)
	}
	b.Reset()
	if err := vcard.Write(&b, e, m); err != nil || strings.Contains(b.String(), "\nX:y") {
		t.Errorf("vCard: %v\n%s", err, b.String())
	}
}
