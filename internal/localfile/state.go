package localfile

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
)

// StateFolder returns where programs keep what they know of the user's work.
func StateFolder() (string, error) {
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "yorvet"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", errors.New("there is no folder for it: neither XDG_STATE_HOME nor a home is set")
	}
	switch runtime.GOOS {
	case "windows", "darwin":
		dir, err := os.UserConfigDir()
		return filepath.Join(dir, "yorvet"), err
	}
	return filepath.Join(home, ".local", "state", "yorvet"), nil
}
