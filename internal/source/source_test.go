package source_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/source"
)

// What is a source, and what it is called, its name or its beginning tells.
func TestNames(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	for name, text := range map[string]string{"estate.yaml": "yorvet: 1\n", "hq.yaml": "# ours\nyorvet-source: 1\nname: headquarters\nfrom: x.ldif\n", "estate.json": `{"yorvet": 1, "schemas": 1}`,
		"users.json": `{"schemas": [], "Resources": []}`, "a=b.ldif": "", "x.ldif": "", "notes.txt": "", "folder/estate.yaml": "", "tables/people.csv": ""} {
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]string{
		"x.ldif": "x", "gone.ldif": "gone", "hq=x.ldif": "hq", "a=b.ldif": "a=b", "hq.yaml": "headquarters", "other=hq.yaml": "other", "users.json": "users", "tables": "tables",
		"csv:tables": "tables", "list:notes.txt": "notes", "aliases": "aliases", "/etc/aliases": "aliases", "old.aliases": "old", "people.VCF": "people", "ldap://directory.kelp.example/dc=x": "directory.kelp.example",
		"ldaps://directory.kelp.example:636": "directory.kelp.example", "ldapi://%2Frun%2Fldapi/": "ldapi", "https://id.kelp.example/scim/v2": "id.kelp.example", "list:-": "pasted",
		"estate.yaml": "", "estate.json": "", "folder": "", "notes.txt": "", "estate": "", "main:estate": "", "HEAD~1:estate.yaml": "", "C:thing": "",
	} {
		if got := source.Is(name); got != (want != "") {
			t.Errorf("%s is a source: %v", name, got)
		}
		if want == "" {
			continue
		}
		if got, err := source.Name(t.Context(), name); err != nil || got != want {
			t.Errorf("%s is called %s (%v), want %s", name, got, err, want)
		}
	}
}

// A source file is read strictly, and no login goes out in the clear.
func TestSourceFiles(t *testing.T) {
	for text, want := range map[string]string{
		"name: x\n":                      "from is missing",
		"from: x.ldif\nformat: xml\n":    `format is "xml"`,
		"from: x.ldif\nform: ldif\n":     `unknown key "form"; did you mean from?`,
		"from: x.ldif\nmap: none.yaml\n": "no such file",
		"from: x.ldif\nmap: {people: [{address: mail, attribute: {}}]}\n":                                               `unknown key "attribute"`,
		"from: x.ldif\ndomains: [\"a b\"]\n":                                                                            "a b",
		"from: ldap://directory.kelp.example/dc=x\ntls: none\nlogin: {user: \"cn=x\", password: {environment: HOME}}\n": "would show the password",
		"from: http://id.kelp.example/scim\nlogin: {token: {environment: HOME}}\n":                                      "would show the password",
		"from: ldap://127.0.0.1:1/dc=x\ntls: tsl\n":                                                                     `tls is "tsl"`,
		"from: ldaps://127.0.0.1:1/dc=x\nauthority: none.pem\n":                                                         "none.pem",
		"from: ldap://127.0.0.1:1/dc=x\nlogin: {user: \"cn=x\"}\n":                                                      "has no password",
		"from: ldap://127.0.0.1:1/dc=x\nlogin: {user: \"cn=x\", password: {environment: YORVET_TEST_NONE}}\n":           "is not set",
		"from: ldaps://127.0.0.1:1/dc=x\n":                                                                              "cannot be reached",
		"from: http://127.0.0.1:1/scim\n":                                                                               "nobody listens there",
	} {
		path := write(t, "hq.yaml", "yorvet-source: 1\n"+text)
		if _, err := source.Read(context.Background(), path, source.Options{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
	path := write(t, "hq.yaml", "yorvet-source: 1\nfrom: people.ldif\nname: hq\ndomains: [kelp.example]\nmap:\n  groups: [{match: (objectClass=team), address: \"{cn}@{domain}\", members: [{from: person, by: address}]}]\n")
	if err := os.WriteFile(filepath.Join(filepath.Dir(path), "people.ldif"), []byte("dn: cn=a\nobjectClass: team\ncn: Deck Crew\nperson: ann@kelp.example\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	d, err := source.Read(context.Background(), path, source.Options{})
	if err != nil || len(d.Groups) != 1 || d.Groups[0].Address != "deck-crew@kelp.example" || d.Groups[0].Members[0].Address != "ann@kelp.example" || d.Name != "hq" {
		t.Errorf("%+v %v", d, err)
	}
}
