package main

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// directoryOf writes people and groups as a directory hands them out.
func directoryOf(groups, people int) string {
	var b strings.Builder
	for i := range people {
		fmt.Fprintf(&b, "dn: uid=p%d,dc=kelp,dc=example\nobjectClass: inetOrgPerson\ncn: P%d\nmail: p%d@kelp.example\n\n", i, i, i)
	}
	for i := range groups {
		fmt.Fprintf(&b, "dn: cn=g%d,dc=kelp,dc=example\nobjectClass: groupOfNames\ncn: g%d\nmail: g%d@kelp.example\nmember: uid=p%d,dc=kelp,dc=example\nmember: uid=p%d,dc=kelp,dc=example\n\n", i, i, i, i%people, (i+1)%people)
	}
	return b.String()
}

func put(t *testing.T, dir, name, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// want checks how a command ends and what it says.
func want(t *testing.T, dir, line string, code int, parts ...string) string {
	t.Helper()
	got := run(t, dir, []string{"COLUMNS=200"}, strings.Fields("--on 2026-11-23 "+line))
	said := got.stdout + got.stderr
	if got.code != code {
		t.Errorf("%s ends with %d, want %d:\n%s", line, got.code, code, said)
	}
	for _, part := range parts {
		if !strings.Contains(said, part) {
			t.Errorf("%s does not say %q:\n%s", line, part, said)
		}
	}
	return said
}

// A source that suddenly shows hardly anything removes nothing unless that is meant, and
// one that gave only a part never does.
func TestSourcesThatShrink(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "hq.ldif", directoryOf(40, 30))
	want(t, dir, "import hq=hq.ldif --domain kelp.example -o estate", 0, "30 people, 40 groups")
	put(t, dir, "none.yaml", "yorvet: 1\ndomains: [kelp.example]\n")
	want(t, dir, "--estate none.yaml export --as ldif --since hq=hq.ldif --for hq", 2,
		"would remove 40 of 40 groups; nothing is written. If that is intended: --allow-removal 40")
	want(t, dir, "--estate none.yaml export --as ldif --since hq=hq.ldif --for hq --allow-removal 80", 0, "changetype: delete")
	before, err := os.ReadFile(filepath.Join(dir, "estate", "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	unwritten := func(what string) {
		t.Helper()
		now, err := os.ReadFile(filepath.Join(dir, "estate", "estate.yaml"))
		if err != nil || string(now) != string(before) {
			t.Errorf("%s: the estate has changed: %v", what, err)
		}
	}
	want(t, dir, "import hq=hq.ldif -o estate --preview", 0, "nothing to change")
	want(t, dir, "compare hq=hq.ldif estate", 0, "Nothing changes")

	put(t, dir, "hq.ldif", directoryOf(20, 30))
	want(t, dir, "import hq=hq.ldif -o estate --yes", 2, "would remove 20 of 40 groups; nothing is written", "--allow-removal 20")
	want(t, dir, "import hq=hq.ldif -o estate --yes --allow-removal 19", 2, "would remove 20 of 40 groups")
	unwritten("a source that shrinks")
	want(t, dir, "import hq=hq.ldif -o estate --preview", 1, "would remove 20 of 40 groups", "20 groups removed")
	unwritten("a preview")
	want(t, dir, "compare hq=hq.ldif estate", 1, "20 groups removed")

	put(t, dir, "hq.ldif", strings.TrimSuffix(directoryOf(20, 30), "ple\n\n"))
	want(t, dir, "import hq=hq.ldif -o estate --yes", 3, "ends in the middle of an entry", "nothing to change", "only a part")
	want(t, dir, "compare hq=hq.ldif estate", 3, "Nothing changes", "only a part")
	want(t, dir, "export --as ldif --since hq=hq.ldif --estate estate", 3, "only a part")
	unwritten("a source that is cut off")

	put(t, dir, "hq.ldif", directoryOf(30, 30))
	want(t, dir, "import hq=hq.ldif -o estate --yes --allow-removal 20", 0, "10 groups removed")
	if _, err := os.Stat(filepath.Join(dir, "estate")); err != nil {
		t.Error(err)
	}
}

// Several sources beside an estate are compared as import would take them; what is written
// by hand besides is no drift, and what one of them changed is.
func TestDriftFromSeveralSources(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "hq.ldif", directoryOf(3, 4))
	put(t, dir, "aliases", "helm: p0, p1\n")
	want(t, dir, "import hq=hq.ldif mta=aliases --domain kelp.example -o estate.yaml", 0, "4 groups")
	want(t, dir, "--estate estate.yaml group set helm@kelp.example welcome=false --yes", 0, "Written")
	want(t, dir, "--estate estate.yaml member add helm@kelp.example p2@kelp.example --yes", 0)
	want(t, dir, "compare hq=hq.ldif mta=aliases estate.yaml", 1, "p2@kelp.example left helm@kelp.example", "from estate.yaml to what hq=hq.ldif, mta=aliases now say")
	want(t, dir, "compare hq=hq.ldif estate.yaml", 0, "Nothing changes")
	put(t, dir, "aliases", "helm: p0, p1, p2, p3\nextra: p0, nobody-here\n")
	said := want(t, dir, "compare hq=hq.ldif mta=aliases estate.yaml", 1, "p3@kelp.example joined")
	if !strings.Contains(said, "extra@kelp.example") {
		t.Errorf("a new alias is not told:\n%s", said)
	}
	// A source that shows no group any more is not believed, however few there were.
	put(t, dir, "hq.ldif", directoryOf(0, 4))
	want(t, dir, "import hq=hq.ldif mta=aliases -o estate.yaml --yes", 2,
		"hq shows no group any more, and the change would remove 3 of its 3 groups; nothing is written")
	want(t, dir, "import hq=hq.ldif mta=aliases -o estate.yaml --yes --allow-removal 3", 0)
	want(t, dir, "compare hq=hq.ldif", 2, "needs two estates")
	want(t, dir, "compare estate.yaml hq=hq.ldif mta=aliases", 2, "several sources and one estate on disk behind them")
}

// What a source has changed is told as it changed there: somebody who left has left, and an
// opening is an opening, in whatever order the two are named.
func TestDriftIsToldForwards(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "sheet.map", consoleMap)
	put(t, dir, "sheet.yaml", "yorvet-source: 1\nfrom: sheet.csv\nname: sheet\nmap: sheet.map\ndomains: [kelp.example]\n")
	put(t, dir, "sheet.csv", consoleSheet(2, "bob@kelp.example", "bob@kelp.example;cy@kelp.example"))
	want(t, dir, "import sheet.yaml -o estate.yaml", 0, "2 groups")
	put(t, dir, "sheet.csv", strings.Replace(consoleSheet(2, "bob@kelp.example", "bob@kelp.example;cy@kelp.example"), ";cy@kelp.example,yes", ",no", 1))
	for _, line := range []string{"compare sheet.yaml estate.yaml", "compare estate.yaml sheet.yaml"} {
		said := want(t, dir, line, 1, "cy@kelp.example left", "inbox -> no recipient", "refuse -> admit", "new hazard")
		for _, wrong := range []string{"joined", "welcome mail", "admit -> refuse"} {
			if strings.Contains(said, wrong) {
				t.Errorf("%s says %q:\n%s", line, wrong, said)
			}
		}
	}
}

// What is known is told once.
func TestKnownRemarks(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "aliases", "helm: p0@kelp.example, p1@kelp.example\nroot: |/bin/filter\n")
	want(t, dir, "import mta=aliases --domain kelp.example -o estate.yaml --known seen", 0, "hands its mail to a program")
	if said := want(t, dir, "import mta=aliases -o estate.yaml --known seen --yes", 0); strings.Contains(said, "program") {
		t.Errorf("it is told again: %s", said)
	}
	put(t, dir, "aliases", "# more\nhelm: p0@kelp.example, p1@kelp.example\nroot: |/bin/filter\nrow: |/bin/other\n")
	said := want(t, dir, "import mta=aliases -o estate.yaml --known seen --preview", 0, "row hands its mail to a program")
	if strings.Contains(said, "root hands") {
		t.Errorf("what is known is told again: %s", said)
	}
}

// A service that speaks of fewer resources than before gave only a part; one that is asked
// too much is asked again.
func TestServiceThatShrinks(t *testing.T) {
	dir := t.TempDir()
	busy, shrinks := 2, false
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if busy > 0 {
			busy--
			w.Header().Set("Retry-After", "0")
			http.Error(w, "{}", http.StatusTooManyRequests)
			return
		}
		start := r.URL.Query().Get("startIndex")
		user := func(n int) string {
			return fmt.Sprintf(`{"id": "%d", "userName": "p%d@kelp.example", "emails": [{"value": "p%d@kelp.example"}]}`, n, n, n)
		}
		switch {
		case strings.HasSuffix(r.URL.Path, "/Groups"):
			fmt.Fprint(w, `{"totalResults": 0, "Resources": []}`)
		case start == "1":
			fmt.Fprintf(w, `{"totalResults": 2, "Resources": [%s]}`, user(1))
		case shrinks:
			fmt.Fprint(w, `{"totalResults": 1, "Resources": []}`)
		default:
			fmt.Fprintf(w, `{"totalResults": 2, "Resources": [%s]}`, user(2))
		}
	}))
	defer server.Close()
	want(t, dir, "import hr="+server.URL+"/scim/v2 --domain kelp.example -o estate.yaml", 0, "2 people")
	shrinks = true
	want(t, dir, "compare hr="+server.URL+"/scim/v2 estate.yaml", 3, "only a part", "fewer resources than before")
}

// An alias of an address that nobody has makes nobody up; a tag is no second person.
func TestAliasesMakeNobodyUp(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "hq.ldif", directoryOf(1, 3))
	put(t, dir, "aliases", "x: p0+boats\ny: ghost\npost: p1\nteam: p0, p1\nowner-team: p2\n")
	want(t, dir, "import hq=hq.ldif mta=aliases --domain kelp.example -o estate.yaml", 0, "3 people", "y@kelp.example leads to nobody", "No source says who may post to 2 groups")
	for alias, person := range map[string]string{"x": "p0", "post": "p1", "owner-team": "p2"} {
		want(t, dir, "--estate estate.yaml explain --from p1@kelp.example --to "+alias+"@kelp.example", 0, person+"@kelp.example")
	}
	want(t, dir, "--estate estate.yaml explain --from p1@kelp.example --to y@kelp.example", 0, "no such address")
	want(t, dir, "--estate estate.yaml who manages team@kelp.example", 0, "p2@kelp.example")
	want(t, dir, "import hq=hq.ldif mta=aliases -o estate.yaml --preview", 0, "nothing to change")
}

// A change of a directory takes out the entry that a group really names, and needs no
// attribute that standard schemas have not got.
func TestHandOutToDirectories(t *testing.T) {
	dir := t.TempDir()
	const people = "dn: uid=bo,dc=k\nobjectClass: inetOrgPerson\ncn: Bo\nmail: bo@k.example\n\n" +
		"dn: uid=cy,dc=k\nobjectClass: inetOrgPerson\ncn: Cy\nmail: cy@k.example\n\n" +
		"dn: uid=admin-bo,dc=k\nobjectClass: inetOrgPerson\ncn: Bo (admin)\nmail: bo@k.example\n\n"
	const group = "dn: cn=t,dc=k\nobjectClass: groupOfNames\ncn: t\nmail: t@k.example\nmember: uid=cy,dc=k\nmember: uid="
	put(t, dir, "first.ldif", people+group+"bo,dc=k\n")
	put(t, dir, "second.ldif", people+group+"admin-bo,dc=k\n")
	const estate = "yorvet: 1\ndomains: [k.example]\npeople: [{address: bo@k.example, name: Bo}, {address: cy@k.example, name: Cy}]\n"
	put(t, dir, "one.yaml", estate+"groups: [{address: t@k.example, title: t, members: [cy@k.example], managed-in: hq}]\n")
	for source, dn := range map[string]string{"first.ldif": "uid=bo,dc=k", "second.ldif": "uid=admin-bo,dc=k"} {
		said := want(t, dir, "--estate one.yaml export --as ldif --since hq="+source+" --for hq", 0)
		if want := "version: 1\n\ndn: cn=t,dc=k\nchangetype: modify\ndelete: member\nmember: " + dn + "\n-\n"; !strings.HasPrefix(said, want) {
			t.Errorf("%s: %q, want %q", source, said, want)
		}
	}
	put(t, dir, "named.yaml", estate+"groups: [{address: u@k.example, also: [t@k.example], title: t, "+
		"members: [bo@k.example, cy@k.example], managed-in: hq}]\n")
	said := want(t, dir, "--estate named.yaml export --as ldif --since hq=first.ldif --for hq", 0)
	const renamed = "version: 1\n\ndn: cn=t,dc=k\nchangetype: modify\nreplace: mail\nmail: u@k.example\nmail: t@k.example\n-\n"
	if !strings.HasPrefix(said, renamed) {
		t.Errorf("after a rename: %q, want %q", said, renamed)
	}
}

// What a change or a whole estate makes up is told, so are groups that arrive empty, and a
// rule for members takes in nobody whom the estate does not mean.
func TestHandOutSaysWhatItMakesUp(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "e.yaml", "yorvet: 1\ndomains: [k.example]\npeople: [{address: bo@k.example}, {address: cy@out.example, also: [cy@k.example]}]\n"+
		"groups:\n  - {address: all@k.example, members: [everyone: true]}\n  - {address: gone@k.example, members: [left@k.example]}\n")
	said := want(t, dir, "--estate e.yaml export --as ldif -o e.ldif", 0,
		"Names of entries made up, as no source gives them (--ids SOURCE does): 4, such as cn=all@k.example,ou=groups,dc=k,dc=example",
		"every member, so that the group arrives empty, of gone@k.example")
	if strings.Contains(said, "bo@k.example") {
		t.Errorf("of several names one is enough:\n%s", said)
	}
	text, err := os.ReadFile(filepath.Join(dir, "e.ldif"))
	if err != nil {
		t.Fatal(err)
	}
	rule := strings.ReplaceAll(string(text), "\n ", "")
	if !strings.Contains(rule, "%28mail=%2A@k.example%29%28%21%28mail=cy@out.example%29%29") {
		t.Errorf("the rule takes in people outside:\n%s", rule)
	}
	want(t, dir, "import e.ldif --domain k.example -o again.yaml", 0)
	want(t, dir, "--estate again.yaml who receives all@k.example --from bo@k.example", 0, "one address, inbox")
}

// A service is told the address of a group where it keeps it, also that of a new one, and
// an estate with tables goes along with a group that was renamed.
func TestHandOutToServices(t *testing.T) {
	const user = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"1","userName":"bo@k.example"}`
	const schemas = `"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"]`
	for name, test := range map[string]struct{ group, patch, post string }{
		"an attribute": {`"displayName":"T","email":"t@k.example"`, `"path": "email",`, `"email": "new@k.example"`},
		"an extension": {`"displayName":"T","urn:x.example:Mail":{"mail":"t@k.example"}`,
			`"path": "urn:x.example:Mail:mail",`, `"urn:x.example:Mail": {`},
		"the name": {`"displayName":"t@k.example"`, `"path": "displayName",`, `"displayName": "new@k.example"`},
		"a list":   {`"displayName":"T","emails":[{"value":"t@k.example"}]`, `"path": "emails",`, `"emails": [`},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			put(t, dir, "s.json", `{"Resources":[`+user+`,{`+schemas+`,"id":"2",`+test.group+`,"members":[{"value":"1"}]}]}`)
			if err := os.Mkdir(filepath.Join(dir, "e"), 0o755); err != nil {
				t.Fatal(err)
			}
			const groups = "yorvet: 1\ndomains: [k.example]\npeople: [{address: bo@k.example}]\nmemberships: {table: m.csv}\ngroups:\n"
			put(t, dir, filepath.Join("e", "estate.yaml"), groups+"  - {address: t@k.example, title: T, managed-in: id}\n")
			put(t, dir, filepath.Join("e", "m.csv"), "group,address\nt@k.example,bo@k.example\n")
			want(t, dir, "--estate e group rename t@k.example u@k.example --yes", 0)
			want(t, dir, "compare id=scim:s.json e", 1, "renamed: u@k.example -> t@k.example")
			want(t, dir, "--estate e export --as scim --since id=scim:s.json --for id", 0, test.patch, `"value": `)
			want(t, dir, "import id=scim:s.json -o e --yes", 0)
			want(t, dir, "--estate e check", 0)
			put(t, dir, filepath.Join("e", "estate.yaml"), groups+"  - {address: t@k.example, title: T, managed-in: id}\n"+
				"  - {address: new@k.example, title: New, managed-in: id}\n")
			put(t, dir, filepath.Join("e", "m.csv"), "group,address\nt@k.example,bo@k.example\nnew@k.example,bo@k.example\n")
			want(t, dir, "--estate e export --as scim --since id=scim:s.json --for id", 0, `"method": "POST"`, test.post)
		})
	}
}

// consoleMap reads a sheet as a console hands it out.
const consoleMap = `yorvet-map: 1
groups:
  - address: Mail
    about: {from: Notes, optional: true}
    owns: [about]
    owners: [{from: Keepers, by: address}]
    members: [{from: Readers, by: address}]
    gate:
      - {when: (Closed=yes), say: refuse not inside}
      - admit anyone
`

// consoleSheet is such a sheet, with some names of columns put in place of others.
func consoleSheet(rows int, replace ...string) string {
	var b strings.Builder
	b.WriteString("Mail,Notes,Keepers,Readers,Closed\n")
	for i := range rows {
		fmt.Fprintf(&b, "g%d@kelp.example,About %[1]d,ann@kelp.example,bob@kelp.example,yes\n", i)
	}
	return strings.NewReplacer(replace...).Replace(b.String())
}

// A sheet whose columns are renamed, emptied or missing, or that is cut off, opens no group and
// removes nothing before somebody has said so.
func TestSheetsThatLoseColumns(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "sheet.map", consoleMap)
	put(t, dir, "sheet.csv", consoleSheet(12))
	const follow = "import sheet=sheet.csv --map sheet.map --domain kelp.example -o estate"
	want(t, dir, follow, 0, "12 groups")
	before := list(t, dir)
	unwritten := func(what string) {
		t.Helper()
		put(t, dir, "sheet.csv", consoleSheet(12))
		if now := list(t, dir); now != before {
			t.Errorf("%s: files have changed", what)
		}
	}
	for what, test := range map[string]struct{ sheet, says string }{
		"a renamed condition":  {consoleSheet(12, "Closed", "Shut"), "the map reads closed, and there is no such column; there are Mail, Notes, Keepers, Readers, Shut"},
		"a renamed list":       {consoleSheet(12, "Readers", "Reader"), `there is no such column; there are Mail, Notes, Keepers, Reader, Closed. If it may be missing, the map says "optional: true" there; did you mean Reader?`},
		"an emptied condition": {consoleSheet(12, ",yes\n", ",\n"), "would open 12 groups to anyone outside: g0@kelp.example"},
		"an emptied list":      {consoleSheet(12, "bob@kelp.example", ""), "members of all 12 records is empty (Readers)"},
		"a doubled column":     {consoleSheet(12, "Notes", "Closed"), `the column "Closed" stands here for the second time`},
		"a heading alone":      {consoleSheet(0), "there is no record in it"},
		"half of it":           {consoleSheet(6), "sheet does not show 6 of its groups any more, and the change would remove 6 of its 12 groups"},
	} {
		put(t, dir, "sheet.csv", test.sheet)
		want(t, dir, follow+" --yes", 2, test.says)
		unwritten(what)
	}
	// What the map calls optional may be missing, but it is not taken from all groups at once.
	put(t, dir, "sheet.csv", strings.ReplaceAll(consoleSheet(12), ",Notes,", ",Other,"))
	want(t, dir, follow+" --yes", 2, "the sources say no about any more of 12 of the 12 groups that have one")
	want(t, dir, follow+" --yes --allow-removal 12", 0, "12 groups change")
	put(t, dir, "sheet.csv", consoleSheet(12, ",yes\n", ",\n"))
	want(t, dir, follow+" --yes --allow-opening 12", 0, "12 groups change")
	// A rule of a gate may be optional, with all the columns that it reads.
	put(t, dir, "sheet.map", strings.Replace(consoleMap, "say: refuse not inside}", "say: 'refuse {Kept Out}', optional: true}", 1))
	put(t, dir, "sheet.csv", consoleSheet(12, ",Closed", "", ",yes\n", "\n"))
	want(t, dir, strings.ReplaceAll(follow, "-o estate", "-o other"), 0, "12 groups")
}

// The same of rows of memberships, and of JSON.
func TestOtherShapesThatLose(t *testing.T) {
	const gate = "\n    gate: [{when: (closed=yes), say: refuse not inside}, admit anyone]\n"
	long := func(groups int, replace ...string) string {
		var b strings.Builder
		b.WriteString("mail,closed,who,part\n")
		for i := range groups {
			fmt.Fprintf(&b, "g%d@kelp.example,yes,ann@kelp.example,keeper\ng%[1]d@kelp.example,yes,bob@kelp.example,reader\n", i)
		}
		return strings.NewReplacer(replace...).Replace(b.String())
	}
	nested := func(groups int, replace ...string) string {
		var all []string
		for i := range groups {
			all = append(all, fmt.Sprintf(`{"mail": "g%d@kelp.example", "closed": "yes", "people": [{"who": "ann@kelp.example", `+
				`"part": "keeper"}, {"who": "bob@kelp.example", "part": "reader"}]}`, i))
		}
		return strings.NewReplacer(replace...).Replace(`{"lists": [` + strings.Join(all, ",\n") + "]}\n")
	}
	const people = "      - {each: people, address: who, role: {from: part, as: {keeper: owner, reader: member}}}\n"
	for _, shape := range []struct {
		format, keys, people string
		of                   func(groups int, replace ...string) string
		lose                 map[string]string
	}{
		{"csv", "rows-by: mail\n    address: mail", strings.Replace(people, "each: people, ", "", 1), long, map[string]string{
			"a renamed condition":  long(12, ",closed,", ",shut,"),
			"a renamed list":       long(12, ",who,", ",whoever,"),
			"a renamed role":       long(12, ",part\n", ",does\n"),
			"an emptied condition": long(12, ",yes,", ",,"),
			"an emptied list":      long(12, "ann@kelp.example", "", "bob@kelp.example", ""),
			"emptied readers":      long(12, "bob@kelp.example", ""),
			"a doubled column":     long(12, ",part\n", ",closed\n"),
			"a heading alone":      long(0),
			"half of it":           long(6),
			"cut off":              strings.TrimSuffix(long(12), "s,ann@kelp.example,keeper\ng11@kelp.example,yes,bob@kelp.example,reader\n"),
		}},
		{"json", "records: lists\n    address: mail", people, nested, map[string]string{
			"a renamed condition":  nested(12, `"closed"`, `"shut"`),
			"a renamed list":       nested(12, `"people"`, `"folk"`),
			"renamed addresses":    nested(12, `"who"`, `"whoever"`),
			"a renamed role":       nested(12, `"part"`, `"does"`),
			"renamed records":      nested(12, `"lists"`, `"groups"`),
			"an emptied condition": nested(12, `"closed": "yes"`, `"closed": ""`),
			"an emptied list":      nested(12, `{"who": "ann@kelp.example", "part": "keeper"}, {"who": "bob@kelp.example", "part": "reader"}`, ""),
			"emptied readers":      nested(12, `"bob@kelp.example"`, `""`),
			"a doubled key":        nested(12, `"people": [`, `"closed": "no", "people": [`),
			"no records":           nested(0),
			"half of it":           nested(6),
			"cut off":              strings.TrimSuffix(nested(12), "}]}]}\n"),
		}},
	} {
		dir := t.TempDir()
		put(t, dir, "the.map", "yorvet-map: 1\ngroups:\n  - "+shape.keys+gate+"    members:\n"+shape.people)
		follow := "import sheet=" + shape.format + ":sheet --map the.map --domain kelp.example -o estate"
		put(t, dir, "sheet", shape.of(12))
		want(t, dir, follow, 0, "12 groups")
		want(t, dir, follow+" --yes", 0, "nothing to change")
		before := list(t, dir)
		for what, text := range shape.lose {
			put(t, dir, "sheet", text)
			r := runLine(t, dir, "yorvet "+follow+" --yes")
			if strings.Contains(what, "doubled") && !strings.Contains(r.stderr, "for the second time") {
				t.Errorf("%s, %s: %s", shape.format, what, r.stderr)
			}
			put(t, dir, "sheet", shape.of(12))
			if now := list(t, dir); r.code < 2 || now != before {
				t.Errorf("%s, %s: exit code %d, files have changed: %t\n%s%s", shape.format, what, r.code, now != before, r.stdout, r.stderr)
			}
		}
	}
}
