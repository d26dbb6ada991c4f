package localfile

import (
	"os"
	"path/filepath"
)

// Short returns a path as seen from the current folder, if it is below it.
func Short(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if real, err := filepath.EvalSymlinks(here); err == nil {
		here = real
	}
	if short, err := filepath.Rel(here, path); err == nil && filepath.IsLocal(short) {
		return short
	}
	return path
}
