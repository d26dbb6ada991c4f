package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Two records with main addresses of their own are two people, whatever aliases say; the person
// who asks may settle it.
func TestTwoPeopleStayTwo(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "staff.csv", "address,name,also\na.b@kelp.example,A B,c.d@kelp.example\nc.d@kelp.example,C D,\n")
	want(t, dir, "import staff=staff.csv --domain kelp.example -o estate.yaml", 0, "2 people", "c.d@kelp.example",
		"a main address", "an alias of a.b@kelp.example", "staff.csv:2", "staff.csv:3")
	want(t, dir, "--estate estate.yaml person list", 0, "2 people", "C D")
	want(t, dir, "import staff=staff.csv --domain kelp.example --prefer a.b@kelp.example -o other.yaml", 0, "1 person")
}

// An address that was handed over stays with the successor, whatever the sources still say.
func TestHandOverSurvivesImports(t *testing.T) {
	dir := t.TempDir()
	sheet := "address,name,mailbox\nivo.kern@kelp.example,Ivo Kern,MAILBOX\nann.sool@kelp.example,Ann Sool,open\n"
	put(t, dir, "staff.csv", strings.Replace(sheet, "MAILBOX", "open", 1))
	want(t, dir, "import staff=staff.csv --domain kelp.example -o estate.yaml", 0, "2 people")
	estate, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "estate.yaml", string(estate)+"groups:\n  - {address: crew@kelp.example, members: [ivo.kern@kelp.example]}\n")
	said := want(t, dir, "--estate estate.yaml person leaves ivo.kern --successor ann.sool --hand-over-address --yes", 0,
		"1 removed: ivo.kern@kelp.example", "no recipient -> inbox  1  ann.sool@kelp.example")
	if strings.Contains(said, "removed: ann.sool") || strings.Contains(said, "renamed") {
		t.Errorf("the successor is told as gone:\n%s", said)
	}
	after, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "staff.csv", strings.Replace(sheet, "MAILBOX", "closed", 1))
	for range 2 {
		want(t, dir, "import staff=staff.csv -o estate.yaml --yes", 0, "nothing to change", "an alias of ann.sool@kelp.example",
			"estate.yaml:", "staff.csv:2")
		if now, err := os.ReadFile(filepath.Join(dir, "estate.yaml")); err != nil || string(now) != string(after) {
			t.Fatalf("the import undoes the hand-over, %v:\n%s", err, now)
		}
	}
	want(t, dir, "import staff=staff.csv -o estate.yaml --prefer ivo.kern@kelp.example --yes", 0, "1 added: ivo.kern@kelp.example")
}

// A person of a directory who gets another address is renamed, and an alias that moves from one
// group to another is a change like others.
func TestRenamesInADirectory(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "hq.ldif", directoryOf(3, 4)+"dn: uid=x,dc=kelp,dc=example\nobjectClass: inetOrgPerson\nuid: x\ncn: X\nmail: x@kelp.example\n\n"+
		"dn: cn=h,dc=kelp,dc=example\nobjectClass: groupOfNames\ncn: h\nmail: h@kelp.example\nmailAlternateAddress: desk@kelp.example\nmember: uid=x,dc=kelp,dc=example\n\n"+
		"dn: cn=i,dc=kelp,dc=example\nobjectClass: groupOfNames\ncn: i\nmail: i@kelp.example\nmember: uid=x,dc=kelp,dc=example\n\n")
	want(t, dir, "import hq=hq.ldif --domain kelp.example -o estate.yaml", 0, "5 people, 5 groups")
	edit := func(old, replacement string) {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(dir, "hq.ldif"))
		if err != nil || !strings.Contains(string(data), old) {
			t.Fatalf("%q is not there, %v", old, err)
		}
		put(t, dir, "hq.ldif", strings.Replace(string(data), old, replacement, 1))
	}
	edit("mail: x@kelp.example", "mail: y@kelp.example")
	for line, code := range map[string]int{"compare hq=hq.ldif estate.yaml": 1, "import hq=hq.ldif -o estate.yaml --preview": 0} {
		if said := want(t, dir, line, code, "1 person renamed"); strings.Contains(said, "receiving") || strings.Contains(said, "1 welcome mail") {
			t.Errorf("%s tells of groups:\n%s", line, said)
		}
	}
	want(t, dir, "import hq=hq.ldif -o estate.yaml --yes", 0, "x@kelp.example -> y@kelp.example")
	edit("mailAlternateAddress: desk@kelp.example\n", "")
	edit("mail: i@kelp.example\n", "mail: i@kelp.example\nmailAlternateAddress: desk@kelp.example\n")
	want(t, dir, "compare hq=hq.ldif estate.yaml", 1, "desk@kelp.example")
	want(t, dir, "import hq=hq.ldif -o estate.yaml --yes", 0, "desk@kelp.example -> not set", "not set -> desk@kelp.example")
	want(t, dir, "import hq=hq.ldif -o estate.yaml --yes", 0, "nothing to change")
}

// Each of several additions to a list counts.
func TestPersonSetAddsAll(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "estate.yaml", "yorvet: 1\ndomains: [kelp.example]\npeople:\n  - {address: ann@kelp.example, also: [old@kelp.example]}\n")
	want(t, dir, "--estate estate.yaml person set ann also+=x@kelp.example also+=y@kelp.example also-=old@kelp.example "+
		"attributes.base+=quay attributes.base+=pier --yes", 0)
	data, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
	if err != nil || !strings.Contains(string(data), "also: [x@kelp.example, y@kelp.example]") ||
		!strings.Contains(string(data), "base: [quay, pier]") {
		t.Errorf("%v:\n%s", err, data)
	}
}

// Domains compare by their A-labels, in options, too; the first import is all there is to import;
// aliases in further domains stay, or are told.
func TestFirstImportIsAllThereIs(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "staff.csv", "address,name\nann@fähre.example,Ann\n")
	want(t, dir, "import staff.csv --domain fähre.example -o idn.yaml", 0, "1 person")
	want(t, dir, "--estate idn.yaml person list", 0, "ann")
	want(t, dir, "import staff.csv --domain xn--FHRE-loa.example -o idn.yaml --yes", 0, "nothing to change")
	want(t, dir, "import staff.csv --domain -bad-.example -o bad.yaml", 2, "--domain")
	put(t, dir, "hq.ldif", directoryOf(2, 3)+"dn: cn=Night Watch,dc=kelp,dc=example\nobjectClass: groupOfNames\ncn: Night Watch\nmember: uid=p0,dc=kelp,dc=example\n\n"+
		"dn: cn=h,dc=kelp,dc=example\nobjectClass: groupOfNames\ncn: h\nmail: h@kelp.example\nmailAlternateAddress: h@cargo.example\nmember: uid=p0,dc=kelp,dc=example\n\n"+
		"dn: uid=o,dc=kelp,dc=example\nobjectClass: inetOrgPerson\nuid: o\ncn: O\nmail: o@far.example\n\n")
	want(t, dir, "import hq=hq.ldif -o estate.yaml", 0, "4 groups", "1 person is taken to be outside; if the domain is yours, name it")
	data, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
	if err != nil || !strings.Contains(string(data), "night-watch@kelp.example") || !strings.Contains(string(data), "also: [h@cargo.example]") {
		t.Errorf("%v\n%s", err, data)
	}
	want(t, dir, "import hq=hq.ldif -o estate.yaml --yes", 0, "nothing to change")
	want(t, dir, "import hq=hq.ldif --domain kelp.example -o one.yaml", 0, "the alias h@cargo.example of h@kelp.example is left out")
}

// The command that is printed for groups without a gate sets just theirs.
func TestImportNamesUngatedGroups(t *testing.T) {
	dir := t.TempDir()
	var b strings.Builder
	b.WriteString("address,kind,gate\nset@kelp.example,roster,\n")
	for i := range 8 {
		b.WriteString("g" + string(rune('0'+i)) + "@kelp.example,list," + map[bool]string{true: "refuse outside;admit anyone"}[i%2 == 0] + "\n")
	}
	put(t, dir, "groups.csv", b.String())
	said := want(t, dir, "import groups.csv -o estate.yaml", 0, "No source says who may post to 4 groups")
	_, line, _ := strings.Cut(said, "yorvet --estate estate.yaml group set ")
	line, _, _ = strings.Cut(line, "\n")
	r := runLine(t, dir, "yorvet --estate estate.yaml group set "+line+" --yes")
	if r.code != 0 || !strings.Contains(r.stdout, "4 groups") {
		t.Errorf("%q: exit code %d\n%s%s", line, r.code, r.stdout, r.stderr)
	}
	for i := range 8 {
		gate := want(t, dir, "--estate estate.yaml group show g"+string(rune('0'+i)), 0)
		if strings.Contains(gate, "refuse outside") != (i%2 == 0) {
			t.Errorf("g%d\n%s", i, gate)
		}
	}
}
