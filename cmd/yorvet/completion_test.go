package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/demo"
)

// What may come next is offered: commands, flags, their values, and the addresses of the
// estate.
func TestCompletion(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		line      string
		has, none []string
	}{
		{"", []string{"demo", "who", "manual", "completion"}, []string{"help-me", "lost-property@kelpmere.example"}},
		{"who", []string{"posts", "receives", "sends-as", "manages"}, []string{"demo"}},
		{"who posts", []string{"lost-property@kelpmere.example", "cargo@kelpmere-cargo.example"}, []string{"ines.maro@kelpmere.example", "found@kelpmere.example"}},
		{"--estate served who posts", []string{"lost-property@kelpmere.example"}, nil},
		{"--estate nowhere who posts", nil, []string{"lost-property@kelpmere.example"}},
		{"who receives charter --from", []string{"ines.maro@kelpmere.example", "lost-property@kelpmere.example"}, []string{"--from"}},
		{"who receives charter --", []string{"--from", "--unproven", "--estate"}, []string{"ines.maro@kelpmere.example"}},
		{"explain --from ines.maro --to", []string{"charter@kelpmere.example"}, nil},
		{"person", []string{"nora.teale@kelpmere.example", "leaves"}, nil},
		{"check --only", []string{"forgeable", "nested-stops"}, []string{"--only"}},
		{"check --fail-on", []string{"high", "never"}, nil},
		{"check --format", []string{"text", "json", "csv", "markdown", "sarif"}, []string{"junit"}},
		{"expect --format", []string{"tap", "junit"}, []string{"sarif"}},
		{"export --as", []string{"ldif", "scim"}, []string{"member"}},
		{"member add charter --as", []string{"owner", "moderator"}, []string{"ldif"}},
		{"member add charter --copy", []string{"every", "digest", "none"}, nil},
		{"group new x@kelpmere.example --preset", []string{"desk", "shared-inbox"}, nil},
		{"probe --kind", []string{"outsider", "forged"}, []string{"forum"}},
		{"held list --as", []string{"tam.weld@kelpmere.example"}, nil},
		{"help", []string{"words", "exit-codes"}, nil},
		{"completion", []string{"bash", "zsh", "fish"}, nil},
	} {
		r := run(t, dir, nil, append(split(c.line), "--generate-shell-completion"))
		var words []string
		for line := range strings.Lines(r.stdout) {
			word, _, _ := strings.Cut(strings.TrimSpace(line), ":")
			words = append(words, word)
		}
		for _, word := range c.has {
			if !slices.Contains(words, word) {
				t.Errorf("%q: %s is not offered: %.200q", c.line, word, words)
			}
		}
		for _, word := range c.none {
			if slices.Contains(words, word) {
				t.Errorf("%q: %s is offered", c.line, word)
			}
		}
		if r.code != 0 || r.stderr != "" {
			t.Errorf("%q: exit code %d, %s", c.line, r.code, r.stderr)
		}
	}
}

// Of many addresses no more than 5,000 are offered.
func TestCompletionIsCut(t *testing.T) {
	var b strings.Builder
	b.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople:\n")
	for i := range 5_100 {
		fmt.Fprintf(&b, "- {address: p%d@kelp.example}\n", i)
	}
	dir := t.TempDir()
	lay(t, dir, map[string]string{"estate.yaml": b.String()})
	r := run(t, dir, nil, []string{"person", "set", "--generate-shell-completion"})
	if n := strings.Count(r.stdout, "\n"); n != 5000 {
		t.Errorf("%d lines", n)
	}
}

// Each shell takes its completions, and bash completes an address with them.
func TestShells(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		script := run(t, dir, nil, []string{"completion", shell})
		if script.code != 0 || !strings.Contains(script.stdout, "yorvet") {
			t.Errorf("%s: exit code %d: %.200s%s", shell, script.code, script.stdout, script.stderr)
		}
		path := filepath.Join(dir, "completion."+shell)
		if err := os.WriteFile(path, []byte(script.stdout), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := exec.LookPath(shell); err != nil {
			continue
		}
		if out, err := exec.Command(shell, "-n", path).CombinedOutput(); err != nil {
			t.Errorf("%s does not read its script: %s", shell, out)
		}
	}
	bash, err := exec.LookPath("bash")
	if err != nil {
		t.Skip("bash is not installed here")
	}
	for words, want := range map[string]string{"yorvet who posts sail": "sailing-notices@kelpmere.example", "yorvet check --only forg": "forgeable", "yorvet mat": "matrix", "yorvet who receives charter --unp": "--unproven"} {
		cmd := exec.Command(bash, "-c", `_comp_initialize() { :; }; source completion.bash; COMP_WORDS=($1); COMP_CWORD=$((${#COMP_WORDS[@]}-1)); __yorvet_bash_autocomplete; printf '%s\n' "${COMPREPLY[@]}"`, "bash", words)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
		out, err := cmd.CombinedOutput()
		if err != nil || strings.TrimSpace(string(out)) != want {
			t.Errorf("%q is completed to %q, %v; want %s", words, out, err, want)
		}
	}
}

// There is a man page for the program and for each command, and none is overwritten unasked.
func TestManual(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if r := run(t, dir, nil, []string{"manual", "man1"}); r.code != 0 {
		t.Fatal(r.stderr)
	}
	for name, want := range map[string]string{"yorvet.1": "who may post", "yorvet-who-receives.1": "ADDRESS", "yorvet-member-add.1": "add members"} {
		data, err := os.ReadFile(filepath.Join(dir, "man1", name))
		if err != nil || !strings.Contains(string(data), want) || !strings.Contains(string(data), ".TH "+strings.TrimSuffix(name, ".1")) {
			t.Errorf("%s: %v %.300s", name, err, data)
		}
	}
	pages, err := os.ReadDir(filepath.Join(dir, "man1"))
	if commands := len(helpPages(t, nil)); err != nil || len(pages) < commands-5 { // completion and its shells are the library's
		t.Errorf("%d pages for %d commands, %v", len(pages), commands, err)
	}
	if r := run(t, dir, nil, []string{"manual", "man1"}); r.code != 2 || !strings.Contains(r.stderr, "exists; use --force") {
		t.Errorf("again: exit code %d, %s", r.code, r.stderr)
	}
	if r := run(t, dir, nil, []string{"manual", "man1", "--force"}); r.code != 0 {
		t.Errorf("by force: %s", r.stderr)
	}
}
