package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/yamlfile"
)

// IdentityFile is the file beside an estate that says which of a store's estates it is.
const IdentityFile = "yorvet-store.yaml"

// An Identity is what that file holds.
type Identity struct {
	Version int    `yaml:"yorvet-store"`
	Store   string `yaml:"store"`  // where it was first used: a path or URL; "": the usual store of a machine
	Estate  string `yaml:"estate"` // its name in whatever store
}

// FolderOf returns the folder that an estate is in, by its path: its identity lies there.
func FolderOf(estate string) (string, error) {
	path, err := filepath.Abs(estate)
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	return filepath.Dir(path), nil
}

// ReadIdentity reads the identity in a folder; if there is none, it is empty.
func ReadIdentity(ctx context.Context, folder string) (Identity, error) {
	var i Identity
	path := filepath.Join(folder, IdentityFile)
	data, err := yamlfile.Read(ctx, path, &i)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return Identity{}, nil
	case err != nil:
		return Identity{}, err
	case i.Version != 1:
		return Identity{}, fmt.Errorf("%s:1:1: the format version is missing, expected \"yorvet-store: 1\"", path)
	case !IsName(i.Estate):
		line, column := yamlfile.Find(data, "estate", 0)
		return Identity{}, fmt.Errorf("%s:%d:%d: %q is no name of an estate, expected the 26 letters and digits that yorvet "+
			"store shows", path, line, column, i.Estate)
	}
	return i, nil
}

// Write writes the identity into a folder: a new file, where the error may be fs.ErrExist, or in place
// of another.
func (i Identity) Write(folder string, instead bool) error {
	write := localfile.Create
	if instead {
		write = localfile.Write
	}
	text := "# Which estate this is, in the store of its runs, answers and plans. It goes with the estate.\n" +
		"yorvet-store: 1\n"
	if i.Store != "" {
		text += fmt.Sprintf("store: %q\n", i.Store)
	}
	return write(filepath.Join(folder, IdentityFile), []byte(text+"estate: "+i.Estate+"\n"), 0o644)
}

// Here returns a folder of this machine as a place.
func Here(folder string) Place {
	host, err := os.Hostname()
	if err != nil {
		host = "this machine"
	}
	return Place{Host: host, Path: folder}
}
