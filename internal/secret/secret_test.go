package secret

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
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

// No text that a server writes shows a secret, as it is or encoded, wherever in what is encoded.
func TestHide(t *testing.T) {
	const tide = "tide-7-secret"
	New(tide)
	New("x") // too short to be told from words
	for _, text := range []string{
		"535 5.7.8 the password tide-7-secret is wrong",
		"tide-7-secrettide-7-secret",
		`{"detail": "Bearer tide-7-secret"}`,
	} {
		if got := Hide(text); strings.Contains(got, tide) || !strings.Contains(got, "(secret)") {
			t.Errorf("%q is left", got)
		}
	}
	for _, before := range []string{"", "\x00", "ab", "abc", "\x00ada@k.example\x00", "bo:"} {
		for _, after := range []string{"", "!", "!!", "\x01\x01"} {
			for _, encoding := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding} {
				encoded := encoding.EncodeToString([]byte(before + tide + after))
				left, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(strings.ReplaceAll(Hide("no: "+encoded), "(secret)", "")[4:], "="))
				if got := Hide("no: " + encoded); !strings.Contains(got, "(secret)") || err == nil && strings.Contains(string(left), "7-secre") {
					t.Errorf("%q around it in Base64: %q is left", before+"|"+after, got)
				}
			}
		}
	}
	if got := Hide("an example of a text with xylophones"); got != "an example of a text with xylophones" {
		t.Errorf("%q", got)
	}
	New("ab(secret)c-longer-tide-7-secret-still")
	if got := Hide("ab(secret)c-longer-tide-7-secret-still"); got != "(secret)" {
		t.Errorf("%q: a secret that holds another", got)
	}
	for i := range 2 * mostHidden {
		New("token" + strconv.Itoa(i))
	}
	if len(known.texts) > mostHidden {
		t.Errorf("%d are kept", len(known.texts))
	}
	if got := Hide("token" + strconv.Itoa(2*mostHidden-1)); got != "(secret)" {
		t.Errorf("%q", got)
	}
}
