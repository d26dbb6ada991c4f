package estatefile

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/localfile"
)

// journalName is the file, in the folder of an estate, that says which files are
// to take the place of which others. From when it is there the change is made: who
// reads the estate reads the new files, and the next writer puts them in place.
const journalName = ".yorvet-change"

// readyName is how the names begin of files that are ready to take the place of
// others. Nothing else is accepted in a journal.
const readyName = ".yorvet-ready-"

// mostJournal is the size in bytes of a journal that is read.
const mostJournal = 1 << 20

// journal is a change of several files of an estate that is being made.
type journal struct {
	Files []journalFile `json:"files"`

	path string // of the journal
}

// journalFile is a file that is to be replaced. Digests are SHA-256, in hexadecimal.
type journalFile struct {
	Ready string `json:"ready"` // the name of the file that takes its place, beside it
	Place string `json:"place"` // its path, from the folder of the journal
	Old   string `json:"old"`   // digest of what it holds, "" where it is not there
	New   string `json:"new"`   // digest of what it is to hold
}

// readJournal returns the journal in a folder, an empty one if there is none. What
// the program does not write itself is an error that names the journal.
func readJournal(ctx context.Context, folder string) (*journal, error) {
	j := &journal{path: filepath.Join(folder, journalName)}
	data, err := localfile.Read(ctx, j.path, mostJournal)
	if errors.Is(err, fs.ErrNotExist) {
		return j, nil
	}
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(j); err != nil {
		return nil, j.bad("it is damaged")
	}
	for _, f := range j.Files {
		name, ready := strings.CutPrefix(f.Ready, readyName)
		switch {
		case !ready || name == "" || strings.ContainsFunc(name, func(r rune) bool {
			return (r < 'a' || r > 'z') && (r < '0' || r > '9')
		}):
			return nil, j.bad("it names %q, which is no file that Yorvet makes ready", f.Ready)
		case f.Place == "" || strings.ContainsRune(f.Place, 0):
			return nil, j.bad("it names a file without a name")
		}
	}
	return j, nil
}

// bad says what is wrong with the journal of an unfinished change.
func (j *journal) bad(format string, args ...any) error {
	return fmt.Errorf(
		"%s: this is not the journal of an unfinished change of this estate: %s; remove it if nobody is changing the estate",
		j.path,
		fmt.Sprintf(format, args...),
	)
}

// place returns the path of the file that is to be replaced.
func (j *journal) place(f journalFile) string {
	return filepath.Join(filepath.Dir(j.path), filepath.FromSlash(f.Place))
}

// ready returns the path of the file that takes its place.
func (j *journal) ready(f journalFile) string {
	return filepath.Join(filepath.Dir(j.place(f)), f.Ready)
}

// find returns what the journal says of a file of the estate.
func (j *journal) find(name string) (journalFile, bool) {
	i := slices.IndexFunc(j.Files, func(f journalFile) bool { return sameFile(j.place(f), name) })
	if i < 0 {
		return journalFile{}, false
	}
	return j.Files[i], true
}

// check returns an error if the journal names what is none of the files of the
// estate.
func (j *journal) check(names []string) error {
	for _, f := range j.Files {
		if !slices.ContainsFunc(names, func(name string) bool { return sameFile(j.place(f), name) }) {
			return j.bad("it names %q, which is no file of this estate", f.Place)
		}
	}
	return nil
}

// open opens the version of a file that counts: the one that is ready, or what is in
// its place. done tells that this is the one in its place.
func (j *journal) open(ctx context.Context, f journalFile) (file *os.File, done bool, err error) {
	old, oldDigest, err := openDigest(ctx, j.place(f))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, false, err
	}
	ready, readyDigest, err := openReady(ctx, j.ready(f))
	switch {
	case errors.Is(err, fs.ErrNotExist) && old != nil, err == nil && oldDigest == f.New:
		closeAll(ready)
		return old, true, nil // it is in place
	case err != nil:
		closeAll(old)
		return nil, false, err
	case readyDigest != f.New:
		closeAll(old, ready)
		return nil, false, j.bad("%s does not hold what it says", j.ready(f))
	case oldDigest != f.Old:
		closeAll(old, ready)
		return nil, false, fmt.Errorf(
			"%s has been changed while a change of the estate was not finished; the other version of it is %s: "+
				"put what you want of both into the first, then remove the second and %s",
			j.place(f),
			j.ready(f),
			j.path,
		)
	}
	closeAll(old)
	return ready, false, nil
}

func closeAll(files ...*os.File) {
	for _, f := range files {
		if f != nil {
			f.Close()
		}
	}
}

// openReady opens a file that is ready. It is a file itself, never a link.
func openReady(ctx context.Context, path string) (*os.File, string, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return nil, "", err
	}
	if !info.Mode().IsRegular() {
		return nil, "", &fs.PathError{Op: "open", Path: path, Err: errors.New("this is no regular file")}
	}
	return openDigest(ctx, path)
}

// openDigest opens a file, and returns the digest of what it holds.
func openDigest(ctx context.Context, path string) (*os.File, string, error) {
	f, err := localfile.Open(path)
	if err != nil {
		return nil, "", err
	}
	hash := sha256.New()
	_, err = io.Copy(hash, &localfile.Bounded{Ctx: ctx, R: f, Name: path, Most: maxTable})
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		f.Close()
		return nil, "", err
	}
	return f, hex.EncodeToString(hash.Sum(nil)), nil
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// finish puts the files in place that a writer has left ready. Where one cannot be,
// none is.
func (j *journal) finish(ctx context.Context, names []string) error {
	if err := j.check(names); err != nil || len(j.Files) == 0 {
		return err
	}
	var left []journalFile
	for _, f := range j.Files {
		file, done, err := j.open(ctx, f)
		if err != nil {
			return err
		}
		file.Close()
		if !done {
			left = append(left, f)
		}
	}
	for _, f := range left {
		if err := localfile.Place(j.ready(f), j.place(f)); err != nil {
			return err
		}
	}
	return os.Remove(j.path)
}

// add makes a file ready that is to take the place of the one at path, which holds
// old.
func (j *journal) add(path string, old, data []byte, mode fs.FileMode) error {
	ready, err := localfile.Beside(filepath.Dir(path), readyName+"*", path, data, mode)
	if err != nil {
		return err
	}
	f := journalFile{Ready: filepath.Base(ready), New: digest(data)}
	if old != nil {
		f.Old = digest(old)
	}
	from, err := filepath.Abs(filepath.Dir(j.path))
	if err == nil {
		from, err = filepath.EvalSymlinks(from)
	}
	if err == nil {
		path, err = filepath.Abs(path)
	}
	if err == nil {
		f.Place, err = filepath.Rel(from, path)
	}
	if err != nil {
		os.Remove(ready)
		return err
	}
	f.Place = filepath.ToSlash(f.Place)
	j.Files = append(j.Files, f)
	return nil
}

// forget removes the files that are ready, where the change is not made.
func (j *journal) forget() {
	for _, f := range j.Files {
		os.Remove(j.ready(f))
	}
}

// sweep removes what killed writers have left beside the files of the estate. Only
// who holds the lock may.
func sweep(folder string, names []string) {
	folders := []string{folder}
	for _, name := range names {
		if target, err := filepath.EvalSymlinks(name); err == nil && !slices.Contains(folders, filepath.Dir(target)) {
			folders = append(folders, filepath.Dir(target))
		}
	}
	for _, in := range folders {
		left, _ := filepath.Glob(filepath.Join(in, readyName+"*"))
		for _, path := range left {
			os.Remove(path)
		}
	}
}

// sameFile reports whether two paths lead to the same place.
func sameFile(a, b string) bool {
	resolved := func(path string) (string, error) {
		if target, err := filepath.EvalSymlinks(path); err == nil {
			path = target
		}
		return filepath.Abs(path)
	}
	a, errA := resolved(a)
	b, errB := resolved(b)
	return errA == nil && errB == nil && a == b
}
