package secret

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A secret comes from one place, and shows in no text.
func TestFetch(t *testing.T) {
	dir := t.TempDir()
	for name, mode := range map[string]os.FileMode{"mine": 0o600, "open": 0o644, "empty": 0o600} {
		text := "hush-42\r\nmore\n"
		if name == "empty" {
			text = "\n"
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), mode); err != nil {
			t.Fatal(err)
		}
	}
	settings := filepath.Join(dir, "settings.yaml")
	if err := os.WriteFile(settings, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("YORVET_TEST_SECRET", "hush-42")
	for _, test := range []struct {
		from From
		want string // part of the error, or "" for the secret
	}{
		{From{Environment: "YORVET_TEST_SECRET"}, ""},
		{From{File: "mine"}, ""},
		{From{File: filepath.Join(dir, "mine")}, ""},
		{From{Command: []string{"cat", "mine"}}, ""},
		{From{Environment: "YORVET_TEST_NONE"}, "is not set"},
		{From{File: "open"}, "expected permissions 0600"},
		{From{File: "gone"}, "no such file"},
		{From{File: "empty"}, "gives no secret"},
		{From{Command: []string{"false"}}, "exit status 1"},
		{From{Command: []string{"cat", "/dev/zero"}}, "too large"},
		{From{File: "/dev/zero"}, "a device"},
		{From{}, "one of environment, file or command"},
		{From{File: "mine", Environment: "X"}, "one of environment, file or command"},
	} {
		got, err := test.from.Fetch(context.Background(), settings)
		if test.want == "" && (err != nil || got.Reveal() != "hush-42") || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%+v: %q, %v, want %s", test.from, got.Reveal(), err, test.want)
		}
	}
}

func TestTextHides(t *testing.T) {
	s := struct{ Secret Text }{New("hush-42")}
	data, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	if all := fmt.Sprint(s, s.Secret) + fmt.Sprintf("%v %+v %#v %s %q", s, s, s, s.Secret, s.Secret) + string(data); strings.Contains(all, "hush") {
		t.Errorf("the secret shows: %s", all)
	}
	if (Text{}).Reveal() != "" {
		t.Error("no secret is some")
	}
}
