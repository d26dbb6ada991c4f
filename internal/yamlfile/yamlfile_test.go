package yamlfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/secret"
)

type inner struct {
	From string   `yaml:"from"`
	List []string `yaml:"list"`
}

type outer struct {
	Version int     `yaml:"version"`
	Login   *inner  `yaml:"login"`
	Others  []inner `yaml:"others"`
}

// All mistakes of a file are told at once, each with its place and what may have
// been meant, and without the names of types.
func TestDecode(t *testing.T) {
	for _, test := range []struct{ text, want string }{
		{"version: 1\nlogin: {from: x}\nothers: [{list: [a]}]\n", ""},
		{"version: 1\nlogni: {}\n", `f:2:1: unknown key "logni"; did you mean login?`},
		{"version: 1\nfrom: x\n", `f:2:1: the key "from" has no place here`},
		{"version: one\nothers:\n- form: x\n", "f:1:10: |f:3:3: unknown key \"form\"; did you mean from?"},
		{"version: [\n", "f:"},
		{"version: 1\nversion: 2\n", "f:2:1"},
		{strings.Repeat("#", most+1), "larger than"},
	} {
		var o outer
		err := Decode("f", []byte(test.text), &o)
		if (err == nil) != (test.want == "") {
			t.Errorf("Decode(%.40q): %v", test.text, err)
			continue
		}
		for want := range strings.SplitSeq(test.want, "|") {
			if err != nil && (!strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "yamlfile.")) {
				t.Errorf("Decode(%.40q): %v, want %s", test.text, err, want)
			}
		}
	}
}

func TestRead(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.yaml")
	if _, err := Read(t.Context(), path, &outer{}); err == nil {
		t.Error("a missing file is no error")
	}
	if err := os.WriteFile(path, []byte("version: 3\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	var o outer
	if data, err := Read(t.Context(), path, &o); err != nil || o.Version != 3 || string(data) != "version: 3\n" {
		t.Errorf("%+v %q %v", o, data, err)
	}
}

type login struct {
	User     string       `yaml:"user"`
	Password *secret.From `yaml:"password"`
	Page     int          `yaml:"page"`
	Names    []string     `yaml:"names"`
}

// A secret that somebody writes in place, however wrongly, is in no message; nor
// are the words of the library.
func TestSecretsAreNotQuoted(t *testing.T) {
	for _, text := range []string{"login: {password: hush}", "login: {password: [hush]}", "login: {password: {hush}}", "login:\n  password: {file: {hush: 1}}", "login: hush",
		"login: {page: hush, names: hush}", "login: {password: *hush}", "login: {password: !hush 42}", "login: {password: !!int hush}", "login: {password: hush: 42}", "login: {password: 'hush}",
		"login: {password: &a {file: x}, password: {file: hush}}", "login: {password: {file: x, file: hush}}", "login: {password: {hush: x, hush: y}}", "login: {password: \"hush\\q42\"}", "login: {password: @hush}",
		"login: {password: %hush}", "login:\n\tpassword: hush", "login: {password: |hush}", "login: {password: `hush}", "login: {user: [hush], password: 7}", "<<: hush", "version: !!int hush", "hush-42: 1",
		"login: {password: {command: hush}}", "login: {password: {environment: [hush]}}", "%YAML hush\n---\nversion: 1", "version: 1\n...hush", "? {hush: 1}\n: 2", "login: {password: \"hush\nhush\"}", "login: {password: >\n hush\n}"} {
		var into struct {
			Version int    `yaml:"version"`
			Login   *login `yaml:"login"`
		}
		err := Decode("f", []byte(text), &into)
		if err == nil {
			t.Errorf("%q is taken", text)
			continue
		}
		for _, word := range []string{"hush", "go-yaml", "construct", "!!", "secret.", "yamlfile.", "int64", "L1"} {
			if strings.Contains(err.Error(), word) {
				t.Errorf("%q: %v", text, err)
			}
		}
		if !strings.HasPrefix(err.Error(), "f:") || strings.Count(strings.SplitN(err.Error(), " ", 2)[0], ":") != 3 {
			t.Errorf("%q: %v, want its place", text, err)
		}
	}
}
