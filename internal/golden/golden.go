// Package golden compares what tests make with files that people have read.
package golden

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write what is made into the files of testdata, to be read before "+
	"they are kept")

// Updating reports whether the files are written again, rather than compared.
func Updating() bool { return *update }

// Compare fails a test if a text is not that of a file in the folder testdata, with the
// first line that differs. When Updating, it writes the file.
func Compare(t *testing.T, name, got string) {
	t.Helper()
	path := filepath.Join("testdata", name)
	if Updating() {
		if err := os.WriteFile(path, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	was, is := strings.Split(string(data), "\n"), strings.Split(got, "\n")
	for i := range min(len(was), len(is)) {
		if was[i] != is[i] {
			t.Fatalf("%s:%d:\n got %q\nwant %q", path, i+1, is[i], was[i])
		}
	}
	if len(was) != len(is) {
		t.Fatalf("%s has %d lines, and %d are made", path, len(was), len(is))
	}
}
