package yamlfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
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
