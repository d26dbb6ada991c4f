//go:build !windows

package estatefile

import (
	"os"
	"syscall"
)

// mapped returns the first bytes of a file, which the system reads when they are asked for.
// They stay for as long as the program runs.
func mapped(f *os.File, size int) ([]byte, error) {
	return syscall.Mmap(int(f.Fd()), 0, size, syscall.PROT_READ, syscall.MAP_PRIVATE)
}
