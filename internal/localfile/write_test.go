package localfile

import (
	"os"
	"path/filepath"
	"testing"
)

func TestWrite(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "x")
	for _, text := range []string{"one", "two, and longer", ""} {
		if err := Write(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if data, err := os.ReadFile(path); err != nil || string(data) != text {
			t.Errorf("read %q (%v), want %q", data, err, text)
		}
	}
	if err := os.Chmod(path, 0o640); err != nil {
		t.Fatal(err)
	}
	if err := WriteVia(t.TempDir(), path, []byte("three"), 0o600); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("permissions %v (%v), want those it had", info.Mode(), err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 {
		t.Errorf("left behind: %v", left)
	}
	if err := Write(filepath.Join(dir, "none", "x"), nil, 0o600); err == nil {
		t.Error("a folder that is not there is no error")
	}
}
