package estatefile

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"yorvet.example/yorvet/internal/wholefile"
)

// lockPatience is how long a writer waits for another.
const lockPatience = 10 * time.Second

// lock keeps others from writing the estate in a folder.
func lock(folder string) (unlock func(), err error) {
	for end := time.Now().Add(lockPatience); ; time.Sleep(20 * time.Millisecond) {
		unlock, taken, err := tryLock(folder)
		switch {
		case err == nil:
			return unlock, nil
		case !taken || time.Now().After(end):
			return nil, fmt.Errorf("somebody else is changing the estate in %s; nothing is written: %w", folder, err)
		}
	}
}

// writeAll writes files, each whole or not at all, and all of them or none. A file
// that is there keeps its permissions; a symbolic link keeps pointing at what is
// written.
func writeAll(folder string, files map[string][]byte) error {
	names := slices.Sorted(maps.Keys(files))
	var j journal
	for _, name := range names {
		path, mode := name, os.FileMode(0o644)
		if target, err := filepath.EvalSymlinks(name); err == nil {
			path = target
		}
		if info, err := os.Stat(path); err == nil {
			mode = info.Mode().Perm()
		}
		if len(names) == 1 {
			return wholefile.Write(path, files[name], mode)
		}
		unready, err := writeBeside(path, files[name], mode)
		if err == nil {
			err = j.add(folder, unready, path)
		}
		if err != nil {
			j.forget(folder)
			return err
		}
	}
	data, err := json.Marshal(j)
	if err == nil {
		err = wholefile.Write(filepath.Join(folder, journalName), data, 0o644)
	}
	if err != nil {
		j.forget(folder)
		return err
	}
	return finishJournal(folder)
}

// writeBeside writes a file that is to take the place of another, beside it.
func writeBeside(path string, data []byte, mode os.FileMode) (string, error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".yorvet-new-*")
	if err != nil {
		return "", err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		os.Remove(f.Name())
	}
	return f.Name(), err
}

// journalName is the file, in the folder of an estate, that says which files are
// to take the place of which others. From when it is there the change is made: who
// reads the estate reads the new files, and the next writer puts them in place.
const journalName = ".yorvet-change"

type journal struct {
	Files []journalFile `json:"files"`
}

// journalFile is a file that is ready, and whose place it takes, from the folder.
type journalFile struct {
	Ready string `json:"ready"`
	Place string `json:"place"`
}

func (j *journal) add(folder, ready, place string) error {
	from, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	one := journalFile{ready, place}
	for _, path := range []*string{&one.Ready, &one.Place} {
		if *path, err = filepath.Abs(*path); err != nil {
			return err
		}
		if *path, err = filepath.Rel(from, *path); err != nil {
			return err
		}
	}
	j.Files = append(j.Files, one)
	return nil
}

// forget removes the files that were ready, where the change is not made.
func (j *journal) forget(folder string) {
	for _, f := range j.Files {
		os.Remove(filepath.Join(folder, f.Ready))
	}
}

// readJournal returns the journal in a folder, an empty one if there is none.
func readJournal(folder string) (journal, error) {
	var j journal
	data, err := os.ReadFile(filepath.Join(folder, journalName))
	if errors.Is(err, os.ErrNotExist) {
		return j, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &j)
	}
	return j, err
}

// finishJournal puts files in place that a writer has left ready.
func finishJournal(folder string) error {
	j, err := readJournal(folder)
	if err != nil || len(j.Files) == 0 {
		return err
	}
	for _, f := range j.Files {
		if err := os.Rename(filepath.Join(folder, f.Ready), filepath.Join(folder, f.Place)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return os.Remove(filepath.Join(folder, journalName))
}

// opener returns a function that opens the files of the estate in a folder, those
// that are ready instead of those whose place they take.
func opener(folder string) (func(name string) (*os.File, error), error) {
	j, err := readJournal(folder)
	if err != nil {
		return nil, err
	}
	return func(name string) (*os.File, error) {
		for _, f := range j.Files {
			if sameFile(filepath.Join(folder, f.Place), name) {
				if ready, err := os.Open(filepath.Join(folder, f.Ready)); err == nil {
					return ready, nil
				}
			}
		}
		return os.Open(name)
	}, nil
}

// sameFile reports whether two paths lead to the same place.
func sameFile(a, b string) bool {
	if target, err := filepath.EvalSymlinks(b); err == nil {
		b = target
	}
	a, errA := filepath.Abs(a)
	b, errB := filepath.Abs(b)
	return errA == nil && errB == nil && a == b
}
