package estatefile

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/clock"
)

// An entry of a cache is a file: a header of one page, the compiled estate, and what is known
// of its files, as JSON.
const (
	compiledSuffix = ".compiled"
	newEntry       = ".new-" // how the names of entries begin that are being written
	entryMagic     = "yorvet compiled estate 1\n"
	entryPage      = 4096
	mostKnown      = 16 << 20 // bytes of what is known
	sumBlock       = 1 << 22  // bytes that have a sum of their own
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

var errNoEntry = errors.New("this is no entry of a cache")

// openOwn opens an entry, if it and its folder are the user's own and nobody else can change
// them.
func openOwn(folder, path string) (*os.File, error) {
	if info, err := os.Lstat(folder); err != nil || !info.IsDir() || !isOwn(info) {
		return nil, errNoEntry
	}
	if info, err := os.Lstat(path); err != nil || !info.Mode().IsRegular() {
		return nil, errNoEntry
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() || !isOwn(info) {
		f.Close()
		return nil, errNoEntry
	}
	return f, nil
}

// isOwn reports whether something is the user's, and nobody else can read or change it.
func isOwn(info fs.FileInfo) bool {
	owner, ok := (&sourceFile{}).identify(info)
	return ok && int(owner) == os.Geteuid() && info.Mode().Perm()&0o077 == 0
}

// readEntry returns what an entry knows, and its compiled estate.
func readEntry(f *os.File) (*cached, []byte, error) {
	var header [entryPage]byte
	if _, err := f.ReadAt(header[:], 0); err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, nil, err
	}
	fields := header[len(entryMagic):]
	size, known := binary.LittleEndian.Uint64(fields), binary.LittleEndian.Uint64(fields[8:])
	if string(header[:len(entryMagic)]) != entryMagic || known > mostKnown || size > 1<<40 ||
		entryPage+size+known != uint64(info.Size()) {
		return nil, nil, errNoEntry
	}
	text := make([]byte, known)
	if _, err := f.ReadAt(text, int64(entryPage+size)); err != nil {
		return nil, nil, err
	}
	one := &cached{}
	if crc32.Checksum(text, castagnoli) != binary.LittleEndian.Uint32(fields[16:]) {
		return nil, nil, errNoEntry
	}
	if err := json.Unmarshal(text, one); err != nil {
		return nil, nil, err
	}
	data, err := mapped(f, int(entryPage+size))
	if err != nil {
		return nil, nil, err
	}
	return one, data[entryPage:], nil
}

// isWhole reports whether the compiled estate of an entry is as it was written. It reads what the
// file holds rather than what is mapped: that would all count as memory of the program.
func (one *cached) isWhole(f *os.File, size int) bool {
	if len(one.Sums) != (size+sumBlock-1)/sumBlock {
		return false
	}
	workers := runtime.GOMAXPROCS(0)
	var group sync.WaitGroup
	wrong := make([]bool, workers)
	for worker := range workers {
		group.Go(func() {
			buffer := make([]byte, 1<<17)
			for block := worker; block < len(one.Sums); block += workers {
				sum := uint32(0)
				for at := block * sumBlock; at < min((block+1)*sumBlock, size); at += len(buffer) {
					part := buffer[:min(len(buffer), size-at)]
					if _, err := f.ReadAt(part, int64(entryPage+at)); err != nil {
						wrong[worker] = true
						return
					}
					sum = crc32.Update(sum, castagnoli, part)
				}
				wrong[worker] = wrong[worker] || sum != one.Sums[block]
			}
		})
	}
	group.Wait()
	return !slices.Contains(wrong, true)
}

// sums takes the sum of each block of what is written.
type sums struct {
	list []uint32
	size int
}

// Write adds to what is summed. It implements io.Writer.
func (s *sums) Write(p []byte) (int, error) {
	written := len(p)
	for len(p) > 0 {
		if s.size%sumBlock == 0 {
			s.list = append(s.list, 0)
		}
		n := min(len(p), sumBlock-s.size%sumBlock)
		last := len(s.list) - 1
		s.list[last] = crc32.Update(s.list[last], castagnoli, p[:n])
		s.size += n
		p = p[n:]
	}
	return written, nil
}

// write writes an entry, whole or not at all.
func (c *Cache) write(ctx context.Context, one *cached) error {
	if err := os.MkdirAll(c.folder, 0o700); err != nil {
		return err
	}
	if info, err := os.Lstat(c.folder); err != nil || !isOwn(info) {
		return errNoEntry
	}
	f, err := os.CreateTemp(c.folder, newEntry+"*")
	if err != nil {
		return err
	}
	if err = errors.Join(one.writeTo(ctx, f), f.Close()); err == nil {
		err = os.Rename(f.Name(), c.name(one))
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

func (one *cached) writeTo(ctx context.Context, f *os.File) error {
	if _, err := f.Seek(entryPage, io.SeekStart); err != nil {
		return err
	}
	var sum sums
	w := bufio.NewWriterSize(io.MultiWriter(f, &sum), 1<<17)
	for piece := range one.e.Compiled() {
		if _, err := w.Write(piece); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	one.Sums = sum.list
	known, err := json.Marshal(one)
	if err != nil {
		return err
	}
	if _, err := f.Write(known); err != nil {
		return err
	}
	header := binary.LittleEndian.AppendUint64([]byte(entryMagic), uint64(sum.size))
	header = binary.LittleEndian.AppendUint64(header, uint64(len(known)))
	header = binary.LittleEndian.AppendUint32(header, crc32.Checksum(known, castagnoli))
	_, err = f.WriteAt(header, 0)
	return err
}

// sweep removes entries beyond those that were written last, and what killed writers left.
func (c *Cache) sweep() {
	list, err := os.ReadDir(c.folder)
	if err != nil {
		return
	}
	type entry struct {
		name    string
		written time.Time
	}
	var entries []entry
	for _, one := range list {
		info, err := one.Info()
		switch {
		case err != nil || !info.Mode().IsRegular():
		case strings.HasSuffix(one.Name(), compiledSuffix):
			entries = append(entries, entry{one.Name(), info.ModTime()})
		case strings.HasPrefix(one.Name(), newEntry) && clock.Machine().Sub(info.ModTime()) > time.Hour:
			os.Remove(filepath.Join(c.folder, one.Name()))
		}
	}
	slices.SortFunc(entries, func(a, b entry) int { return b.written.Compare(a.written) })
	for _, one := range entries[min(len(entries), mostCached):] {
		os.Remove(filepath.Join(c.folder, one.name))
	}
}
