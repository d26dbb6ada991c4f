package ldif

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"unicode/utf8"

	theirs "github.com/go-ldap/ldif"

	"yorvet.example/yorvet/internal/directory"
)

// read returns the entries of an LDIF, in short, and the error.
func read(r io.Reader, options Options) (string, error) {
	var b strings.Builder
	options.Name = "x.ldif"
	err := Read(context.Background(), r, options, func(e *directory.Entry) {
		fmt.Fprintf(&b, "%d %s", e.Line, e.ID)
		for _, a := range e.Attributes {
			fmt.Fprintf(&b, " %s=%q", a.Name, a.Values)
		}
		b.WriteString("\n")
	})
	return b.String(), err
}

func TestRead(t *testing.T) {
	for _, test := range []struct{ in, want string }{
		{"version: 1\n\n# a comment\n that goes on\ndn: cn=a,dc=x\ncn: a\nmail: a@x\nmail: b@x\n\ndn: cn=b\ncn: b\n", `5 cn=a,dc=x cn=["a"] mail=["a@x" "b@x"]` + "\n" + `10 cn=b cn=["b"]` + "\n"},
		{"dn: cn=fol\n ded,dc=x\r\ndescription: one\r\n  two\n", `1 cn=folded,dc=x description=["one two"]` + "\n"},
		{"dn:: " + base64.StdEncoding.EncodeToString([]byte("cn=Zoë")) + "\ncn;lang-en:: " + base64.StdEncoding.EncodeToString([]byte(" x ")) + "\n", `1 cn=Zoë cn;lang-en=[" x "]` + "\n"},
		{"\ufeffdn: cn=a\ncn:b\ncn:\n", `1 cn=a cn=["b" ""]` + "\n"},
		{"", ""},
		{"\n\n# nothing\n", ""},
	} {
		for _, r := range []io.Reader{strings.NewReader(test.in), iotest.OneByteReader(strings.NewReader(test.in))} {
			if got, err := read(r, Options{}); got != test.want || err != nil {
				t.Errorf("Read(context.Background(), %q)\n got %s (%v)\nwant %s", test.in, got, err, test.want)
			}
		}
	}
}

func TestReadRefuses(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("top secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct{ in, want string }{
		{"dn: cn=a\nchangetype: modify\n", "x.ldif:2:1: this is a change record"},
		{"dn: cn=a\njpegPhoto:< file:///etc/passwd\n", "x.ldif:2:12: a value is to come from file:///etc/passwd"},
		{"cn: a\n", "x.ldif:1:1: expected dn:"},
		{"dn: cn=a\nnothing\n", `x.ldif:2:1: expected an attribute and a colon, not "nothing"`},
		{"version: 7\n", "x.ldif:1:9: this is version 7"},
		{"dn: a\ncn:: ***\n", "x.ldif:2:5: expected base64"},
	} {
		if _, err := read(strings.NewReader(test.in), Options{}); err == nil || !strings.HasPrefix(err.Error(), test.want) {
			t.Errorf("Read(context.Background(), %q): %v, want %s", test.in, err, test.want)
		}
	}
	text := "dn: cn=a\ndescription:< file://" + secret + "\n"
	if got, err := read(strings.NewReader(text), Options{}); err == nil || strings.Contains(got+err.Error(), "top secret") {
		t.Errorf("a file was read unasked: %s %v", got, err)
	}
	if got, err := read(strings.NewReader(text), Options{Files: true}); err != nil || !strings.Contains(got, "top secret") {
		t.Errorf("an allowed file was not read: %s %v", got, err)
	}
	broken := errors.New("the disk is broken")
	if _, err := read(io.MultiReader(strings.NewReader("dn: cn=a\ncn: a\n"), iotest.ErrReader(broken)), Options{}); err == nil || !strings.Contains(err.Error(), broken.Error()) {
		t.Errorf("err = %v, want that the disk is broken", err)
	}
}

// Names with every escape of RFC 4514, section 4 and others, compare as they
// should.
func TestNormal(t *testing.T) {
	for _, test := range []struct {
		a, b string
		same bool
	}{
		{"CN=Ann Oake,DC=x", "cn=ann oake , dc = X", true},
		{`CN=James \"Jim\" Smith\, III,DC=example`, `cn=james \22jim\22 smith\2c iii,dc=example`, true},
		{`CN=Before\0dAfter,DC=x`, "cn=before\\0Dafter,dc=x", true},
		{`OU=Sales+CN=J. Smith,DC=x`, `cn=j. smith+ou=sales,dc=x`, true},
		{`CN=Lu\C4\8Di\C4\87`, "cn=Lučić", true},
		{`CN=a\+b`, `CN=a\2bb`, true},
		{`CN=\#a`, `cn=\23a`, true},
		{`CN=\ a\ `, `cn=\20a\20`, true},
		{`CN=a\,b`, "cn=a,cn=b", false},
		{`CN=a\;b\<c\>d\=e\\f`, `cn=a\3bb\3cc\3ed\3de\5cf`, true},
		{"CN=a", "CN=b", false},
		{"CN=a,DC=x", "CN=a", false},
	} {
		if same := Normal(test.a) == Normal(test.b); same != test.same {
			t.Errorf("%s and %s: the same is %v, want %v (%q, %q)", test.a, test.b, same, test.same, Normal(test.a), Normal(test.b))
		}
	}
}

// What is written can be read again, by this package and by another one.
func TestWrite(t *testing.T) {
	values := []string{"plain", "", " blank first", "blank last ", ":colon", "<less", "ünïcode", "new\nline", "#hash", strings.Repeat("long ", 40), "nul\x00"}
	var b bytes.Buffer
	w := NewWriter(&b)
	w.Begin(`cn=Zoë\, Ann,dc=x`)
	for _, v := range values {
		w.Attribute("description", v)
	}
	if err := w.Flush(); err != nil {
		t.Fatal(err)
	}
	other, err := theirs.Parse(b.String())
	if err != nil || len(other.Entries) != 1 || !slices.Equal(other.Entries[0].Entry.GetAttributeValues("description"), values) {
		t.Errorf("another reader: %v, %v", other, err)
	}
	want := fmt.Sprintf("3 %s description=%q\n", `cn=Zoë\, Ann,dc=x`, values)
	if got, err := read(&b, Options{}); got != want || err != nil {
		t.Errorf("got %s (%v)\nwant %s", got, err, want)
	}
	for line := range strings.Lines(b.String()) {
		if len(line) > 77 {
			t.Errorf("a line of %d bytes", len(line))
		}
	}
}

// What can be read can be written, and read again.
func FuzzRead(f *testing.F) {
	for _, s := range []string{"version: 1\ndn: cn=a\ncn: a\n\ndn: cn=b\nx:: YQ==\n", "dn: a\n b\nc:d\n", "dn: a\nx:< file:///etc/passwd\n", "dn: a\nchangetype: add\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var entries int
		var again bytes.Buffer
		w := NewWriter(&again)
		err := Read(context.Background(), strings.NewReader(text), Options{Name: "x"}, func(e *directory.Entry) {
			entries++
			w.Begin(e.ID)
			for _, a := range e.Attributes {
				for _, v := range a.Values {
					w.Attribute(a.Name, v)
				}
			}
		})
		if err != nil {
			return
		}
		_ = w.Flush()
		count := 0
		if err := Read(context.Background(), &again, Options{Name: "again"}, func(*directory.Entry) { count++ }); err != nil || count != entries {
			t.Errorf("%d entries, and %d (%v) of what was written of them", entries, count, err)
		}
	})
}

// Any text can be the value of a name, and names compare without case.
func FuzzNormal(f *testing.F) {
	for _, s := range []string{"Ann", `a,b+c="d"\#;<>`, " x ", "Zoë", "\x00"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) || text == "" {
			return
		}
		a, b := Normal("CN="+Value(text)+", DC=x"), Normal("cn="+Value(text)+",dc=X")
		if a != b || !strings.HasPrefix(a, "cn=") || !strings.HasSuffix(a, ",dc=x") {
			t.Errorf("%q: %q and %q", text, a, b)
		}
	})
}

// A file that ends in the middle of an entry is a part: what stands before is read, and
// that entry not.
func TestCut(t *testing.T) {
	const whole = "dn: cn=a\nmail: a@x\n\ndn: cn=b\nmail: b@x\nmember: cn=a\n"
	for from := strings.Index(whole, "dn: cn=b") + 1; from < len(whole); from++ {
		got, err := read(strings.NewReader(whole[:from]), Options{})
		atLine := whole[from-1] == '\n' && from > strings.Index(whole, "mail: b")
		if atLine {
			if err != nil {
				t.Errorf("%q: %v", whole[:from], err)
			}
			continue
		}
		if !errors.Is(err, ErrCut) || strings.Contains(got, "cn=b") || !strings.Contains(got, "1 cn=a") {
			t.Errorf("%q: %q, %v", whole[:from], got, err)
		}
	}
}
