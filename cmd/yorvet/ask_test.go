package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// On a terminal a change is shown, then asked about; without a yes nothing is
// written.
func TestAsking(t *testing.T) {
	if _, err := exec.LookPath("script"); err != nil {
		t.Skip("the program script, which makes a terminal, is not installed here (Debian: bsdutils)")
	}
	dir := t.TempDir()
	path := filepath.Join(dir, "estate.yaml")
	const before = "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example}]\ngroups:\n- address: crew@kelp.example # ours\n"
	for answer, want := range map[string]string{"no\n": before, "\n": before, "": before, "yes\n": before + "  members:\n    - {address: ann@kelp.example, since: 2026-11-23}\n"} {
		if err := os.WriteFile(path, []byte(before), 0o644); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("script", "-qec", program+" --on 2026-11-23 member add crew@kelp.example ann@kelp.example", "/dev/null")
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(answer)
		cmd.Env = append(os.Environ(), "NO_COLOR=1", "TERM=dumb")
		var out bytes.Buffer
		cmd.Stdout = &out
		_ = cmd.Run() // script ends with what the program ends with
		if !strings.Contains(out.String(), "Apply this change? [y/N]") || !strings.Contains(out.String(), "no recipient -> inbox") {
			t.Errorf("answer %q: not asked:\n%s", answer, out.String())
		}
		if data, _ := os.ReadFile(path); string(data) != want {
			t.Errorf("answer %q: the estate is\n%s", answer, data)
		}
	}
}
