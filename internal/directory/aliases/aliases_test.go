package aliases

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// show tells a directory in short.
func show(t *testing.T, text string, options Options) string {
	t.Helper()
	options.File = "a"
	d, err := Read(t.Context(), strings.NewReader(text), options)
	if err != nil {
		return err.Error()
	}
	var parts []string
	for _, g := range d.Groups {
		var members []string
		for _, m := range g.Members {
			members = append(members, m.Address)
		}
		part := fmt.Sprintf("%s%v=%v", g.Address, g.Also, members)
		if g.Owners != nil {
			part += fmt.Sprint(" owners ", g.Owners)
		}
		parts = append(parts, part)
	}
	for _, p := range d.People {
		parts = append(parts, fmt.Sprint(p.Address, p.Also))
	}
	for _, r := range d.Remarks {
		parts = append(parts, fmt.Sprintf("?%d", r.Line))
	}
	return strings.Join(parts, " | ")
}

func TestRead(t *testing.T) {
	for _, test := range []struct{ in, want string }{
		{"# none\n\n", ""},
		{"crew: ann, bob\n", "crew@k.example[]=[ann@k.example bob@k.example]"},
		{"crew: ann,\n\tbob,\r\n  cat@out.example\n", "crew@k.example[]=[ann@k.example bob@k.example cat@out.example]"},
		{"crew: ann, bob\nowner-crew: ann\n", "crew@k.example[]=[ann@k.example bob@k.example] owners [ann@k.example] | ann@k.example[owner-crew@k.example]"},
		{"x: :fail: gone away, ann, bob\ny: :blackhole:, ann, bob\n", "x@k.example[]=[ann@k.example bob@k.example] | y@k.example[]=[ann@k.example bob@k.example] | ?1 | ?2"},
		{"owner-crew: ann\n", "ann@k.example[owner-crew@k.example]"},
		{"post: ann\nroot: ann\nann: ann\n", "ann@k.example[post@k.example root@k.example]"},
		{"a: b\nb: c\nc: x, y\n", "c@k.example[a@k.example b@k.example]=[x@k.example y@k.example]"},
		{"a: b\nb: a\n", "a@k.example[]=[b@k.example] | b@k.example[]=[a@k.example]"},
		{"out: ann@out.example\n", "out@k.example[]=[ann@out.example]"},
		{"\"Two words\": ann, bob\n", `"Two words"@k.example[]=[ann@k.example bob@k.example]`},
		{"x: \\ann, \"b c\"@k.example\n", `x@k.example[]=[ann@k.example "b c"@k.example] | ?1`},
		{"x: |prog, \"|prog a,b\", /dev/null, ann, bob\n", "x@k.example[]=[ann@k.example bob@k.example] | ?1 | ?1 | ?1"},
		{"x@other.example: ann, bob\n", "x@other.example[]=[ann@k.example bob@k.example]"},
		{"no colon here\n: empty\nx: @@, ann, bob\n", "x@k.example[]=[ann@k.example bob@k.example] | ?1 | ?2 | ?3"},
		{"x: " + strings.Repeat("a", mostLine+10), "a:1:1: the line is longer than 4 MiB"},
	} {
		if got := show(t, test.in, Options{Domain: "k.example"}); got != test.want {
			t.Errorf("Read(%.60q)\n got %s\nwant %s", test.in, got, test.want)
		}
	}
	if got := show(t, "x: a, b\ny@k.example: a@k.example, b@k.example\n", Options{}); got != "y@k.example[]=[a@k.example b@k.example] | ?1" {
		t.Errorf("without a domain: %s", got)
	}
}

// Lists are included only where that is allowed, from the folder of the file.
func TestInclude(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "list"), []byte("# people\nann\nBob <bob@k.example>\ncat@out.example, dan@k.example\nnonsense here\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	const text = "x: :include:list, eve\n"
	if got := show(t, text, Options{Domain: "k.example", Dir: dir}); got != "x@k.example[]=[eve@k.example] | ?1" {
		t.Errorf("unasked: %s", got)
	}
	want := "x@k.example[]=[ann@k.example bob@k.example cat@out.example dan@k.example eve@k.example] | ?1"
	if got := show(t, text, Options{Domain: "k.example", Dir: dir, Include: true}); got != want {
		t.Errorf("allowed: %s", got)
	}
	for name, text := range map[string]string{"outer": "zoe\n:include:list\n", "ring": ":include:ring\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got := show(t, "x: :include:outer, eve\n", Options{Domain: "k.example", Dir: dir, Include: true}); !strings.Contains(got, "zoe@k.example") || !strings.Contains(got, "ann@k.example") {
		t.Errorf("a list within a list: %s", got)
	}
	if got := show(t, "x: :include:ring, eve, fay\n", Options{Domain: "k.example", Dir: dir, Include: true}); !strings.HasSuffix(got, "=[eve@k.example fay@k.example] | ?1") {
		t.Errorf("a list that includes itself: %s", got)
	}
	if got := show(t, "x: :include:gone, eve, fay\n", Options{Domain: "k.example", Dir: dir, Include: true}); !strings.HasSuffix(got, "| ?1") {
		t.Errorf("a list that is not there: %s", got)
	}
}
