//go:build darwin || freebsd || netbsd

package estatefile

import (
	"io/fs"
	"syscall"
)

// identify sets what tells a version of a file from another apart from its size and the time of
// its change, and returns the user whose it is. Changed is when anything about the file was
// changed last, which no program can set.
func (f *sourceFile) identify(info fs.FileInfo) (owner uint32, ok bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if ok {
		f.Device, f.Number, f.Changed = uint64(stat.Dev), uint64(stat.Ino), stat.Ctimespec.Nano()
		owner = stat.Uid
	}
	return owner, ok
}
