package standin

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/localfile"
)

// The folders of every mailbox apart from the inbox.
const (
	inbox         = "INBOX"
	junkFolder    = "Junk"
	archiveFolder = "Archive"
)

func folderName(name string) string {
	if name == "" {
		return inbox
	}
	return name
}

// maxStored is the size in bytes of a file that the service reads of what it has
// written: a message, with what is noted of it.
const maxStored = 2*maxMessage + 1<<20

// boxes are the mailboxes, by canonical address. What is on disk is in the Maildir
// form: a folder each, and a file for each message.
type boxes struct {
	dir   string
	mutex sync.Mutex
	all   map[string]*box
}

// box is one mailbox.
type box struct {
	user  *imapmemserver.User
	dir   string
	mutex sync.Mutex
	names []string                       // of folders
	files map[string]map[imap.UID]string // by folder
}

func newBoxes(dir string) (*boxes, error) {
	b := &boxes{dir: dir, all: map[string]*box{}}
	if dir == "" {
		return b, nil
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		key, err := url.PathUnescape(entry.Name())
		if err != nil {
			continue
		}
		if box := b.open(key); box != nil {
			if err := box.load(); err != nil {
				return nil, err
			}
		}
	}
	return b, nil
}

// open returns the mailbox of a canonical address, a new one if need be, or nil
// where there are too many.
func (b *boxes) open(key string) *box {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	key = strings.ToLower(key)
	if x := b.all[key]; x != nil {
		return x
	}
	if len(b.all) >= maxBoxes {
		return nil
	}
	x := &box{user: imapmemserver.NewUser(key, ""), files: map[string]map[imap.UID]string{}}
	if b.dir != "" {
		x.dir = filepath.Join(b.dir, url.PathEscape(key))
	}
	for _, name := range []string{inbox, junkFolder, archiveFolder} {
		_ = x.user.Create(name, nil)
		x.names = append(x.names, name)
	}
	b.all[key] = x
	return x
}

// find returns the mailbox of a canonical address, or nil.
func (b *boxes) find(key string) *box {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.all[strings.ToLower(key)]
}

// put puts a message into a folder. On disk it is whole when put returns. A
// message with the same identifier is there once.
func (b *boxes) put(key, folder, id string, raw []byte) error {
	x := b.open(key)
	if x == nil {
		return errors.New("there are too many mailboxes")
	}
	folder = folderName(folder)
	path := ""
	if x.dir != "" {
		dir := filepath.Join(x.dir, onDisk(folder))
		for _, part := range []string{"tmp", "new", "cur"} {
			if err := os.MkdirAll(filepath.Join(dir, part), 0o700); err != nil {
				return err
			}
		}
		path = filepath.Join(dir, "new", id)
		if _, err := os.Stat(path); err == nil {
			return nil
		}
		if err := writeFile(filepath.Join(dir, "tmp"), path, raw); err != nil {
			return err
		}
	}
	return x.append(folder, path, raw)
}

func (x *box) append(folder, path string, raw []byte) error {
	data, err := x.user.Append(folder, literal{bytes.NewReader(raw)}, &imap.AppendOptions{Time: clock.Now()})
	if err != nil || path == "" {
		return err
	}
	x.mutex.Lock()
	defer x.mutex.Unlock()
	if x.files[folder] == nil {
		x.files[folder] = map[imap.UID]string{}
	}
	x.files[folder][data.UID] = path
	return nil
}

// load reads a mailbox from disk.
func (x *box) load() error {
	folders, err := os.ReadDir(x.dir)
	if err != nil {
		return err
	}
	for _, folder := range folders {
		name, ok := fromDisk(folder.Name())
		if !ok {
			continue // it is none of ours
		}
		if !slices.Contains(x.names, name) {
			_ = x.user.Create(name, nil)
			x.names = append(x.names, name)
		}
		files, err := os.ReadDir(filepath.Join(x.dir, folder.Name(), "new"))
		if err != nil {
			continue
		}
		// In the order in which they came, so that they get the UIDs that they had.
		came := func(file os.DirEntry) int64 {
			info, err := file.Info()
			if err != nil {
				return 0
			}
			return info.ModTime().UnixNano()
		}
		slices.SortStableFunc(files, func(a, b os.DirEntry) int { return cmp.Compare(came(a), came(b)) })
		for _, file := range files {
			path := filepath.Join(x.dir, folder.Name(), "new", file.Name())
			if strings.HasPrefix(file.Name(), ".") {
				_ = os.Remove(path) // half written
				continue
			}
			raw, err := localfile.Read(context.Background(), path, maxStored)
			if err != nil {
				return err
			}
			if err := x.append(name, path, raw); err != nil {
				return err
			}
		}
	}
	return nil
}

// gone removes the files of messages that are not in a folder any more.
func (x *box) gone(folder string, left []imap.UID) {
	x.mutex.Lock()
	defer x.mutex.Unlock()
	for uid, path := range x.files[folder] {
		if !slices.Contains(left, uid) {
			_ = os.Remove(path)
			delete(x.files[folder], uid)
		}
	}
}

// moved moves the files of messages that have gone from a folder into another,
// where they have UIDs from next on.
func (x *box) moved(folder string, left []imap.UID, to string, next imap.UID) error {
	x.mutex.Lock()
	var gone []imap.UID
	for uid := range x.files[folder] {
		if !slices.Contains(left, uid) {
			gone = append(gone, uid)
		}
	}
	x.mutex.Unlock()
	slices.Sort(gone)
	into := make([]imap.UID, len(gone))
	for i := range into {
		into[i] = next + imap.UID(i)
	}
	if err := x.copied(folder, gone, to, into); err != nil {
		return err
	}
	x.gone(folder, left)
	return nil
}

// copied gives messages that have been copied into a folder files there.
func (x *box) copied(folder string, from []imap.UID, to string, into []imap.UID) error {
	dir := filepath.Join(x.dir, onDisk(to), "new")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	x.mutex.Lock()
	defer x.mutex.Unlock()
	if x.files[to] == nil {
		x.files[to] = map[imap.UID]string{}
	}
	for i, uid := range from {
		path, ok := x.files[folder][uid]
		if !ok || i >= len(into) {
			continue
		}
		target := filepath.Join(dir, newID())
		if err := os.Link(path, target); err != nil {
			return err
		}
		x.files[to][into[i]] = target
	}
	return nil
}

// literal is a message as package imapmemserver takes it.
type literal struct{ *bytes.Reader }

func (l literal) Size() int64 { return l.Reader.Size() }
