package estatefile

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/localfile"
)

// lockPatience is how long a writer waits for another.
const lockPatience = 10 * time.Second

// lock keeps others from writing the estate in a folder.
func lock(ctx context.Context, folder string) (unlock func(), err error) {
	for end := clock.Now().Add(lockPatience); ; {
		unlock, taken, err := tryLock(folder)
		switch {
		case err == nil:
			return unlock, nil
		case !taken || clock.Now().After(end):
			return nil, fmt.Errorf("somebody else is changing the estate in %s; nothing is written: %w", folder, err)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// files opens the files of an estate: those that an unfinished change has made
// ready, instead of those whose place they are to take.
type files struct {
	ctx     context.Context // of anyone who reads or changes the estate
	folder  string
	journal *journal
}

// filesOf returns the files of the estate at a path.
func filesOf(ctx context.Context, path string) (*files, error) {
	folder := folderOf(path)
	j, err := readJournal(ctx, folder)
	return &files{ctx, folder, j}, err
}

// open opens a file.
func (f *files) open(name string) (*os.File, error) {
	if one, ok := f.journal.find(name); ok {
		file, _, err := f.journal.open(f.ctx, one)
		return file, err
	}
	return localfile.Open(name)
}

// A replacement is what a file of an estate holds, and is to hold.
type replacement struct {
	old []byte // nil where it is not there
	new []byte
}

// writeAll writes files, each whole or not at all, and all of them or none. A file
// that is there keeps its owner, group and permissions, or nothing is written; a
// symbolic link keeps pointing at what is written.
func writeAll(ctx context.Context, folder string, list map[string]replacement) error {
	names := slices.Sorted(maps.Keys(list))
	j := &journal{path: filepath.Join(folder, journalName)}
	const mode = fs.FileMode(0o644) // of new files, before the umask
	for _, name := range names {
		path := name
		if target, err := filepath.EvalSymlinks(name); err == nil {
			path = target
		}
		err := ctx.Err()
		if err == nil {
			err = j.add(path, list[name].old, list[name].new, mode)
		}
		if err != nil {
			j.forget()
			return err
		}
	}
	if len(j.Files) == 1 {
		return localfile.Place(j.ready(j.Files[0]), j.place(j.Files[0]))
	}
	data, err := json.Marshal(j)
	if err == nil {
		err = localfile.Write(j.path, data, mode)
	}
	if err != nil {
		j.forget()
		return err
	}
	return j.finish(context.WithoutCancel(ctx), names) // what is begun is ended
}
