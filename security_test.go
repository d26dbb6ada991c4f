package yorvet

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Each test that the page on security names is there, in the package that it names.
func TestSecurityPage(t *testing.T) {
	tests := map[string]bool{} // PACKAGE NAME
	declared := regexp.MustCompile(`(?m)^func ((?:Test|Fuzz)\w+)\(`)
	err := filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		data, err := os.ReadFile(path)
		for _, found := range declared.FindAllSubmatch(data, -1) {
			tests[filepath.Base(filepath.Dir(path))+" "+string(found[1])] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	page, err := os.ReadFile("docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	named := 0
	for line := range strings.Lines(string(page)) {
		cells := strings.Split(line, "|")
		if len(cells) < 4 || !strings.HasPrefix(line, "|") || strings.HasPrefix(line, "|-") {
			continue
		}
		for part := range strings.SplitSeq(cells[len(cells)-2], ";") {
			pack, list, _ := strings.Cut(strings.TrimSpace(part), " ")
			for name := range strings.SplitSeq(list, ",") {
				name, _, _ = strings.Cut(strings.TrimSpace(name), " ")
				if name == "" {
					continue
				}
				if named++; !tests[pack+" "+name] {
					t.Errorf("there is no test %s in the package %s", name, pack)
				}
			}
		}
	}
	if named < 40 {
		t.Errorf("only %d tests are named", named)
	}
}
