package source_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/source"
)

// kept is an estate with all that only Yorvet knows.
const kept = `# The estate.
yorvet: 1
domains: [kelp.example]
people:
  - {address: ann@kelp.example, name: Ann, attributes: {unit: deck, hobby: rowing}}   # captain
  - address: bob@kelp.example
    name: Bob
    mailbox: full   # since May
  - {address: hand@kelp.example}   # written by hand
groups:
  # What passengers see.
  - address: crew@kelp.example
    also: [gang@kelp.example]
    title: Crew
    about: Old words
    joiners: digest
    owners: [ann@kelp.example]
    members:
      - {address: ann@kelp.example, copy: none}   # on leave
      - bob@kelp.example
      - hand@kelp.example
    gate:
      - hold suspect   # always
      - admit anyone
    managed-in: hq
    accept: [{hazard: gets-nothing, because: on leave}]
  - {address: gone@kelp.example, members: [bob@kelp.example], managed-in: hq}
  - {address: theirs@kelp.example, members: [bob@kelp.example], managed-in: lists}
  - {address: ours@kelp.example, members: [bob@kelp.example, gone@kelp.example, hand@kelp.example], owners: [hand@kelp.example]}
`

// What a source says changes an estate in place; everything else stays as it was.
func TestFollow(t *testing.T) {
	const people = "dn: uid=ann\nobjectClass: inetOrgPerson\ncn: Ann Oake\nmail: ann@kelp.example\nmail: a.oake@kelp.example\nou: bridge\n\ndn: uid=bob\nobjectClass: inetOrgPerson\ncn: Bob\nmail: bob@kelp.example\n\ndn: uid=cat\nobjectClass: inetOrgPerson\ncn: Cat\nmail: cat@kelp.example\n\n"
	const crew = "dn: cn=crew\nobjectClass: groupOfNames\ncn: Crew\nmail: crew@kelp.example\nowner: uid=bob\nmember: uid=ann\nmember: uid=cat\nmember: cn=new\n\ndn: cn=new\nobjectClass: groupOfNames\ncn: New\nmail: new@kelp.example\nmember: uid=bob\n\n"
	const theirs = "dn: cn=theirs\nobjectClass: groupOfNames\ncn: theirs\nmail: theirs@kelp.example\nmember: uid=ann\n"
	followed := strings.NewReplacer(
		"name: Ann, attributes: {unit: deck, hobby: rowing}}", "name: Ann Oake, attributes: {unit: bridge, hobby: rowing}, also: [a.oake@kelp.example]}",
		"  - {address: hand@kelp.example}   # written by hand\n", "  - {address: hand@kelp.example}   # written by hand\n  - address: cat@kelp.example\n    name: Cat\n",
		"    about: Old words\n", "",
		"owners: [ann@kelp.example]\n", "owners: [bob@kelp.example]\n",
		"      - bob@kelp.example\n      - hand@kelp.example\n", "      - {address: cat@kelp.example, copy: digest, since: 2026-11-23}\n      - new@kelp.example\n",
		"  - {address: gone@kelp.example, members: [bob@kelp.example], managed-in: hq}\n", "",
		"[bob@kelp.example, gone@kelp.example, hand@kelp.example]", "[bob@kelp.example, hand@kelp.example]",
	).Replace(kept) + "  - address: new@kelp.example\n    title: New\n    members:\n      - bob@kelp.example\n    managed-in: hq\n"
	for _, test := range []struct {
		name, from     string
		prune, partial bool
		want           string
		gone, remark   string
	}{
		{"all", people + crew + theirs, false, false, followed, "gone@kelp.example hand@kelp.example", "theirs@kelp.example is managed in lists"},
		{"pruned", people + crew, true, false, strings.NewReplacer("  - {address: hand@kelp.example}   # written by hand\n", "", "[bob@kelp.example, hand@kelp.example], owners: [hand@kelp.example]", "[bob@kelp.example]").Replace(followed), "gone@kelp.example hand@kelp.example", ""},
		{"a part", people, true, true, strings.NewReplacer("name: Ann, attributes: {unit: deck, hobby: rowing}}", "name: Ann Oake, attributes: {unit: bridge, hobby: rowing}, also: [a.oake@kelp.example]}",
			"  - {address: hand@kelp.example}   # written by hand\n", "  - {address: hand@kelp.example}   # written by hand\n  - address: cat@kelp.example\n    name: Cat\n").Replace(kept), "", ""},
	} {
		path := write(t, "estate.yaml", kept)
		d, err := estatefile.Open(context.Background(), path)
		if err != nil {
			t.Fatal(err)
		}
		read, err := source.Read(context.Background(), "hq="+write(t, "x.ldif", test.from), source.Options{})
		if err != nil {
			t.Fatal(err)
		}
		read.Partial = test.partial
		today, _ := estate.ParseDay("2026-11-23")
		m := directory.Merge([]*directory.Directory{read}, directory.MergeOptions{Domains: []string{"kelp.example"}})
		gone := m.Update(d, directory.Options{Today: today, Prune: test.prune})
		if _, err := d.Estate(); err != nil {
			t.Fatal(err)
		}
		if err := d.Write(); err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if string(got) != test.want {
			t.Errorf("%s: %s", test.name, differing(string(got), test.want))
		}
		if text := strings.Join(append(gone.Groups, gone.People...), " "); text != test.gone {
			t.Errorf("%s: gone %s, want %s", test.name, text, test.gone)
		}
		remarks := ""
		for _, r := range m.Remarks {
			remarks += r.String() + "\n"
		}
		if !strings.Contains(remarks, test.remark) {
			t.Errorf("%s: remarks\n%s", test.name, remarks)
		}
	}
}

// The same with tables beside the estate: only rows that change are written anew.
func TestFollowTables(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"estate.yaml":     "yorvet: 1 # tables\ndomains: [kelp.example]\npeople: {table: people.csv}\ngroups: {table: groups.csv}\nmemberships: {table: memberships.csv}\n",
		"people.csv":      "address,name,unit\nann@kelp.example,\"Ann\",deck\nbob@kelp.example,\"Bob\",\n",
		"groups.csv":      "address,title,owners,gate,managed-in\ncrew@kelp.example,\"Crew\",ann@kelp.example,hold suspect;admit anyone,hq\n",
		"memberships.csv": "group,address,copy\ncrew@kelp.example,\"ann@kelp.example\",none\ncrew@kelp.example,bob@kelp.example,\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	from := write(t, "x.ldif", "dn: uid=ann\nobjectClass: inetOrgPerson\ncn: Ann\nmail: ann@kelp.example\nou: bridge\n\ndn: uid=cat\nobjectClass: inetOrgPerson\ncn: Cat\nmail: cat@kelp.example\n\ndn: cn=crew\nobjectClass: groupOfNames\ncn: The crew\nmail: crew@kelp.example\nowner: uid=cat\nmember: uid=ann\nmember: uid=cat\n")
	if changed := follow(t, dir, from); changed != 3 {
		t.Errorf("%d files change", changed)
	}
	for name, want := range map[string]string{
		"estate.yaml":     "yorvet: 1 # tables\n",
		"people.csv":      "address,name,unit\nann@kelp.example,Ann,bridge\nbob@kelp.example,\"Bob\",\ncat@kelp.example,Cat,\n",
		"groups.csv":      "address,title,owners,gate,managed-in\ncrew@kelp.example,The crew,cat@kelp.example,hold suspect;admit anyone,hq\n",
		"memberships.csv": "group,address,copy\ncrew@kelp.example,\"ann@kelp.example\",none\ncrew@kelp.example,cat@kelp.example,\n",
	} {
		if data, _ := os.ReadFile(filepath.Join(dir, name)); !strings.HasPrefix(string(data), want) {
			t.Errorf("%s is\n%s\nwant\n%s", name, data, want)
		}
	}
	if changed := follow(t, dir, from); changed != 0 {
		t.Errorf("following again changes %d files", changed)
	}
}
