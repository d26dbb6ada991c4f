package estatefile

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// cacheTest is an estate that is large enough to be kept, and a cache for it.
type cacheTest struct {
	t      *testing.T
	dir    string
	folder string        // of the cache
	later  time.Duration // how far the clock has gone on since the files were written
}

func newCacheTest(t *testing.T) *cacheTest {
	t.Helper()
	switch runtime.GOOS {
	case "linux", "darwin", "freebsd", "netbsd":
	default:
		t.Skip("there is no cache on this system")
	}
	c := &cacheTest{t: t, dir: t.TempDir(), folder: filepath.Join(t.TempDir(), "made", "when-needed")}
	c.write("estate.yaml", "yorvet: 1\ndomains: [kelp.example]\npeople: {table: people.csv}\n"+
		"groups:\n  - address: all@kelp.example\n    title: First\n    members: [p000001@kelp.example]\n")
	var people strings.Builder
	people.WriteString("address,name\n")
	for i := range 16_000 {
		people.WriteString(personRow(i, "Somebody with a name that takes room and is long"))
	}
	c.write("people.csv", people.String())
	c.age()
	return c
}

func personRow(i int, name string) string {
	return "p" + string([]byte{byte('0' + i/100_000%10), byte('0' + i/10_000%10), byte('0' + i/1000%10), byte('0' + i/100%10),
		byte('0' + i/10%10), byte('0' + i%10)}) + "@kelp.example," + name + "\n"
}

func (c *cacheTest) write(name, text string) {
	c.t.Helper()
	if err := os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o644); err != nil {
		c.t.Fatal(err)
	}
}

// age waits until a change of the files would be told by their times. Only a real clock does.
func (c *cacheTest) age() { <-time.After(20 * time.Millisecond) }

// load loads the estate with the cache, and reports whether it came from there.
func (c *cacheTest) load() (e *estate.Estate, kept bool) {
	c.t.Helper()
	return c.loadAt(filepath.Join(c.dir, "estate.yaml"), "test")
}

func (c *cacheTest) loadAt(path, version string) (e *estate.Estate, kept bool) {
	c.t.Helper()
	cache := NewCache(c.folder, version)
	cache.now = func() time.Time { return clock.Machine().Add(c.later) }
	e, err := Load(WithCache(c.t.Context(), cache), path)
	if err != nil {
		c.t.Fatal(err)
	}
	kept = len(cache.fresh) == 0 || cache.fresh[0].Sums != nil // it was kept, and is to be brought up to date
	cache.Keep(c.t.Context())
	return e, kept
}

func (c *cacheTest) entry() string {
	c.t.Helper()
	list, err := filepath.Glob(filepath.Join(c.folder, "*"+compiledSuffix))
	if err != nil || len(list) != 1 {
		c.t.Fatal(list, err)
	}
	return list[0]
}

func (c *cacheTest) want(what string, kept bool) *estate.Estate {
	c.t.Helper()
	e, was := c.load()
	if was != kept {
		c.t.Errorf("%s: from the cache: %t, want %t", what, was, kept)
	}
	return e
}

// What has not changed comes from the cache, and says the same.
func TestCacheKeeps(t *testing.T) {
	c := newCacheTest(t)
	first := c.want("at first", false)
	second := c.want("again", true)
	third := c.want("once more", true)
	for _, e := range []*estate.Estate{second, third} {
		if e.People() != first.People() || e.Group(0).Title != "First" || e.Settings().Position(e.Group(0).Place) !=
			first.Settings().Position(first.Group(0).Place) {
			t.Errorf("%d people, %+v", e.People(), e.Group(0))
		}
	}
	info, err := os.Stat(c.entry())
	if folder, err2 := os.Stat(c.folder); err != nil || err2 != nil || info.Mode().Perm() != 0o600 || folder.Mode().Perm() != 0o700 {
		t.Errorf("others can see it: %v, %v", info.Mode(), folder.Mode())
	}
}

// An estate that is loaded from the cache is changed as any other.
func TestCacheEdits(t *testing.T) {
	c := newCacheTest(t)
	c.want("at first", false)
	path := filepath.Join(c.dir, "estate.yaml")
	cache := NewCache(c.folder, "test")
	d, err := Open(WithCache(t.Context(), cache), path)
	if err != nil || len(cache.fresh) > 0 && cache.fresh[0].Sums == nil {
		t.Fatal("not from the cache", err)
	}
	d.addMember(0, Member{Address: "p000777@kelp.example"})
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	e := c.want("after an edit", false)
	if id, _ := e.Find(address.MustParse("p000777@kelp.example")); len(e.Entries(0)) != 2 || e.Entries(0)[1].Member != id {
		t.Errorf("members are %+v", e.Entries(0))
	}
}

// Whatever changes in the files is seen: what is told is never what was.
func TestCacheSeesChanges(t *testing.T) {
	people := func(c *cacheTest) string { return filepath.Join(c.dir, "people.csv") }
	swap := func(t *testing.T, c *cacheTest) { // a change that keeps the size
		data, err := os.ReadFile(people(c))
		if err != nil {
			t.Fatal(err)
		}
		c.write("people.csv", strings.Replace(string(data), "p000005@kelp", "p999995@kelp", 1))
	}
	for _, one := range []struct {
		what   string
		change func(t *testing.T, c *cacheTest)
		has    string // an address of the estate then
	}{
		{"a person more", func(t *testing.T, c *cacheTest) {
			f, err := os.OpenFile(people(c), os.O_APPEND|os.O_WRONLY, 0)
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			_, _ = f.WriteString(personRow(777_777, "New"))
		}, "p777777@kelp.example"},
		{"the same size", swap, "p999995@kelp.example"},
		{"the same size and time", func(t *testing.T, c *cacheTest) {
			info, _ := os.Stat(people(c))
			swap(t, c)
			if err := os.Chtimes(people(c), info.ModTime(), info.ModTime()); err != nil {
				t.Fatal(err)
			}
		}, "p999995@kelp.example"},
		{"another file in its place", func(t *testing.T, c *cacheTest) {
			info, _ := os.Stat(people(c))
			data, _ := os.ReadFile(people(c))
			c.write("other", strings.Replace(string(data), "p000005@kelp", "p999995@kelp", 1))
			if err := os.Chtimes(filepath.Join(c.dir, "other"), info.ModTime(), info.ModTime()); err != nil {
				t.Fatal(err)
			}
			if err := os.Rename(filepath.Join(c.dir, "other"), people(c)); err != nil {
				t.Fatal(err)
			}
		}, "p999995@kelp.example"},
		{"a link elsewhere", func(t *testing.T, c *cacheTest) {
			data, _ := os.ReadFile(people(c))
			c.write("other", strings.Replace(string(data), "p000005@kelp", "p999995@kelp", 1))
			_ = os.Remove(people(c))
			if err := os.Symlink("other", people(c)); err != nil {
				t.Fatal(err)
			}
		}, "p999995@kelp.example"},
	} {
		t.Run(one.what, func(t *testing.T) {
			t.Parallel() // it waits
			for _, wait := range []bool{false, true} {
				c := newCacheTest(t)
				c.want("at first", false)
				if wait { // so long that times alone decide
					c.later = 2 * doubtful
					c.want("once", true)
					c.want("twice", true)
				}
				one.change(t, c)
				e := c.want("changed", false)
				if _, ok := e.Find(address.MustParse(one.has)); !ok {
					t.Errorf("waited %t: %s is not there", wait, one.has)
				}
				c.want("after that", true)
			}
		})
	}
}

// A file that comes to a folder, or goes from it, is seen.
func TestCacheSeesFolder(t *testing.T) {
	c := newCacheTest(t)
	load := func(kept bool) *estate.Estate {
		t.Helper()
		e, was := c.loadAt(c.dir, "test")
		if was != kept {
			t.Errorf("from the cache: %t, want %t", was, kept)
		}
		return e
	}
	load(false)
	load(true)
	c.write("more.yaml", "yorvet: 1\ngroups:\n  - address: more@kelp.example\n")
	if e := load(false); e.Groups() != 2 {
		t.Error("the new file is not read")
	}
	if err := os.Remove(filepath.Join(c.dir, "more.yaml")); err != nil {
		t.Fatal(err)
	}
	if e := load(false); e.Groups() != 1 {
		t.Error("the old file is still told of")
	}
}

// Only new times are no change: the digest says so, and the entry is brought up to date.
func TestCacheNewTimes(t *testing.T) {
	t.Parallel() // it waits
	c := newCacheTest(t)
	c.want("at first", false)
	later := clock.Machine().Add(-time.Hour)
	if err := os.Chtimes(filepath.Join(c.dir, "people.csv"), later, later); err != nil {
		t.Fatal(err)
	}
	c.want("with new times", true)
	c.later = 2 * doubtful
	c.want("brought up to date", true)
	cache := NewCache(c.folder, "test")
	if _, err := Load(WithCache(t.Context(), cache), filepath.Join(c.dir, "estate.yaml")); err != nil || len(cache.fresh) > 0 {
		t.Error("the files are digested again", err)
	}
}

// What may come from somebody else, or is damaged, is not used; nor what another program wrote.
func TestCacheTrust(t *testing.T) {
	chmod := func(mode os.FileMode, path func(*cacheTest) string) func(*testing.T, *cacheTest) {
		return func(t *testing.T, c *cacheTest) {
			if err := os.Chmod(path(c), mode); err != nil {
				t.Fatal(err)
			}
		}
	}
	entry, folder := (*cacheTest).entry, func(c *cacheTest) string { return c.folder }
	for what, harm := range map[string]func(*testing.T, *cacheTest){
		"others may write":           chmod(0o602, entry),
		"the group may read":         chmod(0o640, entry),
		"others may write beside it": chmod(0o777, folder),
		"a link": func(t *testing.T, c *cacheTest) {
			path := c.entry()
			if err := os.Rename(path, path+".real"); err != nil {
				t.Fatal(err)
			}
			if err := os.Symlink(path+".real", path); err != nil {
				t.Fatal(err)
			}
		},
		"another user": func(t *testing.T, c *cacheTest) {
			if os.Geteuid() != 0 {
				t.Skip("only root can give a file away")
			}
			if err := os.Chown(c.entry(), 4711, 4711); err != nil {
				t.Fatal(err)
			}
		},
		"cut off": func(t *testing.T, c *cacheTest) {
			if err := os.Truncate(c.entry(), 5000); err != nil {
				t.Fatal(err)
			}
		},
		"a folder": func(t *testing.T, c *cacheTest) {
			path := c.entry()
			_ = os.Remove(path)
			if err := os.Mkdir(path, 0o700); err != nil {
				t.Fatal(err)
			}
		},
		"empty": func(t *testing.T, c *cacheTest) {
			if err := os.Truncate(c.entry(), 0); err != nil {
				t.Fatal(err)
			}
		},
	} {
		t.Run(what, func(t *testing.T) {
			c := newCacheTest(t)
			c.want("at first", false)
			harm(t, c)
			if e := c.want(what, false); e.People() != 16_000 {
				t.Errorf("%d people", e.People())
			}
		})
	}
	c := newCacheTest(t)
	c.want("at first", false)
	if _, kept := c.loadAt(filepath.Join(c.dir, "estate.yaml"), "another version"); kept {
		t.Error("another version of the program uses it")
	}
}

// Any bit that is not as it was written is noticed.
func TestCacheDamage(t *testing.T) {
	c := newCacheTest(t)
	first := c.want("at first", false)
	path := c.entry()
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(1, 8))
	for range campaign.Rounds(15, 60) {
		data := bytes.Clone(whole)
		at := random.IntN(len(data))
		if at >= 64 && at < entryPage {
			continue // nothing stands there
		}
		data[at] ^= 1 << random.IntN(8)
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		if e := c.want("a bit at "+string(rune('0'+at%10)), false); e.People() != first.People() {
			t.Fatal(at)
		}
	}
}

// The folder does not grow without end, and what killed writers left goes.
func TestCacheSweep(t *testing.T) {
	c := newCacheTest(t)
	c.want("at first", false)
	stale := filepath.Join(c.folder, newEntry+"123")
	for i := range 20 {
		name := filepath.Join(c.folder, strings.Repeat("a", i+1)+compiledSuffix)
		if err := os.WriteFile(name, nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(stale, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	old := clock.Machine().Add(-2 * time.Hour)
	if err := os.Chtimes(stale, old, old); err != nil {
		t.Fatal(err)
	}
	c.write("estate.yaml", "yorvet: 1\ndomains: [kelp.example]\npeople: {table: people.csv}\n")
	c.want("changed", false)
	list, _ := os.ReadDir(c.folder)
	if len(list) != mostCached {
		t.Errorf("%d entries stay", len(list))
	}
	c.want("again", true)
}

// A context that has ended, or a cache that is turned off, writes nothing; small estates are
// not kept.
func TestCacheWritesNothing(t *testing.T) {
	c := newCacheTest(t)
	path := filepath.Join(c.dir, "estate.yaml")
	ended, end := context.WithCancel(t.Context())
	cache := NewCache(c.folder, "test")
	if _, err := Load(WithCache(ended, cache), path); err != nil {
		t.Fatal(err)
	}
	end()
	cache.Keep(ended)
	off := NewCache(c.folder, "test")
	off.TurnOff()
	if _, err := Load(WithCache(t.Context(), off), path); err != nil {
		t.Fatal(err)
	}
	off.Keep(t.Context())
	c.write("people.csv", "address\np000001@kelp.example\n")
	c.load()
	if list, _ := os.ReadDir(c.folder); len(list) > 0 {
		t.Errorf("there is %v", list)
	}
}

// Of a change that is not finished yet, nothing is kept, and nothing that was kept is told.
func TestCacheUnfinishedChange(t *testing.T) {
	c := newCacheTest(t)
	c.want("at first", false)
	text, err := os.ReadFile(filepath.Join(c.dir, "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	c.write("estate.yaml", strings.Replace(string(text), "all@", "crew@", 1))
	c.want("before the change", false)
	text, _ = os.ReadFile(filepath.Join(c.dir, "estate.yaml"))
	leaveUnfinished(t, c.dir, map[string]string{"estate.yaml": string(text)})
	for range 2 {
		cache := NewCache(c.folder, "test")
		e, err := Load(WithCache(t.Context(), cache), filepath.Join(c.dir, "estate.yaml"))
		if err != nil || e.Address(0).String() != "gang@kelp.example" || len(cache.fresh) > 0 {
			t.Errorf("%v: the group is %v, %d to be kept", err, e.Address(0), len(cache.fresh))
		}
	}
}
