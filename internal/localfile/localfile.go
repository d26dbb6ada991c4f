// Package localfile reads and writes files of this machine with bounds. Only
// regular files are read, as much of them as the caller allows, and no longer than
// the caller waits. A file is written whole or not at all, and keeps its owner,
// group and permissions.
package localfile

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"
)

// ErrTooLarge is what the errors are of a file that holds more than is read of it.
var ErrTooLarge = errors.New("the file is too large")

// Open opens a regular file for reading; symbolic links are followed. Anything
// else, such as a pipe or a device, is refused without waiting for it: the error is
// an *fs.PathError, as for a file that cannot be opened.
func Open(path string) (*os.File, error) {
	info, err := os.Stat(path)
	if bad := (*fs.PathError)(nil); errors.As(err, &bad) {
		bad.Op = "open"
	}
	if err != nil {
		return nil, err
	}
	if err := regular(path, info); err != nil {
		return nil, err
	}
	// What is there may have become a pipe since: do not wait for its other end.
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if info, err = f.Stat(); err == nil {
		err = regular(path, info)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// regular returns an error for what is no regular file.
func regular(path string, info fs.FileInfo) error {
	if info.Mode().IsRegular() {
		return nil
	}
	return &fs.PathError{Op: "open", Path: path, Err: errors.New("this is " + kind(info.Mode()) + ", expected a file")}
}

// kind names what is no regular file.
func kind(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "a folder"
	case mode&fs.ModeNamedPipe != 0:
		return "a pipe"
	case mode&fs.ModeSocket != 0:
		return "a socket"
	case mode&fs.ModeDevice != 0:
		return "a device"
	}
	return "no regular file"
}

// Read reads a regular file of most bytes at most. More is an error that wraps
// ErrTooLarge; it is noticed while reading, whatever size the file claims.
func Read(ctx context.Context, path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return ReadAll(ctx, f, path, most)
}

// ReadAll reads what a reader gives, most bytes at most, as Read does; name is
// what it is called in errors.
func ReadAll(ctx context.Context, r io.Reader, name string, most int64) ([]byte, error) {
	data, err := io.ReadAll(&Bounded{Ctx: ctx, R: r, Name: name, Most: most})
	if err != nil {
		return nil, err
	}
	return data, nil
}

// A Bounded reader gives what another one gives, until there is too much of it or
// ctx ends. It implements io.Reader.
type Bounded struct {
	Ctx  context.Context
	R    io.Reader
	Name string // for errors
	Most int64  // bytes; 0: any number

	read int64
}

// Read reads; it fails with an error of ctx, or one that wraps ErrTooLarge.
func (b *Bounded) Read(p []byte) (int, error) {
	if err := b.Ctx.Err(); err != nil {
		return 0, err
	}
	n, err := b.R.Read(p)
	if b.read += int64(n); b.Most > 0 && b.read > b.Most {
		return 0, fmt.Errorf("%s: %w, expected %s at most", b.Name, ErrTooLarge, size(b.Most))
	}
	return n, err
}

// size words a number of bytes.
func size(n int64) string {
	if n >= 1<<20 {
		return fmt.Sprintf("%d MiB", n>>20)
	}
	return fmt.Sprintf("%d KiB", n>>10)
}

// Standard returns standard input as a reader that ends with ctx: a wait for
// somebody who types does not hold up the end of the program. Only one of them can
// be used at a time.
func Standard(ctx context.Context) io.ReadCloser {
	r, w := io.Pipe()
	stop := context.AfterFunc(ctx, func() { w.CloseWithError(ctx.Err()) })
	go func() {
		_, err := io.Copy(w, os.Stdin)
		w.CloseWithError(err)
		stop()
	}()
	return r
}
