package localfile

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
)

// What is no regular file is refused by its kind, at once: nobody waits for the
// other end of a pipe.
func TestOpenRefusesKinds(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there are no such files")
	}
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe")
	if err := exec.Command("mkfifo", pipe).Run(); err != nil {
		t.Fatal(err)
	}
	link := filepath.Join(dir, "link")
	if err := os.Symlink(pipe, link); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{pipe: "a pipe", link: "a pipe", dir: "a folder", "/dev/zero": "a device", "/dev/null": "a device"} {
		_, err := Read(t.Context(), path, 100) // which waits forever where it opens a pipe
		var bad *fs.PathError
		if !errors.As(err, &bad) || bad.Path != path || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", path, err, want)
		}
	}
	if _, err := Read(t.Context(), filepath.Join(dir, "none"), 100); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("err = %v", err)
	}
}

// endless gives bytes for as long as it is asked.
type endless struct{ given int64 }

func (e *endless) Read(p []byte) (int, error) {
	e.given += int64(len(p))
	return len(p), nil
}

// A size is checked while reading.
func TestReadAllStops(t *testing.T) {
	e := &endless{}
	if _, err := ReadAll(t.Context(), e, "x", 1<<20); !errors.Is(err, ErrTooLarge) || err.Error() != "x: the file is too large, expected 1 MiB at most" {
		t.Errorf("err = %v", err)
	}
	if e.given > 4<<20 {
		t.Errorf("%d bytes were read", e.given)
	}
	path := filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(path, []byte("12345"), 0o600); err != nil {
		t.Fatal(err)
	}
	if data, err := Read(t.Context(), path, 5); err != nil || string(data) != "12345" {
		t.Errorf("%q %v", data, err)
	}
	if _, err := Read(t.Context(), path, 4); !errors.Is(err, ErrTooLarge) {
		t.Errorf("err = %v", err)
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if _, err := ReadAll(ctx, e, "x", 0); !errors.Is(err, context.Canceled) {
		t.Errorf("err = %v", err)
	}
}

// Reading standard input ends with ctx, though nobody types.
func TestStandardEnds(t *testing.T) {
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	was := os.Stdin
	os.Stdin = r
	defer func() { os.Stdin = was }()
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, stop)
	if _, err := ReadAll(ctx, Standard(ctx), "standard input", 100); !errors.Is(err, context.Canceled) {
		t.Errorf("err = %v", err)
	}
}

// A file keeps its owner, group and permissions, or stays as it is.
func TestWriteKeepsOwner(t *testing.T) {
	if runtime.GOOS == "windows" || os.Geteuid() != 0 {
		t.Skip("only root may give files away")
	}
	path := filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(path, []byte("one"), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(path, 4321, 1234); err != nil {
		t.Fatal(err)
	}
	if err := Write(path, []byte("two"), 0o600); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(path)
	if err != nil {
		t.Fatal(err)
	}
	stat := reflect.Indirect(reflect.ValueOf(info.Sys()))
	if uid, gid := stat.FieldByName("Uid").Uint(), stat.FieldByName("Gid").Uint(); uid != 4321 || gid != 1234 || info.Mode().Perm() != 0o640 {
		t.Errorf("it belongs to %d:%d with %v", uid, gid, info.Mode())
	}
}

// A command is trusted to a file only if nobody else can have written it.
func TestTrusted(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("Windows keeps that elsewhere")
	}
	dir := filepath.Join(t.TempDir(), "a")
	path := filepath.Join(dir, "b", "x")
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	link := filepath.Join(t.TempDir(), "link")
	if err := os.Symlink(path, link); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		path, change string
		mode         fs.FileMode
		want         string // part of the error, or ""
	}{
		{path, path, 0o644, ""},
		{path, path, 0o664, "others may write " + path},
		{path, path, 0o646, "others may write " + path},
		{path, path, 0o600, ""},
		{path, filepath.Dir(path), 0o775, "others may write " + filepath.Dir(path)},
		{path, filepath.Dir(path), 0o755 | fs.ModeSticky, ""},
		{path, filepath.Dir(path), 0o777 | fs.ModeSticky, ""},
		{path, dir, 0o757, "others may write " + dir},
		{link, path, 0o600, "others may write " + dir},
		{link, dir, 0o755, ""},
	} {
		if err := os.Chmod(test.change, test.mode); err != nil {
			t.Fatal(err)
		}
		if err := Trusted(test.path); (err == nil) != (test.want == "") || err != nil && err.Error() != test.want {
			t.Errorf("%s with %v: %v, want %q", test.change, test.mode, err, test.want)
		}
	}
	if os.Geteuid() == 0 {
		if err := os.Chown(dir, 4321, 0); err != nil {
			t.Fatal(err)
		}
		if err := Trusted(path); err == nil || err.Error() != dir+" belongs to another user" {
			t.Errorf("err = %v", err)
		}
	}
}

// What killed writers have left goes, once it is certain that they were killed.
func TestStaleFilesGo(t *testing.T) {
	dir := t.TempDir()
	for name, age := range map[string]time.Duration{unready + "old": 2 * staleAfter, unready + "new": 0, "other": 2 * staleAfter} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, time.Time{}, clock.Machine().Add(-age)); err != nil {
			t.Fatal(err)
		}
	}
	if err := Write(filepath.Join(dir, "x"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	var names []string
	list, _ := os.ReadDir(dir)
	for _, one := range list {
		names = append(names, one.Name())
	}
	if got := strings.Join(names, " "); got != unready+"new other x" {
		t.Errorf("there is %s", got)
	}
}
