package yorvet

import (
	"cmp"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/golden"
)

// module is a module that is built into the program.
type module struct{ path, version, dir string }

// builtIn returns the modules that are built into the program on any of the systems
// that it is released for, by path.
func builtIn(t *testing.T) []module {
	t.Helper()
	found := map[string]module{}
	for _, system := range []string{"linux", "windows", "darwin"} {
		cmd := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}", "./cmd/yorvet")
		cmd.Env = append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s: %v", system, err)
		}
		for line := range strings.Lines(string(out)) {
			fields := strings.Split(strings.TrimRight(line, "\r\n"), "\t")
			if len(fields) == 3 && fields[1] != "" {
				found[fields[0]] = module{fields[0], fields[1], fields[2]}
			}
		}
	}
	var list []module
	for _, m := range found {
		list = append(list, m)
	}
	slices.SortFunc(list, func(a, b module) int { return cmp.Compare(a.path, b.path) })
	return list
}

// terms returns the files of a module that say under which terms it is used, in the
// order of their names.
func (m module) terms(t *testing.T) string {
	t.Helper()
	entries, err := os.ReadDir(m.dir)
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	for _, entry := range entries {
		name := strings.ToUpper(entry.Name())
		if entry.IsDir() || !strings.HasPrefix(name, "LICEN") && !strings.HasPrefix(name, "NOTICE") && !strings.HasPrefix(name, "COPYING") {
			continue
		}
		data, err := os.ReadFile(filepath.Join(m.dir, entry.Name()))
		if err != nil {
			t.Fatal(err)
		}
		b.WriteString("\n" + strings.TrimSpace(strings.ReplaceAll(string(data), "\r\n", "\n")) + "\n")
	}
	return b.String()
}

// secondary is the definition of secondary licences in the Mozilla Public License 2.0.
var secondary = regexp.MustCompile(`means either the GNU General Public License.*?later versions of those licenses`)

// NOTICE names just the modules that are built in, with their terms as they are in
// the versions that are used.
func TestNotice(t *testing.T) {
	var b strings.Builder
	b.WriteString("Yorvet\n\nThis program is free software under the Apache License 2.0. It holds the standard library of Go, under the\n" +
		"terms that golang.org/x/net has below, and these modules, each under the terms that follow its name.\n")
	modules := builtIn(t)
	if len(modules) < 10 {
		t.Fatalf("only %d modules", len(modules))
	}
	for _, m := range modules {
		terms := m.terms(t)
		if terms == "" {
			t.Errorf("%s does not say under which terms it is used", m.path)
		}
		b.WriteString("\n" + strings.Repeat("=", 80) + "\n" + m.path + " " + m.version + "\n" + terms)
	}
	if golden.Updating() {
		if err := os.WriteFile("NOTICE", []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	if Notice != b.String() {
		t.Error("NOTICE is not what the modules say; go test . -update writes it anew")
	}
	// The Mozilla licence, which some name for what they are tested with, says which others it
	// goes with.
	own := secondary.ReplaceAllString(strings.Join(strings.Fields(b.String()), " "), "")
	for _, word := range []string{"GNU GENERAL PUBLIC", "GNU AFFERO", "GNU LESSER"} {
		if strings.Contains(strings.ToUpper(own), word) {
			t.Errorf("a module is under the terms of the %s licence", word)
		}
	}
}
