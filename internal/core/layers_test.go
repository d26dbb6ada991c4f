// Package core holds no code; its test keeps the core what it is.
package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// allowed are the packages that the core may use besides its own: none that
// knows files, the network, the clock or formatting. Of package time it uses
// the calendar.
var allowed = map[string]bool{
	"bytes": true, "cmp": true, "errors": true, "encoding/binary": true, "hash/maphash": true, "iter": true, "math": true,
	"net/netip": true,
	"maps":      true, "runtime": true, "slices": true, "sort": true, "strconv": true,
	"strings": true, "sync": true, "sync/atomic": true, "math/bits": true, "time": true, "unicode": true, "unicode/utf8": true, "unsafe": true,
	"golang.org/x/net/idna": true, "github.com/RoaringBitmap/roaring/v2": true,
}

func TestImports(t *testing.T) {
	checked := 0
	err := filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.HasSuffix(filepath.Dir(path), "test") { // a package for tests
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		checked++
		for _, spec := range file.Imports {
			name, _ := strconv.Unquote(spec.Path.Value)
			if !allowed[name] && !strings.HasPrefix(name, "yorvet.example/yorvet/internal/core/") {
				t.Errorf("%s imports %s", path, name)
			}
		}
		for _, name := range file.Unresolved {
			if name.Name == "print" || name.Name == "println" {
				t.Errorf("%s prints", path)
			}
		}
		return nil
	})
	if err != nil || checked < 10 {
		t.Fatalf("%d files checked: %v", checked, err)
	}
}
