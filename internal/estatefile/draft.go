package estatefile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/localfile"
)

// A Draft is an estate on disk with changes that are not written yet. The
// changes are made in the text of its files; whatever they do not concern stays
// as it is, comments and all, to the byte.
//
// Changes name what they are about by the IDs and places of the estate that
// Before returns. They all are noted first; Estate returns what they come to.
type Draft struct {
	path   string
	files  *files
	before *estate.Estate
	main   []string               // the YAML files
	names  []string               // of all files, by number in places
	loaded map[string]os.FileInfo // of the files, as they were when the estate was loaded
	read   map[string][]byte      // what was read of each file to change it
	yaml   map[string]*yamlText   // of the files that are changed
	rows   map[string]*rowText
	lists  []*pendingList
	listed map[listKey]*pendingList
	keys   []pendingKey
	within map[estate.ID][]Field // see inner

	changes   []change.Change
	respelt   []respelling
	rewritten map[string][]byte // files whose text is replaced
	edited    map[string][]byte // the files as they are to be, once that is worked out
	err       error
}

// pendingList is a change of a list that is collected.
type pendingList struct {
	text    *yamlText
	mapping *yaml.Node
	name    string
	change  listChange
	order   []string
}

// listKey is what a pendingList is about.
type listKey struct {
	mapping *yaml.Node
	name    string
}

// pendingKey is a key of a mapping that is set, or goes where value is nil.
type pendingKey struct {
	text    *yamlText
	mapping *yaml.Node
	name    string
	value   *value
	order   []string
}

// Open reads the estate at path to change it. When ctx ends, so does whatever the
// Draft reads, and it writes nothing any more.
func Open(ctx context.Context, path string) (*Draft, error) {
	d := &Draft{
		path:   path,
		loaded: map[string]os.FileInfo{},
		read:   map[string][]byte{},
		yaml:   map[string]*yamlText{},
		rows:   map[string]*rowText{},
		listed: map[listKey]*pendingList{},
		within: map[estate.ID][]Field{},
	}
	var err error
	if d.main, err = find(path); err != nil {
		return nil, err
	}
	if d.files, err = filesOf(ctx, path); err != nil {
		return nil, err
	}
	if err := d.load(ctx); err != nil {
		return nil, err
	}
	if err := d.files.journal.check(d.names); err != nil {
		return nil, err
	}
	return d, nil
}

// load loads the estate as it is on disk, from the cache of ctx if that has it.
func (d *Draft) load(ctx context.Context) error {
	cache := cacheOf(ctx)
	var entry *cached
	if cache != nil && len(d.files.journal.Files) == 0 {
		entry = cache.begin(d.path, d.main)
	}
	if entry != nil {
		if e, files := cache.find(ctx, entry); e != nil {
			d.before = e
			for _, f := range files {
				d.names = append(d.names, f.Name)
				d.loaded[f.Name] = f.info
			}
			return nil
		}
	}
	l := &loader{ctx: ctx, open: func(name string) (io.ReadCloser, error) {
		f, err := d.openToLoad(name)
		if err != nil || entry == nil {
			return f, err
		}
		return entry.open(name, f, d.loaded[name]), nil
	}}
	var err error
	if d.before, err = l.load(d.main); err != nil {
		return err
	}
	d.names = l.files
	if entry != nil {
		cache.loaded(entry, d.before, d.names)
	}
	return nil
}

// Rewrite replaces the text of the file of the estate that is at an absolute path.
func (d *Draft) Rewrite(path string, rewrite func([]byte) ([]byte, error)) error {
	for _, name := range d.names {
		if where, err := localfile.Real(name); err != nil || where != path {
			continue
		}
		data, err := rewrite(d.content(name))
		if err != nil {
			return err
		}
		if d.rewritten == nil {
			d.rewritten = map[string][]byte{}
		}
		d.rewritten[name] = data
		return d.err
	}
	return fmt.Errorf("%s is no file of the estate any more", path)
}

// Before returns the estate as it is on disk.
func (d *Draft) Before() *estate.Estate { return d.before }

// content returns what a file held when it was first asked for.
func (d *Draft) content(name string) []byte {
	if data, ok := d.read[name]; ok {
		return data
	}
	data, err := d.readFile(name)
	if err != nil {
		d.fail(err)
	}
	d.read[name] = data
	return data
}

// openToLoad opens a file, and notes which it was: places in the estate are places
// in that one.
func (d *Draft) openToLoad(name string) (*os.File, error) {
	f, err := d.files.open(name)
	if err != nil {
		return nil, err
	}
	if d.loaded[name], err = f.Stat(); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// readFile reads a file of the estate, if it is still the one that was loaded.
func (d *Draft) readFile(name string) ([]byte, error) {
	f, err := d.files.open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := localfile.ReadAll(d.files.ctx, f, name, maxTable)
	if err != nil {
		return nil, err
	}
	now, err := f.Stat()
	if was := d.loaded[name]; err == nil && was != nil &&
		(!os.SameFile(was, now) || !was.ModTime().Equal(now.ModTime()) || was.Size() != now.Size()) {
		err = fmt.Errorf("%w: %s", ErrChanged, name)
	}
	return data, err
}

func (d *Draft) fail(err error) {
	if d.err == nil {
		d.err = err
	}
}

// yamlFile returns the YAML file of a name for changes.
func (d *Draft) yamlFile(name string) *yamlText {
	if t, ok := d.yaml[name]; ok {
		return t
	}
	t, err := newYAMLText(name, d.content(name))
	if err != nil {
		d.fail(err)
		t, _ = newYAMLText(name, []byte("yorvet: 1"))
	}
	d.yaml[name] = t
	return t
}

// table returns the table of a name for changes.
func (d *Draft) table(name string) *rowText {
	if t, ok := d.rows[name]; ok {
		return t
	}
	t, err := newRowText(name, d.content(name))
	if err != nil {
		d.fail(err)
		t, _ = newRowText(name, []byte("address\n"))
	}
	d.rows[name] = t
	return t
}

// isTable reports whether a place is in a table.
func (d *Draft) isTable(p estate.Place) bool { return !slices.Contains(d.main, d.names[p.File]) }

// list returns the change of a list that is being collected.
func (d *Draft) list(t *yamlText, mapping *yaml.Node, name string, order []string) *listChange {
	if p := d.listed[listKey{mapping, name}]; p != nil {
		return &p.change
	}
	p := &pendingList{t, mapping, name, listChange{drop: map[*yaml.Node]bool{}, replace: map[*yaml.Node]value{}}, order}
	d.lists = append(d.lists, p)
	d.listed[listKey{mapping, name}] = p
	return &p.change
}

// key notes that a key of a mapping is set.
func (d *Draft) key(t *yamlText, mapping *yaml.Node, name string, v *value, order []string) {
	d.keys = append(d.keys, pendingKey{t, mapping, name, v, order})
}

// finish works out the files as they are to be.
func (d *Draft) finish() error {
	if d.edited == nil && d.err == nil {
		if err := d.write(); err != nil {
			d.fail(err)
		}
		d.applyInner()
		for _, r := range d.respelt {
			d.respell(r)
		}
	}
	if d.edited != nil || d.err != nil {
		return d.err
	}
	d.edited = map[string][]byte{}
	d.applyPending()
	for _, name := range slices.Sorted(maps.Keys(d.yaml)) {
		t := d.yaml[name]
		if t.err != nil {
			return t.err
		}
		data, err := applySplices(t.data, t.splices)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		d.edited[name] = data
	}
	for name, t := range d.rows {
		d.edited[name] = t.text()
	}
	maps.Copy(d.edited, d.rewritten)
	for name, data := range d.edited {
		if old, there := d.read[name]; there && old != nil && bytes.Equal(data, old) {
			delete(d.edited, name)
		}
	}
	return nil
}

// applyPending makes the changes of lists and keys that are noted.
func (d *Draft) applyPending() {
	// What is further within comes first, so that it is put in first where both
	// are put in at the end.
	depth := func(t *yamlText, n *yaml.Node) int {
		deep := 0
		for at := n; at != nil; at = t.parents[at] {
			deep++
		}
		return deep
	}
	slices.SortStableFunc(
		d.lists,
		func(a, b *pendingList) int { return depth(b.text, b.mapping) - depth(a.text, a.mapping) },
	)
	slices.SortStableFunc(
		d.keys,
		func(a, b pendingKey) int { return depth(b.text, b.mapping) - depth(a.text, a.mapping) },
	)
	for lists, keys := d.lists, d.keys; len(lists)+len(keys) > 0; {
		if len(keys) == 0 ||
			len(lists) > 0 && depth(lists[0].text, lists[0].mapping) >= depth(keys[0].text, keys[0].mapping) {
			p := lists[0]
			p.text.changeList(p.mapping, p.name, p.change, p.order)
			lists = lists[1:]
			continue
		}
		k := keys[0]
		if k.value == nil {
			k.text.dropKey(k.mapping, k.name)
		} else {
			k.text.setKey(k.mapping, k.name, *k.value, k.order)
		}
		keys = keys[1:]
	}
}

// Estate returns the estate as it is with the changes. An error is one of the
// changes, of their files, or what Load would say of them.
func (d *Draft) Estate() (*estate.Estate, error) {
	if err := d.finish(); err != nil {
		return nil, err
	}
	l := &loader{ctx: d.files.ctx, open: func(name string) (io.ReadCloser, error) {
		if data, ok := d.edited[name]; ok {
			return io.NopCloser(bytes.NewReader(data)), nil
		}
		return d.files.open(name)
	}}
	return l.load(d.main)
}

// Changed returns how many lines come and go in each file that is changed.
func (d *Draft) Changed() ([]FileChange, error) {
	if err := d.finish(); err != nil {
		return nil, err
	}
	var list []FileChange
	for name, data := range d.edited {
		c := FileChange{File: name, Names: 1}
		if info, err := os.Stat(name); err == nil {
			c.Names = localfile.Names(info)
		}
		c.Before, c.Later = d.read[name], data
		c.Added, c.Removed = countLines(c.Before, c.Later)
		list = append(list, c)
	}
	slices.SortFunc(list, func(a, b FileChange) int { return bytes.Compare([]byte(a.File), []byte(b.File)) })
	return list, nil
}

// A FileChange is what comes and goes in a file.
type FileChange struct {
	File           string
	Before, Later  []byte
	Added, Removed int // lines
	Names          int // of the file (hard links); the change reaches this one only
}

// withoutCommon returns two texts without the lines that both begin and end with.
func withoutCommon(x, y []byte) ([]byte, []byte) {
	same := 0
	for most := min(len(x), len(y)); same < most && x[same] == y[same]; {
		same++
	}
	from := bytes.LastIndexByte(x[:same], '\n') + 1
	x, y = x[from:], y[from:]
	same = 0
	for most := min(len(x), len(y)); same < most && x[len(x)-1-same] == y[len(y)-1-same]; {
		same++
	}
	// What is the same at the end begins behind the end of a line.
	tail := x[len(x)-same:]
	if end := bytes.IndexByte(tail, '\n'); end >= 0 {
		same -= end + 1
	} else {
		same = 0
	}
	return x[:len(x)-same], y[:len(y)-same]
}

// countLines counts the lines that only one of two texts has.
func countLines(before, later []byte) (added, removed int) {
	before, later = withoutCommon(before, later)
	count := map[string]int{}
	for line := range bytes.Lines(before) {
		count[string(line)]--
	}
	for line := range bytes.Lines(later) {
		count[string(line)]++
	}
	for _, n := range count {
		added += max(n, 0)
		removed += max(-n, 0)
	}
	return added, removed
}

// ErrChanged is what Write returns where somebody else has changed a file since
// it was read. Nothing is written then.
var ErrChanged = errors.New("somebody else has changed the estate meanwhile")

// Write writes the changed files, all of them or none, while nobody else writes the
// estate.
func (d *Draft) Write() error {
	if err := d.finish(); err != nil {
		return err
	}
	if len(d.edited) == 0 {
		return nil
	}
	ctx, folder := d.files.ctx, folderOf(d.path)
	unlock, err := lock(ctx, folder)
	if err != nil {
		return err
	}
	defer unlock()
	left, err := readJournal(ctx, folder)
	if err != nil {
		return err
	}
	if err := left.finish(ctx, d.names); err != nil {
		return err
	}
	sweep(folder, d.names)
	list := map[string]replacement{}
	for name, data := range d.edited {
		now, err := localfile.Read(ctx, name, maxTable)
		if old := d.read[name]; ctx.Err() == nil && (err != nil || !bytes.Equal(now, old)) {
			return fmt.Errorf("%w: %s", ErrChanged, name)
		}
		list[name] = replacement{now, data}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return writeAll(ctx, folder, list)
}

// folderOf returns the folder that an estate is in.
func folderOf(path string) string {
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return path
	}
	return filepath.Dir(path)
}
