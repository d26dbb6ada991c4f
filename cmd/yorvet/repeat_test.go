package main

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/demo"
)

// repeated are commands whose answers might hang on the order of a map, as they
// gather from many places. They run in the folder of the demo, one after another.
var repeated = []string{
	"matrix --json",
	"check --json --fail-on never",
	"check --format sarif --fail-on never",
	"expect kelpmere.expect --json",
	"expect --draft north-pier@kelpmere.example all-hands@kelpmere.example",
	"compare estate served --json",
	"compare estate served --format csv",
	"person yva.lorne@kelpmere.example --json",
	"who posts lost-property@kelpmere.example --json",
	"who receives sailing-notices@kelpmere.example --from odile.renn@kelpmere.example --json",
	"explain --from passenger@holiday.example --to found@kelpmereferries.example --json",
	"export --as ldif -o hq.ldif",
	"export --as scim -o hq.json",
	"export --since served --as ldif --for hq-directory -o changes.ldif",
	"export --as ldif --map two.yaml -o rules.ldif",
	"import two.ldif --map two.yaml -o two",
	"import hq.ldif hq.json -o merged",
	"--estate merged compare estate merged --json",
	"import hq.json -o merged --prune --yes",
	"group new storm@kelpmere.example --preset desk --owner odile.renn@kelpmere.example --yes",
}

// No answer and no file depends on the order in which a map is walked: Go walks
// it in another one each time.
func TestSameAnswers(t *testing.T) {
	t.Parallel()
	var first string
	for i := range campaign.Rounds(3, 50) {
		now := answerAll(t)
		if i == 0 {
			first = now
			continue
		}
		if now == first {
			continue
		}
		old, lines := strings.Split(first, "\n"), strings.Split(now, "\n")
		for at := range min(len(old), len(lines)) {
			if old[at] != lines[at] {
				t.Fatalf("line %d was first\n%s\nand at run %d\n%s", at+1, old[at], i+1, lines[at])
			}
		}
		t.Fatalf("there were %d lines first, and %d at run %d", len(old), len(lines), i+1)
	}
}

// answerAll runs the commands in a fresh folder of the demo, and returns their
// answers and the files that are there afterwards.
func answerAll(t *testing.T) string {
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"two.ldif": "dn: uid=ann,dc=kelp\nmail: ann@kelpmere.example\nou: pier\n\n" +
			"dn: cn=pier,dc=kelp\nobjectClass: groupOfNames\nmail: pier@kelpmere.example\n" +
			"memberURL: ldap:///dc=kelp??sub?(ou=pier)\n",
		"two.yaml": "yorvet-map: 1\npeople:\n  - address: mail\n    attributes: {base: ou, unit: ou, post: ou, wing: ou}\n" +
			"groups:\n  - match: (objectClass=groupOfNames)\n    address: mail\n    rules: memberURL\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var out strings.Builder
	for _, line := range repeated {
		r := run(t, dir, []string{"COLUMNS=100"}, append([]string{"--on", "2026-11-23"}, strings.Fields(line)...))
		if strings.Contains(r.stderr, "goroutine ") {
			t.Fatalf("%s: %s", line, r.stderr)
		}
		fmt.Fprintf(&out, "$ %s\n%s%s[%d]\n", line, r.stdout, r.stderr, r.code)
	}
	err := filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		fmt.Fprintf(&out, "-- %s --\n%s\n", entry.Name(), data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out.String()
}
