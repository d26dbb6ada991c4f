package estatefile

import (
	"errors"
	"os"
	"path/filepath"
)

// tryLock takes the lock on a folder, if nobody has it: a file that is there as long
// as the lock is. One that a killed process has left has to be removed by hand.
func tryLock(folder string) (unlock func(), taken bool, err error) {
	path := filepath.Join(folder, ".yorvet-lock")
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, errors.Is(err, os.ErrExist), err
	}
	return func() {
		_ = f.Close()
		_ = os.Remove(path)
	}, false, nil
}
