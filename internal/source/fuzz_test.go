package source_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/source"
)

// fuzz reads whatever as a source of a format, and merges it. What comes of it has
// to be an estate, and has to be written so that it can be read again.
func fuzz(f *testing.F, name string, seeds ...string) {
	for _, seed := range seeds {
		f.Add([]byte(seed))
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		d, err := source.Read(context.Background(), path, source.Options{Domains: []string{"kelpmere.example"}})
		if err != nil {
			if !strings.Contains(err.Error(), name) {
				t.Errorf("the error does not name the file: %v", err)
			}
			return
		}
		m := directory.Merge([]*directory.Directory{d}, directory.MergeOptions{Domains: []string{"kelpmere.example"}})
		if _, err := m.Build(); err != nil {
			if name != "x.csv" { // whose settings may be anything
				t.Error(err)
			}
			return
		}
		to := filepath.Join(t.TempDir(), "e")
		if err := m.Create(context.Background(), to); err != nil {
			t.Fatal(err)
		}
		if _, err := estatefile.Load(context.Background(), to); err != nil {
			t.Errorf("what is written cannot be read: %v", err)
		}
	})
}

func FuzzAliases(f *testing.F) {
	fuzz(f, "x.aliases", "a: b, c\nowner-a: d\n", "\"a b\": |x, /y\n z\n", "a: :include:/etc/passwd, \\b\n", "a: a\nb: a\nc: b\n")
}

func FuzzVCard(f *testing.F) {
	fuzz(f, "x.vcf", "BEGIN:VCARD\nVERSION:4.0\nKIND:group\nFN:x\nEMAIL:a@kelpmere.example\nMEMBER:mailto:b@c.example\nEND:VCARD\n")
}

func FuzzSCIM(f *testing.F) {
	fuzz(f, "x.scim", `{"Resources":[{"id":"1","userName":"a@kelpmere.example","active":false},{"id":"2","displayName":"g@kelpmere.example","meta":{"resourceType":"Group"},"members":[{"value":"1"}]}]}`, `[{}]`)
}

func FuzzTable(f *testing.F) {
	fuzz(f, "x.csv", "address,name,base\na@kelpmere.example,\"A, B\",x;y\n", "group\taddress\tcopy\ng@kelpmere.example\ta@b.example\tnone\n", "address;kind;gate\ng@kelpmere.example;list;admit anyone\n")
}

func FuzzMapped(f *testing.F) {
	fuzz(f, "x.ldif", "dn: cn=a\nobjectClass: inetOrgPerson\nmail: a@kelpmere.example\n\ndn: cn=g\nobjectClass: groupOfURLs\nmail: g@kelpmere.example\nmemberURL: ldap:///dc=x??sub?(&(objectClass=*)(ou=a))\nmember: cn=a\nmember: cn=g\n")
}

// A cell of whatever comes back as it was, and begins no formula.
func FuzzNeutral(f *testing.F) {
	for _, seed := range []string{"=1+1", "'=x", "''", "-2", "@a", "plain", "\tx"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, cell string) {
		out := table.Neutral(cell)
		if table.Plain(out) != cell || out != "" && strings.IndexByte("=+-@\t\r", out[0]) >= 0 {
			t.Errorf("%q is written as %q, and read as %q", cell, out, table.Plain(out))
		}
	})
}

// The tables of people are read by anything that reads tables.
func TestTablesAreNeutral(t *testing.T) {
	m := read(t, write(t, "x.csv", "address,name,note\na@kelpmere.example,'=HYPERLINK(1),'+1\n"), source.Options{Domains: []string{"kelpmere.example"}})
	e, err := m.Build()
	if err != nil {
		t.Fatal(err)
	}
	if name := e.Person(0).Name; name != "=HYPERLINK(1)" {
		t.Errorf("name %q", name)
	}
	rows, err := csv.NewReader(bytes.NewReader(table.Write(e)["people.csv"])).ReadAll()
	if err != nil || rows[1][1] != "'=HYPERLINK(1)" || rows[1][4] != "'+1" {
		t.Errorf("%q %v", rows, err)
	}
}
