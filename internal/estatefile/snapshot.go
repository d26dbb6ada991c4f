package estatefile

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/localfile"
)

// A Snapshot is an estate as its files stood at one time.
type Snapshot struct {
	Digest string // of what the files say, in hexadecimal
	Body   string // the files, as a ZIP archive in Base64
}

// mostSnapshot is the size in bytes of the files of a snapshot, together.
const mostSnapshot = 1 << 30

// ErrTooLarge is what the error is of an estate that is too large for a snapshot.
var ErrTooLarge = errors.New("the estate is too large to be kept")

// Take loads the estate at a path, and returns it with the files that it was loaded from.
func Take(ctx context.Context, path string) (*estate.Estate, Snapshot, error) {
	r := &recorder{files: map[string][]byte{}}
	e, err := LoadFrom(ctx, r, path, nil)
	if err != nil {
		return nil, Snapshot{}, err
	}
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	sum := sha256.New()
	for _, name := range r.order {
		data := r.files[name]
		fmt.Fprintf(sum, "%d %s %d\n", slices.Index(r.main, name), name, len(data))
		sum.Write(data)
		header := &zip.FileHeader{Name: name, Method: zip.Deflate}
		if slices.Contains(r.main, name) {
			header.Comment = mainFile
		}
		f, err := w.CreateHeader(header)
		if err == nil {
			_, err = f.Write(data)
		}
		if err != nil {
			return nil, Snapshot{}, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, Snapshot{}, err
	}
	return e, Snapshot{hex.EncodeToString(sum.Sum(nil)), base64.StdEncoding.EncodeToString(b.Bytes())}, nil
}

// Restore loads the estate of a snapshot.
func Restore(ctx context.Context, body string) (*estate.Estate, error) {
	data, err := base64.StdEncoding.DecodeString(body)
	if err != nil {
		return nil, err
	}
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, err
	}
	return LoadFrom(ctx, &kept{archive}, "", nil)
}

// recorder reads files of the disk and keeps what they hold.
type recorder struct {
	main  []string
	order []string
	files map[string][]byte
	size  int64
}

func (r *recorder) Files(_ context.Context, path string) (main []string, err error) {
	r.main, err = find(path)
	return r.main, err
}

func (r *recorder) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	data, there := r.files[path]
	if !there {
		f, err := localfile.Open(path)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		if data, err = localfile.ReadAll(ctx, f, path, maxTable); err != nil {
			return nil, err
		}
		if r.size += int64(len(data)); r.size > mostSnapshot {
			return nil, fmt.Errorf("%w: its files hold more than %d MiB", ErrTooLarge, mostSnapshot>>20)
		}
		r.files[path] = data
		r.order = append(r.order, path)
	}
	return io.NopCloser(bytes.NewReader(data)), nil
}

// mainFile marks the YAML files of an estate, apart from those that they name.
const mainFile = "main"

// kept is the files of a snapshot.
type kept struct{ archive *zip.Reader }

func (k *kept) Files(context.Context, string) ([]string, error) {
	var main []string
	for _, f := range k.archive.File {
		if f.Comment == mainFile {
			main = append(main, f.Name)
		}
	}
	return main, nil
}

func (k *kept) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	for _, f := range k.archive.File {
		if f.Name != path {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return nil, err
		}
		return readCloser{&localfile.Bounded{Ctx: ctx, R: r, Name: path, Most: mostSnapshot}, r}, nil
	}
	return nil, &os.PathError{Op: "open", Path: path, Err: os.ErrNotExist}
}

type readCloser struct {
	io.Reader
	io.Closer
}
