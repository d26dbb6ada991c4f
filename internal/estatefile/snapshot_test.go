package estatefile

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"yorvet.example/yorvet/internal/core/change/changetest"
)

// A snapshot is the estate as it was, whatever becomes of its files.
func TestSnapshot(t *testing.T) {
	for _, name := range slices.Sorted(maps.Keys(commented)) {
		path := writeEstate(t, commented[name])
		e, taken, err := Take(t.Context(), path)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		want := changetest.Portrait(e)
		if _, again, err := Take(t.Context(), path); err != nil || again != taken {
			t.Errorf("%s: taken again, it is another one (%v)", name, err)
		}
		file := filepath.Join(path, "estate.yaml")
		if err := os.WriteFile(file, []byte("yorvet: 1\ndomains: [other.example]\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, again, err := Take(t.Context(), path); err != nil || again.Digest == taken.Digest {
			t.Errorf("%s: another estate has the same digest (%v)", name, err)
		}
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
		old, err := Restore(t.Context(), taken.Body)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if line := changetest.Differing(changetest.Portrait(old), want); line != "" {
			t.Errorf("%s: restored, it is %s", name, line)
		}
	}
	for _, body := range []string{"", "?", "UEsDBA=="} {
		if _, err := Restore(t.Context(), body); err == nil {
			t.Errorf("%q is an estate", body)
		}
	}
}
