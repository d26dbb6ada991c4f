package source_test

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/source"
)

// write writes a file and returns its path.
func write(t testing.TB, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// remarks returns the remarks of a directory, one a line.
func remarks(d *directory.Directory) string {
	var b strings.Builder
	for _, r := range d.Remarks {
		fmt.Fprintf(&b, "%d: %s\n", r.Line, r.Text)
	}
	return b.String()
}

// What a source could do harm with is refused or left out, and said.
func TestHostileSources(t *testing.T) {
	marker := filepath.Join(t.TempDir(), "ran")
	secret := write(t, "secret", "hush@kelpmere.example\n")
	for _, test := range []struct {
		name, text string
		allow      bool
		err        string // part of it, or ""
		remark     string // part of them, or ""
		not        string // that nothing may say
	}{
		{"a.ldif", "dn: cn=a\ncn:< file://" + secret + "\n", false, "files that a source names are not read", "", "hush"},
		{"b.ldif", "dn: cn=a\nchangetype: delete\n", false, "change record", "", ""},
		{"c.aliases", "a: b, |touch " + marker + ", \"|touch " + marker + "\", /var/mail/b, c\n", false, "", "never run", ""},
		{"d.aliases", "a: b, :include:" + secret + ", c\n", false, "", "files that a source names are not read", "hush"},
		{"e.aliases", "a: b, :include:/dev/zero, c\n", true, "", "this is a device", ""},
		{"f.aliases", "a: b, c\nx\n: y\n\"open: z\n", false, "", "expected an alias", ""},
		{"g.csv", "address,name\na@kelpmere.example\n", false, "g.csv:2", "", ""},
		{"h.csv", "address,address\n", false, "second time", "", ""},
		{"i.csv", "", false, "no header row", "", ""},
		{"j.csv", "group,address,copy\ng@kelpmere.example,a@kelpmere.example,loud\n", false, "", `not "loud"`, ""},
		{"k.vcf", "BEGIN:VCARD\nVERSION:4.0\nFN:x\n", false, "does not end", "", ""},
		{"l.vcf", "hello\n", false, "expected BEGIN:VCARD", "", ""},
		{"m.scim", "{\"Resources\": [{\"id\": \"1\"", false, "m.scim:1", "", ""},
		{"n.scim", "7", false, "expected resources", "", ""},
		{"o.scim", strings.Repeat("[", 100_000), false, "o.scim", "", ""},
		{"p.ldif", "dn: cn=g\nobjectClass: groupOfNames\nmail: g@kelpmere.example\nmember: cn=nobody\nmember: cn=g\n", false, "", "member cn=nobody of g@kelpmere.example is not in this source", ""},
		{"q.ldif", "dn: cn=a\nobjectClass: person\nmail: not an address\n", false, "", "is no address", ""},
		{"r.ldif", "dn: cn=a\nobjectClass: person\nmail: a@kelpmere.example\n\ndn: CN=A\nobjectClass: person\nmail: b@kelpmere.example\n", false, "", "the identifier CN=A is there already", ""},
	} {
		d, err := source.Read(context.Background(), write(t, test.name, test.text), source.Options{Domains: []string{"kelpmere.example"}, AllowFiles: test.allow})
		said := ""
		if err != nil {
			said = err.Error()
		} else {
			said = remarks(d)
		}
		if (test.err == "") != (err == nil) || !strings.Contains(said, test.err+test.remark) || test.not != "" && strings.Contains(said, test.not) {
			t.Errorf("%s: %v\n%s", test.name, err, said)
		}
	}
	if _, err := os.Stat(marker); err == nil {
		t.Error("a program ran")
	}
}

// A service whose pages never end, or that is not one, is an error.
func TestHostileSCIM(t *testing.T) {
	asked := 0
	answers := map[string]func(w http.ResponseWriter, r *http.Request){
		"endless": func(w http.ResponseWriter, r *http.Request) {
			_ = json.NewEncoder(w).Encode(map[string]any{"totalResults": 1 << 40, "Resources": []any{map[string]any{"id": "1", "userName": "a@kelpmere.example"}}})
		},
		"growing": func(w http.ResponseWriter, r *http.Request) {
			asked++
			_ = json.NewEncoder(w).Encode(map[string]any{"totalResults": asked + 5, "Resources": []any{map[string]any{"id": "same", "userName": "a@kelpmere.example"}}})
		},
		"short": func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"totalResults": 7, "Resources": []}`) },
		"gzip": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			_, _ = io.WriteString(z, `{"totalResults": 1, "Resources": [`+strings.Repeat("{},", 5_000_000)+"{}]}")
			_ = z.Close()
		},
		"page": func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<html>") },
		"refusing": func(w http.ResponseWriter, r *http.Request) {
			http.Error(w, `{"detail": "go away, tide-42-secret"}`, http.StatusForbidden)
		},
		"moving": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.0.0.1:1/elsewhere", http.StatusFound)
		},
	}
	secret.New("tide-42-secret")
	for name, want := range map[string]string{"endless": "again on the page", "growing": "again on the page", "short": "says that there are 7, and gives 0", "gzip": "more than 2000000 values", "page": "no page of resources", "refusing": "go away", "moving": "302"} {
		server := httptest.NewServer(http.HandlerFunc(answers[name]))
		_, err := source.Read(context.Background(), server.URL+"/scim/v2", source.Options{})
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "tide-42") {
			t.Errorf("%s: %v, want %s", name, err, want)
		}
		server.Close()
	}
}

// Two sources are one: the same people by any address, the first counts, and
// what they differ in is listed with both places.
func TestMerge(t *testing.T) {
	first := write(t, "hq.ldif", "dn: uid=ann\nobjectClass: inetOrgPerson\nmail: ann@kelpmere.example\nmail: a.oake@kelpmere.example\ncn: Ann Oake\nou: deck\n\n"+
		"dn: uid=bob\nobjectClass: inetOrgPerson\nmail: bob@kelpmere.example\ncn: Bob\n\n"+
		"dn: cn=crew\nobjectClass: groupOfNames\nmail: crew@kelpmere.example\ncn: Crew\nmember: uid=ann\nmember: uid=bob\n")
	second := write(t, "staff.csv", "E-Mail,Name,ou,phone\nA.Oake@kelpmere.example,Anna Oake,bridge,7\ncat@kelpmere.example,Cat,,\n")
	third := write(t, "lists.aliases", "crew: a.oake, cat\nall: crew, cat\n")
	var list []*directory.Directory
	for _, path := range []string{first, second, third} {
		d, err := source.Read(context.Background(), path, source.Options{Domains: []string{"kelpmere.example"}})
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, d)
	}
	m := directory.Merge(list, directory.MergeOptions{Domains: []string{"kelpmere.example"}, Prefer: []string{"ann@kelpmere.example"}})
	var got strings.Builder
	for _, p := range m.People {
		fmt.Fprintln(&got, p.Fields, p.Attributes)
	}
	for _, g := range m.Groups {
		fmt.Fprint(&got, g.Fields)
		for _, one := range g.Members {
			fmt.Fprint(&got, " ", one.Address)
		}
		fmt.Fprintln(&got)
	}
	for _, c := range m.Conflicts {
		fmt.Fprintln(&got, strings.NewReplacer(filepath.Dir(first)+"/", "", filepath.Dir(second)+"/", "", filepath.Dir(third)+"/", "").Replace(c.String()))
	}
	want := `[{address ann@kelpmere.example []} {name Ann Oake []} {also  [a.oake@kelpmere.example]}] [unit: deck]
[{address bob@kelpmere.example []} {name Bob []}] []
[{address cat@kelpmere.example []} {name Cat []}] []
[{address crew@kelpmere.example []} {title Crew []} {managed-in hq []}] ann@kelpmere.example bob@kelpmere.example
[{address all@kelpmere.example []} {managed-in lists []}] crew@kelpmere.example cat@kelpmere.example
A.Oake@kelpmere.example: this is an alias of ann@kelpmere.example (hq.ldif:1), not a main address (staff.csv:2)
crew@kelpmere.example: members is 2, only here: bob@kelpmere.example (hq.ldif:13), not 2, only here: cat@kelpmere.example (lists.aliases:1)
`
	if text := strings.ReplaceAll(got.String(), " false}", "}"); text != want {
		t.Errorf("got\n%s\nwant\n%s", got.String(), want)
	}
}

// Every source of the documentation's kinds makes the same small group.
func TestSources(t *testing.T) {
	for name, text := range map[string]string{
		"a.ldif":    "dn: uid=ann\nobjectClass: inetOrgPerson\ncn: Ann\nmail: ann@kelpmere.example\n\ndn: cn=g\nobjectClass: groupOfUniqueNames\ncn: Crew\nmail: crew@kelpmere.example\nuniqueMember: uid=ann\nuniqueMember: mailto:pilot@out.example\n",
		"b.ldif":    "dn: uid=ann\nobjectClass: inetOrgPerson\ncn: Ann\nuid: ann\nmail: ann@kelpmere.example\n\ndn: cn=crew\nobjectClass: posixGroup\ncn: Crew\nmemberUid: ann\nmemberUid: pilot@out.example\n",
		"c.scim":    `{"schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "Resources": [{"id": "1", "userName": "x", "displayName": "Ann", "emails": [{"value": "ann@kelpmere.example"}]}, {"id": "2", "displayName": "Crew", "meta": {"resourceType": "Group"}, "members": [{"value": "1"}, {"value": "pilot@out.example"}]}]}`,
		"d.vcf":     "BEGIN:VCARD\r\nVERSION:4.0\r\nUID:urn:uuid:1\r\nFN:Ann\r\nEMAIL:ann@kelpmere.example\r\nEND:VCARD\r\nBEGIN:VCARD\r\nVERSION:4.0\r\nKIND:group\r\nFN:Crew\r\nEMAIL:crew@kelpmere.example\r\nMEMBER:URN:UUID:1\r\nMEMBER:mailto:pilot@out.example\r\nEND:VCARD\r\n",
		"e.csv":     "group;address;copy\r\ncrew@kelpmere.example;ann@kelpmere.example;\r\ncrew@kelpmere.example;pilot@out.example;none\r\n",
		"f.aliases": "crew: ann,\n\tpilot@out.example # no comment here\n",
	} {
		m := read(t, write(t, name, text), source.Options{Domains: []string{"kelpmere.example"}})
		if len(m.Groups) == 0 || m.Groups[0].Fields[0].Text != "crew@kelpmere.example" || len(m.Groups[0].Members) == 0 || m.Groups[0].Members[0].Address != "ann@kelpmere.example" {
			t.Errorf("%s: %v %v", name, m.Groups, m.Remarks)
		}
	}
}

// A map of one's own decides.
func TestOwnMap(t *testing.T) {
	text := `yorvet-map: 1
people:
  - match: (kind=person)
    address: login
    mailbox: {from: state, closed: [left], full: [fat]}
    attributes: {base: office}
groups:
  - match: (kind=list)
    address: "{short}@lists.kelpmere.example"
    title: short
    members:
      - {from: readers, by: address}
      - {from: digesters, by: address, copy: digest}
    owners: [{from: boss, by: address}]
    set: {kind: forum, access.find: members}
    set-when:
      - match: (closed=yes)
        set: {gate: [hold suspect, admit members]}
`
	data := "kind,login,state,office,short,readers,digesters,boss,closed\nperson,ann@kelpmere.example,left,pier,,,,,\nlist,,,,Deck Crew,ann@kelpmere.example;x@out.example,y@out.example,ann@kelpmere.example,yes\n"
	m := read(t, write(t, "x.csv", data), source.Options{Map: write(t, "map.yaml", text), Domains: []string{"kelpmere.example", "lists.kelpmere.example"}})
	e, err := m.Build()
	if err != nil {
		t.Fatal(err)
	}
	g := e.Group(0)
	if g.Address.String() != "deck-crew@lists.kelpmere.example" || len(g.Gate) != 2 || g.Kind.String() != "forum" || len(e.Entries(0)) != 3 || e.Entries(0)[2].Copy().String() != "digest" ||
		len(g.Owners) != 1 || e.Person(g.Owners[0].ID).Mailbox.String() != "closed" || e.Values(g.Owners[0].ID, "base")[0] != "pier" {
		t.Errorf("%+v %+v", g, m)
	}
	for bad, want := range map[string]string{
		"yorvet-map: 1\npeople: [{adress: x}]\n":                                       ":2:",
		"people: []\n":                                                                 "format version",
		"yorvet-map: 1\npeople: [{address: x, match: '(a=b'}]\n":                       ":2:30: ",
		"yorvet-map: 1\ngroups: [{address: x, members: [{from: m, by: dn}]}]\n":        `by is "dn"`,
		"yorvet-map: 1\ngroups: [{address: x, set: {gates: [admit anyone]}}]\n":        `did you mean gate`,
		"yorvet-map: 1\ngroups: [{title: x}]\n":                                        "groups need address",
		"yorvet-map: 1\ngroups: [{address: x, members: [{from: m, copy: sometimes}]}]": "copy",
	} {
		if _, err := source.Read(context.Background(), write(t, "x.csv", data), source.Options{Map: write(t, "map.yaml", bad)}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", bad, err, want)
		}
	}
}
