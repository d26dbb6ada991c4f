package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// documents go with every program.
var documents = []string{"LICENSE", "NOTICE", "README.md", "CHANGELOG.md"}

// entry is a file of an archive.
type entry struct {
	name string
	mode int64
	data []byte
}

// archive packs a program with its documents, man pages, completions and what is built in:
// as zip for Windows, tar.gz for the others.
func (b *build) archive(name, program, extras string, bom []byte) error {
	entries := []entry{{name: "yorvet.cdx.json", mode: 0o644, data: bom}}
	add := func(as, path string, mode int64) error {
		data, err := os.ReadFile(path)
		entries = append(entries, entry{as, mode, data})
		return err
	}
	if err := add(filepath.Base(program), program, 0o755); err != nil {
		return err
	}
	for _, document := range documents {
		if err := add(document, filepath.Join(b.root, document), 0o644); err != nil {
			return err
		}
	}
	for _, pattern := range []string{"man/*.1", "yorvet.*"} {
		paths, err := filepath.Glob(filepath.Join(extras, pattern))
		if err != nil {
			return err
		}
		for _, path := range paths {
			as := "completions/" + filepath.Base(path)
			if strings.HasSuffix(path, ".1") {
				as = "man/" + filepath.Base(path)
			}
			if err := add(as, path, 0o644); err != nil {
				return err
			}
		}
	}
	slices.SortFunc(entries, func(x, y entry) int { return strings.Compare(x.name, y.name) })
	var packed []byte
	var err error
	if strings.Contains(name, "-windows-") {
		packed, err = b.zipped(name, entries)
		name += ".zip"
	} else {
		packed, err = b.tarred(name, entries)
		name += ".tar.gz"
	}
	if err != nil {
		return err
	}
	b.files = append(b.files, name)
	return os.WriteFile(filepath.Join(b.to, name), packed, 0o644)
}

func (b *build) tarred(folder string, entries []entry) ([]byte, error) {
	var out bytes.Buffer
	squeezed, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	w := tar.NewWriter(squeezed)
	for _, e := range entries {
		header := &tar.Header{Name: folder + "/" + e.name, Mode: e.mode, Size: int64(len(e.data)), ModTime: b.when,
			Format: tar.FormatPAX}
		if err := w.WriteHeader(header); err != nil {
			return nil, err
		}
		if _, err := w.Write(e.data); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(w.Close(), squeezed.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func (b *build) zipped(folder string, entries []entry) ([]byte, error) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, e := range entries {
		header := &zip.FileHeader{Name: folder + "/" + e.name, Method: zip.Deflate, Modified: b.when}
		header.SetMode(os.FileMode(e.mode))
		f, err := w.CreateHeader(header)
		if err != nil {
			return nil, err
		}
		if _, err := f.Write(e.data); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// sums writes the sums of all files (SHA-256), as sha256sum -c reads them, and removes what
// is not handed out.
func (b *build) sums() error {
	if err := os.RemoveAll(filepath.Join(b.to, "extras")); err != nil {
		return err
	}
	slices.Sort(b.files)
	var list strings.Builder
	for _, name := range b.files {
		data, err := os.ReadFile(filepath.Join(b.to, name))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		list.WriteString(hex.EncodeToString(sum[:]) + "  " + name + "\n")
	}
	return os.WriteFile(filepath.Join(b.to, "sums.txt"), []byte(list.String()), 0o644)
}
