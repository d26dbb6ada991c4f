package wholefile

import (
	"errors"
	"os"
)

func write(folder, path string, data []byte, _ os.FileMode) error {
	f, err := os.CreateTemp(folder, ".new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}
