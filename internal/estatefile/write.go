package estatefile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/google/renameio/v2"
)

// lockPatience is how long a writer waits for another.
const lockPatience = 10 * time.Second

// lock keeps others from writing the estate in a folder. The lock is on the
// folder itself and goes with the process, whatever becomes of it.
func lock(folder string) (unlock func(), err error) {
	f, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	for end := time.Now().Add(lockPatience); ; time.Sleep(20 * time.Millisecond) {
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			return func() { _ = f.Close() }, nil
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) || time.Now().After(end) {
			_ = f.Close()
			return nil, fmt.Errorf("somebody else is changing the estate in %s; nothing is written: %w", folder, err)
		}
	}
}

// writeAll writes files, each whole or not at all. A file that is there keeps
// its permissions; a symbolic link keeps pointing at what is written.
func writeAll(folder string, files map[string][]byte) error {
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		path, mode := name, os.FileMode(0o644)
		if target, err := filepath.EvalSymlinks(name); err == nil {
			path = target
		}
		if info, err := os.Stat(path); err == nil {
			mode = info.Mode().Perm()
		}
		if err := renameio.WriteFile(path, files[name], mode, renameio.WithExistingPermissions(), renameio.WithTempDir(filepath.Dir(path))); err != nil {
			return fmt.Errorf("%s: %w", strings.TrimPrefix(name, folder+string(filepath.Separator)), err)
		}
	}
	return nil
}
