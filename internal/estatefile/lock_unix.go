//go:build !windows

package estatefile

import (
	"errors"
	"os"
	"syscall"
)

// tryLock takes the lock on a folder, if nobody has it. The lock is on the folder
// itself and goes with the process, whatever becomes of it.
func tryLock(folder string) (unlock func(), taken bool, err error) {
	f, err := os.Open(folder)
	if err != nil {
		return nil, false, err
	}
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if err == nil {
		return func() { _ = f.Close() }, false, nil
	}
	_ = f.Close()
	return nil, errors.Is(err, syscall.EWOULDBLOCK), err
}
