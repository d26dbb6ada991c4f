package main

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/demo"
)

// fixable are estates with hazards whose first remedy would be wrong: somebody whom a rule or a
// nested group brings in, who has chosen for themselves, or who would get a right too many.
var fixable = map[string]string{
	"by a rule": `
  - {address: crew@kelp.example, owners: [ann@kelp.example], outside-members: refused, members: [{where: (unit=deck)}, guests@kelp.example]}
  - {address: guests@kelp.example, owners: [ann@kelp.example], members: [x@out.example]}`,
	"own choice": `
  - {address: crew@kelp.example, owners: [ann@kelp.example], members: [{address: ann@kelp.example, invitations: none}, {address: bob@kelp.example, copy: digest}, cat@kelp.example]}`,
	"an owner by choice": `
  - {address: crew@kelp.example, owners: [ann@kelp.example], members: [{address: ann@kelp.example, copy: none}, cat@kelp.example]}`,
	"outside members": `
  - {address: desk@kelp.example, owners: [ann@kelp.example], gate: [admit anyone], members: [ann@kelp.example, x@out.example]}`,
	"a narrow right": `
  - {address: desk@kelp.example, owners: [ann@kelp.example], gate: [admit anyone], members: [ann@kelp.example, bob@kelp.example], send-as: [for ann@kelp.example]}`,
	"nothing to read": `
  - {address: crew@kelp.example, owners: [ann@kelp.example], members: [{address: ann@kelp.example, copy: none}, cat@kelp.example, bob@kelp.example]}`,
	"no way in": `
  - {address: crew@kelp.example, owners: [ann@kelp.example], gate: [refuse anyone], members: [cat@kelp.example]}
  - {address: all@kelp.example, owners: [ann@kelp.example], members: [crew@kelp.example, ann@kelp.example]}`,
	"closed": `
  - {address: crew@kelp.example, owners: [ann@kelp.example], members: [cat@kelp.example, gone@kelp.example, {where: (unit=gone)}]}
  - {address: more@kelp.example, owners: [ann@kelp.example], members: [cat@kelp.example, {where: (unit=gone)}]}`,
	"joiners": `
  - {address: crew@kelp.example, owners: [ann@kelp.example], copy: none, joiners: every, members: [cat@kelp.example, ann@kelp.example]}`,
	"shown": `
  - {address: crew@kelp.example, owners: [ann@kelp.example], access: {see-members: anyone}, members: [cat@kelp.example]}`,
	"nobody": `
  - {address: crew@kelp.example, gate: [hold anyone]}`,
}

const fixablePeople = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ann@kelp.example, attributes: {unit: bridge}}
  - {address: bob@kelp.example, attributes: {unit: bridge}}
  - {address: cat@kelp.example, attributes: {unit: deck}}
  - {address: gone@kelp.example, mailbox: closed, attributes: {unit: gone}}
groups:`

// finding is a hazard by what it is about.
type finding struct{ Name, Severity, Group, Address, Fix string }

func (f finding) key() string { return f.Name + " " + f.Group + " " + f.Address }

func findings(t *testing.T, dir string) []finding {
	t.Helper()
	r := run(t, dir, nil, []string{"--estate", "estate", "--on", demo.Day, "check", "--json"})
	var answer struct{ Hazards []finding }
	if err := json.Unmarshal([]byte(r.stdout), &answer); err != nil {
		t.Fatalf("%v: %s%s", err, r.stdout, r.stderr)
	}
	return answer.Hazards
}

// Each command that a finding prints does what it says: it cures the finding, and raises none of
// medium or high severity.
func TestFixesCure(t *testing.T) {
	t.Parallel()
	estates := map[string]func(dir string) error{"the demo": func(dir string) error { return demo.Write(t.Context(), dir) }}
	for name, groups := range fixable {
		estates[name] = func(dir string) error {
			if err := os.MkdirAll(filepath.Join(dir, "estate"), 0o755); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(dir, "estate", "estate.yaml"), []byte(fixablePeople+groups+"\n"), 0o644)
		}
	}
	tried := map[string]bool{}
	for name, write := range estates {
		from := t.TempDir()
		if err := write(from); err != nil {
			t.Fatal(err)
		}
		before := findings(t, from)
		had := map[string]bool{}
		for _, f := range before {
			had[f.key()] = true
		}
		for _, f := range before {
			_, command, ok := strings.Cut(f.Fix, "yorvet ")
			if !ok {
				continue
			}
			tried[f.Name] = true
			dir := t.TempDir()
			if err := write(dir); err != nil {
				t.Fatal(err)
			}
			somebody := "ines.maro@kelpmere.example"
			if name != "the demo" {
				somebody = "bob@kelp.example"
			}
			command = strings.ReplaceAll(strings.TrimSuffix(strings.TrimSpace(command), "."), "ADDRESS", somebody)
			if strings.HasPrefix(command, "who ") || strings.HasPrefix(command, "explain ") {
				continue // which only shows
			}
			r := runLine(t, dir, "yorvet --estate estate --on "+demo.Day+" "+command+" --yes")
			if r.code != 0 || strings.Contains(r.stdout, "nothing to change") {
				t.Errorf("%s: %s: %q ends with %d\n%s%s", name, f.key(), command, r.code, r.stdout, r.stderr)
				continue
			}
			for _, now := range findings(t, dir) {
				if now.key() == f.key() {
					t.Errorf("%s: %s is not cured by %q: %s", name, f.key(), command, now.Fix)
				}
				if !had[now.key()] && now.Severity != "low" {
					t.Errorf("%s: %s is cured by %q, and there is %s", name, f.key(), command, now.key())
				}
			}
		}
	}
	for _, check := range []string{"unreachable-member", "misses-invitations", "answers-show-person", "no-owner", "owner-left-out"} {
		if !tried[check] {
			t.Errorf("no remedy of %s was tried: %v", check, slices.Sorted(maps.Keys(tried)))
		}
	}
}
