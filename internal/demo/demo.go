// Package demo holds the demo estate: Kelpmere Ferries, a made-up ferry line,
// as it is written down and as the mail service really has it.
package demo

import (
	"bytes"
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/localfile"
)

//go:embed files
var files embed.FS

// record is the file in which Write notes what it wrote.
const record = ".yorvet-demo"

// Estate is the folder of the estate as it is written down, below the demo's.
const Estate = "estate"

// Changed is a copy of the estate, below the demo's folder, to make changes in.
const Changed = "changed"

var names = []string{Estate, "served", "kelpmere.expect", "mail.log", "volunteers.txt"}

// mostFile is the size in bytes of a file of the demo.
const mostFile = 1 << 20

// Day is the day that the demo plays on: some answers depend on how long ago somebody
// joined.
const Day = "2026-11-23"

// Write writes the demo below dir as it is on Day; see WriteOn.
func Write(ctx context.Context, dir string) error {
	day, err := estate.ParseDay(Day)
	if err != nil {
		return err
	}
	return WriteOn(ctx, dir, day)
}

// WriteOn writes the demo below dir, which it makes if need be, with dates that are as
// far from a day as those of the demo are from Day. It replaces only files that it wrote
// itself and nobody changed since; others are an error that names them, and then nothing
// is written. Neither is anything into a folder that holds something else.
func WriteOn(ctx context.Context, dir string, day estate.Day) error {
	written, err := readRecord(ctx, dir)
	if err != nil {
		return err
	}
	if len(written) == 0 {
		if err := empty(dir); err != nil {
			return err
		}
	}
	names, content, foreign, err := laid(ctx, dir, day, written)
	if err != nil {
		return err
	}
	if len(foreign) > 0 {
		return fmt.Errorf(
			"the demo did not write %s, and does not overwrite it; name another folder",
			strings.Join(foreign, ", "),
		)
	}
	for _, name := range names {
		written[name] = sum(content[name])
	}
	// The record comes first: a file that is ours is always in it.
	if err := writeRecord(dir, written); err != nil {
		return err
	}
	for _, name := range names {
		if err := replace(filepath.Join(dir, filepath.FromSlash(name)), content[name]); err != nil {
			return err
		}
	}
	return nil
}

// laid returns the names of the demo's files, what stands in each as of a day, and which of
// them are somebody else's in a folder where some were written before.
func laid(
	ctx context.Context, dir string, day estate.Day, written map[string]string,
) (names []string, content map[string][]byte, foreign []string, err error) {
	content = map[string][]byte{}
	err = fs.WalkDir(files, "files", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		data = shifted(data, day)
		name := strings.TrimPrefix(path, "files/")
		all := []string{name}
		if rest, ok := strings.CutPrefix(name, Estate+"/"); ok {
			all = append(all, Changed+"/"+rest)
		}
		for _, name := range all {
			names = append(names, name)
			content[name] = data
			ours, err := isOurs(ctx, filepath.Join(dir, filepath.FromSlash(name)), data, written[name])
			if err != nil {
				return err
			}
			if !ours {
				foreign = append(foreign, filepath.Join(dir, filepath.FromSlash(name)))
			}
		}
		return nil
	})
	return names, content, foreign, err
}

// empty returns an error if there is something in a folder.
func empty(dir string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && len(entries) > 0 {
		return fmt.Errorf("%s holds other files, such as %s; name a new folder", dir, entries[0].Name())
	}
	return err
}

// date is where a date stands that is shifted: since when somebody is a member, and that of a
// line of a log.
var date = regexp.MustCompile(`(?m)(since: |^)\d{4}-\d{2}-\d{2}`)

// shifted returns a file with its dates as far from a day as they are from Day.
func shifted(data []byte, day estate.Day) []byte {
	base, _ := estate.ParseDay(Day)
	return date.ReplaceAllFunc(data, func(found []byte) []byte {
		at := len(found) - len(Day)
		was, err := estate.ParseDay(string(found[at:]))
		if err != nil {
			return found
		}
		return append(found[:at:at], (was + day - base).String()...)
	})
}

// Remember notes that the files in Changed are the demo's own as they are now.
func Remember(ctx context.Context, dir string) error {
	written, err := readRecord(ctx, dir)
	if err != nil {
		return err
	}
	for name := range written {
		if strings.HasPrefix(name, Changed+"/") {
			data, err := localfile.Read(ctx, filepath.Join(dir, filepath.FromSlash(name)), mostFile)
			if err != nil {
				return err
			}
			written[name] = sum(data)
		}
	}
	return writeRecord(dir, written)
}

func writeRecord(dir string, written map[string]string) error {
	var list strings.Builder
	for _, name := range slices.Sorted(maps.Keys(written)) {
		fmt.Fprintf(&list, "%s %s\n", written[name], name)
	}
	return replace(filepath.Join(dir, record), []byte(list.String()))
}

// isOurs reports whether a file does not exist, or is one that Write wrote.
func isOurs(ctx context.Context, path string, data []byte, hash string) (bool, error) {
	info, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	if err != nil || !info.Mode().IsRegular() {
		return false, err
	}
	old, err := localfile.Read(ctx, path, mostFile)
	if err != nil {
		return false, err
	}
	return bytes.Equal(old, data) || sum(old) == hash, nil
}

// readRecord returns the hashes of the files that were written below dir.
func readRecord(ctx context.Context, dir string) (map[string]string, error) {
	data, err := localfile.Read(ctx, filepath.Join(dir, record), mostFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	written := map[string]string{}
	for line := range strings.Lines(string(data)) {
		if hash, name, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			written[name] = hash
		}
	}
	return written, nil
}

func sum(data []byte) string {
	hash := sha256.Sum256(data)
	return hex.EncodeToString(hash[:])
}

// replace writes a file in one step.
func replace(path string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return localfile.Write(path, data, 0o644)
}
