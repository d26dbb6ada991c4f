package agent

import (
	"slices"
	"testing"
)

// An agent is the same one from one process to the next; two at once are two, and who is gone is known at once.
func TestIdentity(t *testing.T) {
	state := t.TempDir()
	if i := takeIdentity(state); i.folder == "" {
		t.Skip("no process can take a file here")
	} else {
		i.leave()
	}
	one, two := takeIdentity(state), takeIdentity(state)
	if one.name == two.name || len(one.gone()) > 0 {
		t.Errorf("%s and %s, gone are %v", one.name, two.name, one.gone())
	}
	one.leave()
	if gone := two.gone(); !slices.Equal(gone, []string{one.name}) {
		t.Errorf("gone are %v, want %s", gone, one.name)
	}
	if again := takeIdentity(state); again.name != one.name {
		t.Errorf("the next process is %s, want %s", again.name, one.name)
	}
	if other := takeIdentity(t.TempDir()); other.name == one.name || other.name == two.name {
		t.Error("another folder has the same")
	}
	for _, none := range []string{"", "/dev/null/x"} {
		if i := takeIdentity(none); i.folder != "" || len(i.gone()) > 0 {
			t.Errorf("%q gives %+v", none, i)
		}
	}
}
