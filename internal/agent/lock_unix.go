//go:build unix

package agent

import (
	"os"
	"syscall"
)

// lock takes a file for this process, if no other one has it; the system frees it with the process.
func lock(f *os.File) bool {
	return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil
}
