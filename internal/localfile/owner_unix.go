//go:build !windows

package localfile

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// keep gives a new file the owner, group and permissions of the one whose place it
// is to take.
func keep(f *os.File, place string, old fs.FileInfo) error {
	had, ok := old.Sys().(*syscall.Stat_t)
	if !ok {
		return f.Chmod(old.Mode().Perm())
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	has, ok := info.Sys().(*syscall.Stat_t)
	if ok && (has.Uid != had.Uid || has.Gid != had.Gid) {
		if err := f.Chown(int(had.Uid), int(had.Gid)); err != nil {
			return fmt.Errorf("%s belongs to user %d and group %d, which a new version would not: %w",
				place, had.Uid, had.Gid, err)
		}
	}
	return f.Chmod(old.Mode().Perm())
}

// Names returns how many names (hard links) a file has.
func Names(info fs.FileInfo) int {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(stat.Nlink)
	}
	return 1
}

// Ours returns an error where a file belongs to another user, or others may write it; private also
// where they may read it.
func Ours(path string, info fs.FileInfo, private bool) error {
	others := fs.FileMode(0o022)
	if private {
		others = 0o077
	}
	if stat, ok := info.Sys().(*syscall.Stat_t); ok && int(stat.Uid) != os.Geteuid() {
		return fmt.Errorf("%s belongs to another user", path)
	}
	if mode := info.Mode().Perm(); mode&others != 0 {
		return fmt.Errorf("%s is open to others (its mode is %04o); run chmod 600 %s", path, mode, path)
	}
	return nil
}

func syncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return nil // what is in its place is not taken back for that
	}
	defer d.Close()
	_ = d.Sync() // some file systems cannot
	return nil
}

// Trusted returns an error where others than the user and root may decide what is
// in a file: by writing it or any folder above it, or by changing a symbolic link
// on the way. A folder in which nobody can take away what is not theirs (the sticky
// bit) is no such.
func Trusted(path string) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	target, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	if err := trustedWay(path); err != nil {
		return err
	}
	return trustedWay(target)
}

// trustedWay looks at a path and all folders above it.
func trustedWay(path string) error {
	for at := path; ; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		if err != nil {
			return err
		}
		stat, ok := info.Sys().(*syscall.Stat_t)
		if !ok {
			return fmt.Errorf("who may write %s cannot be told", at)
		}
		const othersWrite = 0o022
		switch mode := info.Mode(); {
		case stat.Uid != 0 && int(stat.Uid) != os.Geteuid():
			return fmt.Errorf("%s belongs to another user", at)
		case mode&fs.ModeSymlink != 0 || mode.Perm()&othersWrite == 0:
		case mode.IsDir() && mode&fs.ModeSticky != 0:
		default:
			return fmt.Errorf("others may write %s", at)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}
