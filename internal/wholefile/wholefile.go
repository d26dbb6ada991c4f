// Package wholefile writes files that are there whole, or not at all: a new one
// takes the place of the old one in a single step.
package wholefile

import (
	"os"
	"path/filepath"
)

// Write writes a file. One that is there keeps its permissions; mode is for a new
// one, before the umask.
func Write(path string, data []byte, mode os.FileMode) error {
	return WriteVia(filepath.Dir(path), path, data, mode)
}

// WriteVia is Write where the file comes up in a folder of the same file system
// before it takes its place.
func WriteVia(folder, path string, data []byte, mode os.FileMode) error {
	return write(folder, path, data, mode)
}
