package estatefile

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/localfile"
)

// A Cache keeps large estates in compiled form in a folder of the user's own, so that one
// that has not changed since is there at once. What it keeps is believed only while every
// file of the estate is the one that was read: by size, times and number, and where those
// leave a doubt, by a digest. A Cache is for one run of the program, and for one goroutine.
type Cache struct {
	folder  string
	program string    // which this is: another one may read an estate otherwise
	fresh   []*cached // estates that were loaded, and are not in the folder yet
	off     bool
	now     func() time.Time // the machine's clock, which files go by
}

// The bounds of a cache.
const (
	leastCached = 1 << 20         // bytes of an estate's files: smaller ones are loaded as fast
	mostCached  = 8               // entries that stay when one is added
	doubtful    = 2 * time.Second // a file that was changed so shortly before it was read may have been changed again
)

// NewCache returns a cache in a folder, which is made when it is needed. version is that of the
// program.
func NewCache(folder, version string) *Cache {
	c := &Cache{folder: folder, now: clock.Machine}
	path, err := os.Executable()
	var info fs.FileInfo
	if err == nil {
		info, err = os.Stat(path)
	}
	if err != nil {
		c.off = true
		return c
	}
	c.program = fmt.Sprint(version, " ", runtime.GOOS, "/", runtime.GOARCH, " ", info.Size(), " ",
		info.ModTime().UnixNano())
	return c
}

// TurnOff has the cache neither give nor take anything.
func (c *Cache) TurnOff() { c.off = true }

type cacheKey struct{}

// WithCache returns a context in which Load and Open use a cache.
func WithCache(ctx context.Context, c *Cache) context.Context {
	return context.WithValue(ctx, cacheKey{}, c)
}

// cacheOf returns the cache of a context; nil if there is none.
func cacheOf(ctx context.Context) *Cache {
	c, _ := ctx.Value(cacheKey{}).(*Cache)
	if c == nil || c.off {
		return nil
	}
	return c
}

// A cached estate, as the folder knows it.
type cached struct {
	Program string
	Folder  string   // the working directory, from which paths are meant
	Path    string   // of the estate, as it was named
	Main    []string // its YAML files
	Files   []sourceFile
	Key     []byte    // of the digests
	Read    time.Time // when reading them began
	Sums    []uint32  // see sumOf

	e *estate.Estate
}

// A sourceFile is a file of an estate, as it was when it was read. Times are in nanoseconds
// since 1970.
type sourceFile struct {
	Name           string
	Size           int64
	Modified       int64
	Changed        int64
	Device, Number uint64 // of its file system, and in it
	Digest         []byte

	info fs.FileInfo
}

// newSource returns what is known of a file without reading it.
func newSource(name string, info fs.FileInfo) (sourceFile, bool) {
	f := sourceFile{Name: name, Size: info.Size(), Modified: info.ModTime().UnixNano(), info: info}
	_, ok := f.identify(info)
	return f, ok
}

// same reports whether two files are the same version of one, the digest aside.
func (f *sourceFile) same(other *sourceFile) bool {
	return f.Size == other.Size && f.Modified == other.Modified && f.Changed == other.Changed &&
		f.Device == other.Device && f.Number == other.Number
}

// begin returns a new entry for an estate that is about to be loaded; nil where it cannot be kept.
func (c *Cache) begin(path string, main []string) *cached {
	folder, err := os.Getwd()
	if err != nil {
		return nil
	}
	one := &cached{Program: c.program, Folder: folder, Path: path, Main: main, Key: make([]byte, digestKey),
		Read: c.now()}
	if _, err := rand.Read(one.Key); err != nil {
		return nil
	}
	return one
}

// open returns a file that was opened to be loaded; what it holds is digested on the way.
func (one *cached) open(name string, f *os.File, info fs.FileInfo) io.ReadCloser {
	before, ok := newSource(name, info)
	sum, err := newDigest(one.Key)
	if !ok || err != nil {
		return f
	}
	return &digested{File: f, digest: sum, done: func(d *digested) {
		now, err := f.Stat()
		if err != nil || !d.ended {
			return
		}
		if after, ok := newSource(name, now); ok && after.same(&before) {
			before.Digest = d.digest.sum()
			one.Files = append(one.Files, before)
		}
	}}
}

// loaded notes that an estate has been loaded from files. It is kept if all of them were read
// whole, and are worth it.
func (c *Cache) loaded(one *cached, e *estate.Estate, names []string) {
	size := int64(0)
	var files []sourceFile // in the order in which places count them
	for _, name := range names {
		i := slices.IndexFunc(one.Files, func(f sourceFile) bool { return f.Name == name })
		if i < 0 {
			return
		}
		files = append(files, one.Files[i])
		size += one.Files[i].Size
	}
	if size < leastCached || len(one.Files) != len(names) {
		return
	}
	one.Files, one.e = files, e
	c.fresh = append(c.fresh, one)
}

// name returns the path of the entry for an estate.
func (c *Cache) name(one *cached) string {
	sum := sha256.Sum256([]byte(one.Folder + "\x00" + one.Path))
	return filepath.Join(c.folder, hex.EncodeToString(sum[:16])+compiledSuffix)
}

// find returns the estate that is being loaded as the cache has it, with its files in the order
// in which they were read; nil if it has changed, or the cache has none. like is a new entry for it.
func (c *Cache) find(ctx context.Context, like *cached) (*estate.Estate, []sourceFile) {
	f, err := openOwn(c.folder, c.name(like))
	if err != nil {
		return nil, nil
	}
	defer f.Close()
	kept, data, err := readEntry(f)
	if err != nil || kept.Program != like.Program || kept.Folder != like.Folder || kept.Path != like.Path ||
		!slices.Equal(kept.Main, like.Main) {
		return nil, nil
	}
	whole := make(chan bool, 1) // both take long
	go func() { whole <- kept.isWhole(f, len(data)) }()
	e, err := estate.FromCompiled(data)
	unchanged, sure := kept.unchanged(ctx)
	if !<-whole || err != nil || !unchanged {
		return nil, nil
	}
	if !sure {
		kept.e, kept.Read = e, like.Read
		c.fresh = append(c.fresh, kept) // as the files are now
	}
	return e, kept.Files
}

// unchanged reports whether every file is the one that was read, and whether that needed no
// digest. It brings up to date what it knows of them.
func (one *cached) unchanged(ctx context.Context) (is, sure bool) {
	sure = true
	for i := range one.Files {
		was := &one.Files[i]
		info, err := os.Stat(was.Name)
		if err != nil || !info.Mode().IsRegular() {
			return false, false
		}
		now, ok := newSource(was.Name, info)
		if !ok || now.Size != was.Size {
			return false, false
		}
		was.info = info
		if last := max(now.Modified, now.Changed); now.same(was) && last < one.Read.Add(-doubtful).UnixNano() {
			continue
		}
		sure = false
		now.Digest, err = one.digestOf(ctx, was.Name, &now)
		if err != nil || !bytes.Equal(now.Digest, was.Digest) {
			return false, false
		}
		*was = now
	}
	return true, sure
}

// digestOf returns the digest of a file, which has to stay as it is meanwhile.
func (one *cached) digestOf(ctx context.Context, name string, as *sourceFile) ([]byte, error) {
	f, err := localfile.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	sum, err := newDigest(one.Key)
	if err != nil {
		return nil, err
	}
	if _, err := io.Copy(sum, &localfile.Bounded{Ctx: ctx, R: f, Name: name, Most: maxTable}); err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if after, ok := newSource(name, info); !ok || !after.same(as) {
		return nil, fmt.Errorf("%w: %s", ErrChanged, name)
	}
	return sum.sum(), nil
}

// Keep writes the estates that were loaded into the folder, if it can: the next run has them
// sooner. Nothing depends on it. Old entries go.
func (c *Cache) Keep(ctx context.Context) {
	for _, one := range c.fresh {
		if !c.off && ctx.Err() == nil && c.write(ctx, one) == nil {
			c.sweep()
		}
	}
	c.fresh = nil
}
