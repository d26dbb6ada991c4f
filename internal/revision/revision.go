// Package revision reads files of a revision of the git repository around the
// current folder, straight from its objects: nothing is checked out, and nothing
// that the repository configures is run, such as filters, hooks, monitors, diff
// drivers or transports.
package revision

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/localfile"
)

// mostListing is the size in bytes of a listing of one folder that is read.
const mostListing = 64 << 20

// A Tree is the files of one revision.
type Tree struct {
	tree   string // object name
	prefix string // of the current folder in the tree, "" or ending in a slash
}

// Open finds a revision, by any name that git knows for it. One that begins with a
// hyphen is an error, as is a folder outside of any repository.
func Open(ctx context.Context, revision string) (*Tree, error) {
	if revision == "" || strings.HasPrefix(revision, "-") || strings.ContainsAny(revision, "\x00\n") {
		return nil, errors.New("expected the name of a revision")
	}
	prefix, err := run(ctx, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	tree, err := run(ctx, "rev-parse", "--quiet", "--verify", "--end-of-options", revision+"^{tree}")
	if err != nil {
		return nil, fmt.Errorf("the git repository has no revision %q", revision)
	}
	return &Tree{tree: strings.TrimSpace(tree), prefix: strings.TrimSuffix(prefix, "\n")}, nil
}

// entry is one entry of a listing of a tree.
type entry struct {
	path   string // from the root of the tree
	isFile bool
	object string
	size   int64 // bytes of a file
}

// Files returns the paths of the *.yaml files in a folder, sorted, or the path
// itself where that is a file. Paths are seen from the current folder.
func (t *Tree) Files(ctx context.Context, name string) ([]string, error) {
	at, err := t.inTree(name)
	if err != nil {
		return nil, err
	}
	if at != "." {
		one, err := t.entry(ctx, name, at)
		if err != nil {
			return nil, err
		}
		if one.isFile {
			return []string{name}, nil
		}
		at += "/"
	} else {
		at = ""
	}
	list, err := t.list(ctx, at)
	if err != nil {
		return nil, err
	}
	var files []string
	for _, e := range list {
		if e.isFile && strings.HasSuffix(e.path, ".yaml") {
			files = append(files, filepath.Join(name, path.Base(e.path)))
		}
	}
	if len(files) == 0 {
		return nil, &fs.PathError{Op: "read", Path: name, Err: errors.New("the folder holds no *.yaml file")}
	}
	slices.Sort(files)
	return files, nil
}

// Open opens a file for reading. Its path is seen from the current folder, and
// within the repository.
func (t *Tree) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	at, err := t.inTree(name)
	if err != nil {
		return nil, err
	}
	e, err := t.entry(ctx, name, at)
	if err != nil {
		return nil, err
	}
	if !e.isFile {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("this is no regular file")}
	}
	ctx, stop := context.WithCancel(ctx)
	cmd := command(ctx, "cat-file", "blob", e.object)
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		stop()
		return nil, err
	}
	return &blob{Reader: io.LimitReader(out, e.size), cmd: cmd, stop: stop}, nil
}

// blob is a file that git writes to us.
type blob struct {
	io.Reader
	cmd  *exec.Cmd
	stop func()
}

// Close ends git, whether or not all has been read.
func (b *blob) Close() error {
	b.stop()
	_ = b.cmd.Wait()
	return nil
}

// inTree returns a path as it is in the tree.
func (t *Tree) inTree(name string) (string, error) {
	if filepath.IsAbs(name) || strings.ContainsRune(name, 0) {
		return "", &fs.PathError{Op: "open", Path: name, Err: errors.New("expected a path within the repository")}
	}
	at := path.Join(t.prefix, filepath.ToSlash(name))
	if at == ".." || strings.HasPrefix(at, "../") {
		return "", &fs.PathError{Op: "open", Path: name, Err: errors.New("expected a path within the repository")}
	}
	return at, nil
}

// entry returns what is at a path of the tree.
func (t *Tree) entry(ctx context.Context, name, at string) (entry, error) {
	list, err := t.list(ctx, at)
	if err != nil {
		return entry{}, err
	}
	for _, e := range list {
		if e.path == at {
			return e, nil
		}
	}
	return entry{}, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

// list lists what is at a path of the tree, or, with a slash at its end, in it.
func (t *Tree) list(ctx context.Context, at string) ([]entry, error) {
	args := []string{"ls-tree", "-z", "-l", "--full-tree", t.tree}
	if at != "" {
		args = append(args, "--", at)
	}
	out, err := run(ctx, args...)
	if err != nil {
		return nil, err
	}
	var list []entry
	for line := range strings.SplitSeq(strings.TrimSuffix(out, "\x00"), "\x00") {
		about, name, ok := strings.Cut(line, "\t")
		fields := strings.Fields(about)
		if !ok || len(fields) != 4 {
			continue
		}
		regular := fields[0] == "100644" || fields[0] == "100755"
		e := entry{path: name, isFile: regular, object: fields[2]}
		e.size, _ = strconv.ParseInt(fields[3], 10, 64)
		list = append(list, e)
	}
	return list, nil
}

// command returns a command of git that runs nothing that a repository names.
func command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(
		ctx,
		"git",
		append([]string{"--no-pager", "--no-replace-objects", "--literal-pathspecs", "--no-optional-locks",
			"-c", "core.fsmonitor=false", "-c", "core.hooksPath=" +
				os.DevNull, "-c", "diff.external=", "-c", "protocol.allow=never"}, args...)...)
	cmd.Env = append(os.Environ(), "GIT_NO_LAZY_FETCH=1", "GIT_TERMINAL_PROMPT=0", "GIT_EXTERNAL_DIFF=", "LC_ALL=C")
	return cmd
}

// run runs a command of git, and returns what it writes.
func run(ctx context.Context, args ...string) (string, error) {
	cmd := command(ctx, args...)
	var problem bytes.Buffer
	cmd.Stderr = &problem
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if errors.Is(err, exec.ErrNotFound) {
		return "", errors.New("git is not installed")
	}
	if err != nil {
		return "", err
	}
	data, readErr := localfile.ReadAll(ctx, out, "the listing of git", mostListing)
	if readErr != nil {
		_ = cmd.Process.Kill()
	}
	err = cmd.Wait()
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case readErr != nil:
		return "", readErr
	case err != nil && strings.Contains(problem.String(), "not a git repository"):
		return "", errors.New("this folder is not in a git repository")
	case err != nil:
		line, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(problem.String()), "fatal: "), "\n")
		return "", fmt.Errorf("git cannot read it: %s", line)
	}
	return string(data), nil
}

// A Commit is one that touched some files.
type Commit struct {
	Name   string // of the object
	Author string
	Time   time.Time
}

// Commits returns the commits up to HEAD that touched what is at a path since a time, the newest
// first, most of them at most.
func Commits(ctx context.Context, path string, since time.Time, most int) ([]Commit, error) {
	out, err := run(ctx, "-c", "log.showSignature=false", "log", "--no-show-signature", "--no-ext-diff", "--no-textconv",
		"--no-color", "--no-notes", "--no-patch", "--format=%H%x1f%an%x1f%aI", "--since="+since.UTC().Format(time.RFC3339),
		"--max-count="+strconv.Itoa(most), "--end-of-options", "HEAD", "--", path)
	if err != nil {
		return nil, err
	}
	var list []Commit
	for line := range strings.Lines(out) {
		fields := strings.Split(strings.TrimSuffix(line, "\n"), "\x1f")
		if len(fields) != 3 {
			return nil, errors.New("git lists its commits in a way that is not understood")
		}
		at, err := time.Parse(time.RFC3339, fields[2])
		if err != nil {
			return nil, err
		}
		list = append(list, Commit{fields[0], fields[1], at})
	}
	return list, nil
}
