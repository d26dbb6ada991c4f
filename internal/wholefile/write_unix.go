//go:build !windows

package wholefile

import (
	"os"

	"github.com/google/renameio/v2"
)

func write(folder, path string, data []byte, mode os.FileMode) error {
	return renameio.WriteFile(path, data, mode, renameio.WithTempDir(folder), renameio.WithExistingPermissions())
}
