//go:build unix

package agent

import (
	"errors"
	"syscall"
)

// isAlive reports whether a process of this machine is there.
func isAlive(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
