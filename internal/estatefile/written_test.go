package estatefile

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/change/changetest"
	"yorvet.example/yorvet/internal/golden"
)

// What edits write, to the letter: testdata/written.txt was read by people.
func TestWritten(t *testing.T) {
	var b strings.Builder
	quay := writeEstate(t, map[string]string{"estate.yaml": changetest.Quay})
	e, err := Load(t.Context(), quay)
	if err != nil {
		t.Fatal(err)
	}
	for i, a := range changetest.Alterations(e) {
		d, err := Open(t.Context(), quay)
		if err != nil {
			t.Fatal(err)
		}
		d.Apply(a.With(d.Before())...)
		fmt.Fprintf(&b, "%d %T\n", i, a.Change)
		b.WriteString(edited(t, d, quay, map[string]string{"estate.yaml": changetest.Quay}))
	}
	for _, name := range slices.Sorted(maps.Keys(commented)) {
		files := commented[name]
		path := writeEstate(t, files)
		random := rand.New(rand.NewPCG(19, uint64(len(name))))
		for n := range 60 {
			d, err := Open(t.Context(), path)
			if err != nil {
				t.Fatal(err)
			}
			one := randomEdit(random, d.Before(), n)
			d.Apply(one.changes...)
			fmt.Fprintf(&b, "%s %d %T\n", name, n, one.changes[0])
			b.WriteString(edited(t, d, path, files))
		}
	}
	golden.Compare(t, "written.txt", b.String())
}

// edited returns what a draft writes otherwise: of each file the lines from the first that
// differs to the last.
func edited(t *testing.T, d *Draft, path string, files map[string]string) string {
	t.Helper()
	if _, err := d.Estate(); err != nil {
		text, _, _ := strings.Cut(strings.ReplaceAll(err.Error(), path, ""), "\n")
		return "  ! " + text + "\n"
	}
	var b strings.Builder
	for _, file := range slices.Sorted(maps.Keys(files)) {
		later, ok := d.edited[filepath.Join(path, file)]
		if !ok {
			continue
		}
		was, is := bytes.SplitAfter([]byte(files[file]), []byte("\n")), bytes.SplitAfter(later, []byte("\n"))
		for len(was) > 0 && len(is) > 0 && bytes.Equal(was[0], is[0]) {
			was, is = was[1:], is[1:]
		}
		for len(was) > 0 && len(is) > 0 && bytes.Equal(was[len(was)-1], is[len(is)-1]) {
			was, is = was[:len(was)-1], is[:len(is)-1]
		}
		for _, line := range was {
			fmt.Fprintf(&b, "  %s -%q\n", file, line)
		}
		for _, line := range is {
			fmt.Fprintf(&b, "  %s +%q\n", file, line)
		}
	}
	return b.String()
}

// A file can be written anew as a whole, by its place on the disk, if the estate has it.
func TestRewrite(t *testing.T) {
	path := writeEstate(t, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\nname: A\n"})
	file := filepath.Join(path, "estate.yaml")
	d, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	upper := func(data []byte) ([]byte, error) {
		return bytes.Replace(data, []byte("name: A"), []byte("name: B"), 1), nil
	}
	if err := d.Rewrite(file+".other", upper); err == nil || !strings.Contains(err.Error(), "is no file of the estate") {
		t.Errorf("another file: %v", err)
	}
	cannot := errors.New("cannot")
	if err := d.Rewrite(file, func([]byte) ([]byte, error) { return nil, cannot }); err != cannot {
		t.Errorf("a file that cannot be written so: %v", err)
	}
	if err := d.Rewrite(file, upper); err != nil {
		t.Fatal(err)
	}
	e, err := d.Estate()
	if err != nil || e.Settings().Name != "B" {
		t.Fatalf("%v, %v", e, err)
	}
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	if e, err = Load(t.Context(), path); err != nil || e.Settings().Name != "B" {
		t.Errorf("written, the name is %q (%v)", e.Settings().Name, err)
	}
}
