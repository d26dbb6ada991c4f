package agent

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"yorvet.example/yorvet/internal/store"
)

// An identity is who an agent is from one process to the next: one of the files in its state folder,
// which no other process has at the same time.
type identity struct {
	folder string // "": it has none, and ends with the process
	name   string
	file   *os.File
}

// mostIdentities is how many agents share a state folder at most, apart from those without an identity
// that lasts.
const mostIdentities = 32

// takeIdentity takes an identity that no process has, of those in a state folder.
func takeIdentity(state string) *identity {
	folder := filepath.Join(state, "agents")
	if state == "" || os.MkdirAll(folder, 0o700) != nil {
		return &identity{name: store.NewName()}
	}
	for n := range mostIdentities {
		if i := identityOf(folder, n, os.O_RDWR|os.O_CREATE); i != nil {
			return i
		}
	}
	return &identity{name: store.NewName()}
}

// identityOf takes the nth identity of a folder, unless a process has it.
func identityOf(folder string, n, how int) *identity {
	f, err := os.OpenFile(filepath.Join(folder, fmt.Sprint(n+1)), how, 0o600)
	if err != nil {
		return nil
	}
	if !lock(f) {
		f.Close()
		return nil
	}
	i := &identity{folder, "", f}
	name, err := io.ReadAll(io.LimitReader(f, 64))
	if i.name = strings.TrimSpace(string(name)); err == nil && store.IsName(i.name) {
		return i
	}
	i.name = store.NewName()
	if _, err := f.WriteAt([]byte(i.name+"\n"), 0); err != nil {
		i.leave()
		return nil
	}
	return i
}

// gone returns the identities of the same folder that no process has.
func (i *identity) gone() (names []string) {
	for n := range mostIdentities {
		if i.folder == "" {
			return nil
		}
		if other := identityOf(i.folder, n, os.O_RDWR); other != nil {
			names = append(names, other.name)
			other.leave()
		}
	}
	return names
}

func (i *identity) leave() {
	if i.file != nil {
		i.file.Close()
	}
}
