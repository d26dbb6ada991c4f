package localfile

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
)

// unready is how the names begin of files that are still being written.
const unready = ".yorvet-new-"

// staleAfter is how old a file of a killed writer is before it is removed: no
// writer takes that long.
const staleAfter = 10 * time.Minute

// Write writes a file, whole or not at all. One that is there keeps its owner,
// group and permissions, or is left as it is where it cannot; mode is for a new
// one, before the umask. Of a symbolic link, what it leads to is written.
func Write(path string, data []byte, mode fs.FileMode) error {
	removeStale(filepath.Dir(path))
	return WriteVia(filepath.Dir(path), path, data, mode)
}

// WriteVia is Write where the file comes up in a folder of the same file system
// before it takes its place.
func WriteVia(folder, path string, data []byte, mode fs.FileMode) error {
	if target, err := filepath.EvalSymlinks(path); err == nil && target != path {
		folder, path = filepath.Dir(target), target
	}
	ready, err := Beside(folder, unready+"*", path, data, mode)
	if err != nil {
		return err
	}
	return Place(ready, path)
}

// Beside writes a file in a folder that is to take the place of another later, by
// Place. It has the owner, group and permissions of that one, if it is there, else
// mode before the umask. pattern is what its name is made of, as for os.CreateTemp.
func Beside(folder, pattern, place string, data []byte, mode fs.FileMode) (string, error) {
	old, err := os.Stat(place)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	f, err := create(folder, pattern, mode)
	if err != nil {
		return "", err
	}
	if old != nil {
		err = regular(place, old)
		if err == nil {
			err = keep(f, place, old)
		}
	}
	if err == nil {
		_, err = f.Write(data)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(f.Name())
		return "", err
	}
	return f.Name(), nil
}

// create makes a new file of a random name. Unlike one of os.CreateTemp it has the
// permissions that the umask leaves.
func create(folder, pattern string, mode fs.FileMode) (*os.File, error) {
	before, after, _ := strings.Cut(pattern, "*")
	const attempts = 1000
	for range attempts {
		name := filepath.Join(folder, before+strings.ToLower(rand.Text())+after)
		f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
		if bad := (*fs.PathError)(nil); errors.As(err, &bad) && !errors.Is(err, fs.ErrExist) {
			return nil, &fs.PathError{Op: "write", Path: filepath.Clean(folder), Err: bad.Err} // its own name says nothing
		}
		if !errors.Is(err, fs.ErrExist) {
			return f, err
		}
	}
	return nil, fmt.Errorf("%s: there is no free name for a new file", folder)
}

// Place has a file that Beside wrote take its place, and waits until that is on
// disk.
func Place(ready, path string) error {
	if err := os.Rename(ready, path); err != nil {
		os.Remove(ready)
		return err
	}
	return syncFolder(filepath.Dir(path))
}

// Create writes a new file, whole or not at all. If there is one of its name, that stays, and the
// error is fs.ErrExist.
func Create(path string, data []byte, mode fs.FileMode) error {
	ready, err := Beside(filepath.Dir(path), unready+"*", path, data, mode)
	if err != nil {
		return err
	}
	defer os.Remove(ready)
	if err := os.Link(ready, path); err != nil {
		return err
	}
	return syncFolder(filepath.Dir(path))
}

// removeStale removes what killed writers have left in a folder.
func removeStale(folder string) {
	left, _ := filepath.Glob(filepath.Join(folder, unready+"*"))
	for _, path := range left {
		if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() &&
			clock.Machine().Sub(info.ModTime()) > staleAfter {
			os.Remove(path)
		}
	}
}

// WritePrivate is Write for what nobody else is to read, such as a secret: the file
// has the permissions 0600 whatever it had, and belongs to the user.
func WritePrivate(path string, data []byte) error {
	if target, err := filepath.EvalSymlinks(path); err == nil {
		path = target
	}
	if info, err := os.Lstat(path); err == nil {
		if err := regular(path, info); err != nil {
			return err
		}
	}
	folder := filepath.Dir(path)
	removeStale(folder)
	const mode = 0o600
	f, err := create(folder, unready+"*", mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		os.Remove(f.Name())
		return err
	}
	return Place(f.Name(), path)
}

// ignoreMark begins a .gitignore that Ignore has written, and may add to.
const ignoreMark = "# Written by yorvet: these hold secrets or people's mail.\n"

// Ignore has git leave out what patterns name in a folder, by a .gitignore there.
// One that somebody else has written is left as it is; what of the patterns is
// missing in it is returned.
func Ignore(folder string, patterns ...string) (missing []string, err error) {
	path := filepath.Join(folder, ".gitignore")
	const most = 1 << 20
	old, err := Read(context.Background(), path, most)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	lines := strings.Split(string(old), "\n")
	for _, pattern := range patterns {
		if !slices.Contains(lines, pattern) && !slices.Contains(lines, "*") {
			missing = append(missing, pattern)
		}
	}
	switch text := string(old); {
	case len(missing) == 0:
		return nil, nil
	case old == nil:
		text = ignoreMark
		fallthrough
	case strings.HasPrefix(text, ignoreMark):
		return nil, Write(path, []byte(text+strings.Join(missing, "\n")+"\n"), 0o644)
	}
	return missing, nil
}
