// Package undo keeps the changes that were written into estates, and takes them back: who
// made each, when, by which command, and which lines it touched. The changes of an estate
// are kept in the user's state folder, and nowhere near the estate.
package undo

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"yorvet.example/yorvet/internal/localfile"
)

// A WrittenChange is a change as the journal keeps it.
type WrittenChange struct {
	Number  int       `json:"number"` // from 1, for each estate
	Time    time.Time `json:"time"`
	User    string    `json:"user"`
	Command []string  `json:"command"` // the arguments
	Says    string    `json:"says"`    // the first line of what it does
	Undoes  int       `json:"undoes,omitempty"`
	Files   []File    `json:"files"`
}

// A File is what a change did to a file.
type File struct {
	Path  string `json:"path"`  // absolute
	Later string `json:"later"` // SHA-256 of the file as it was written
	Edits []Edit `json:"edits"` // in order
}

// An Edit is lines that took the place of others.
type Edit struct {
	Line  int    `json:"line"` // of New in the file as it was written, from 1
	Start int    `json:"start"`
	Old   string `json:"old"`
	New   string `json:"new"`
	Above string `json:"above"` // a few lines around
	Below string `json:"below"`
}

// Limits of what is kept.
const (
	mostChanges = 1000      // of an estate
	mostBytes   = 256 << 20 // of one change
	around      = 3         // lines above and below an edit
)

// A Store has the changes of one estate.
type Store struct{ dir string }

// Open returns the changes of the estate at a path. There need not be any.
func Open(estate string) (*Store, error) {
	state, err := localfile.StateFolder()
	if err != nil {
		return nil, err
	}
	where, err := localfile.Real(estate)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(where))
	return &Store{filepath.Join(state, "changes", hex.EncodeToString(sum[:12]))}, nil
}

// NewFile returns what a change does to a file.
func NewFile(path string, before, later []byte) (File, error) {
	where, err := localfile.Real(path)
	if err != nil {
		return File{}, err
	}
	f := File{Path: where, Later: sumOf(later)}
	old, now := string(before), string(later)
	shift := 0
	for _, e := range udiff.Lines(old, now) {
		start := e.Start + shift
		shift += len(e.New) - (e.End - e.Start)
		f.Edits = append(f.Edits, Edit{
			Line: 1 + strings.Count(now[:start], "\n"), Start: start, Old: old[e.Start:e.End], New: e.New,
			Above: lastLines(now[:start]), Below: firstLines(now[start+len(e.New):]),
		})
	}
	return f, nil
}

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

func lastLines(text string) string {
	at := len(text)
	for range around + 1 {
		i := strings.LastIndexByte(text[:max(at-1, 0)], '\n')
		if i < 0 {
			return text
		}
		at = i + 1
	}
	return text[at:]
}

func firstLines(text string) string {
	at := 0
	for range around {
		i := strings.IndexByte(text[at:], '\n')
		if i < 0 {
			return text
		}
		at += i + 1
	}
	return text[:at]
}

// A Conflict is an edit whose lines have changed since.
type Conflict struct {
	Path string
	Line int
}

func (c *Conflict) Error() string {
	return fmt.Sprintf("%s:%d: these lines have changed since", c.Path, c.Line)
}

// Revert returns a file as it was before a change. Where it has changed since in other
// lines, these stay; where it has in the lines of the change, the error is a *Conflict.
func (f *File) Revert(now []byte) ([]byte, error) {
	text := string(now)
	same := sumOf(now) == f.Later
	for _, e := range slices.Backward(f.Edits) {
		start := e.Start
		if !same {
			var ok bool
			if start, ok = e.find(text); !ok {
				return nil, &Conflict{f.Path, e.Line}
			}
		}
		if start < 0 || start > len(text) || !strings.HasPrefix(text[start:], e.New) { // it was not kept by Yorvet
			return nil, &Conflict{f.Path, e.Line}
		}
		text = text[:start] + e.Old + text[start+len(e.New):]
	}
	return []byte(text), nil
}

// find returns where the lines of an edit are in a text that may have changed around them:
// with the lines above and below, at one place alone.
func (e *Edit) find(text string) (int, bool) {
	for _, part := range []struct{ above, below string }{{e.Above, e.Below}, {lastLine(e.Above), firstLine(e.Below)}} {
		block := part.above + e.New + part.below
		if strings.Count(text, block) == 1 {
			return strings.Index(text, block) + len(part.above), true
		}
	}
	return 0, false
}

func lastLine(text string) string {
	if i := strings.LastIndexByte(strings.TrimSuffix(text, "\n"), '\n'); i >= 0 {
		return text[i+1:]
	}
	return text
}

func firstLine(text string) string {
	if i := strings.IndexByte(text, '\n'); i >= 0 {
		return text[:i+1]
	}
	return text
}

// Keep keeps a change, and returns its number.
func (s *Store) Keep(c WrittenChange) (int, error) {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return 0, err
	}
	numbers, err := s.numbers()
	if err != nil {
		return 0, err
	}
	c.Number = 1
	if len(numbers) > 0 {
		c.Number = numbers[len(numbers)-1] + 1
	}
	for ; ; c.Number++ {
		data, err := json.Marshal(c)
		if err != nil {
			return 0, err
		}
		if len(data) > mostBytes {
			return 0, fmt.Errorf("it is larger than %d MiB", mostBytes>>20)
		}
		err = s.create(c.Number, data)
		if errors.Is(err, fs.ErrExist) {
			continue // somebody else was first
		}
		if err != nil {
			return 0, err
		}
		break
	}
	for len(numbers) >= mostChanges {
		_ = os.Remove(s.path(numbers[0])) // what is old
		numbers = numbers[1:]
	}
	return c.Number, nil
}

// create writes a file whole, unless there is one.
func (s *Store) create(number int, data []byte) error {
	f, err := os.CreateTemp(s.dir, "new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Link(f.Name(), s.path(number))
}

func (s *Store) path(number int) string {
	return filepath.Join(s.dir, fmt.Sprintf("%06d.json", number))
}

// numbers returns the numbers of all changes, in order.
func (s *Store) numbers() ([]int, error) {
	entries, err := os.ReadDir(s.dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var list []int
	for _, entry := range entries {
		name, ok := strings.CutSuffix(entry.Name(), ".json")
		if n, err := strconv.Atoi(name); ok && err == nil && n > 0 {
			list = append(list, n)
		}
	}
	slices.Sort(list)
	return list, nil
}

// ErrNone is the error of a change that is not there.
var ErrNone = errors.New("there is no such change")

// Get returns a change.
func (s *Store) Get(number int) (*WrittenChange, error) {
	f, err := localfile.Open(s.path(number))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var c WrittenChange
	if err := json.NewDecoder(&limited{f, mostBytes}).Decode(&c); err != nil {
		return nil, fmt.Errorf("%s: this is no change that was kept: %w", s.path(number), err)
	}
	return &c, nil
}

// List returns all changes, the latest first.
func (s *Store) List() ([]WrittenChange, error) {
	numbers, err := s.numbers()
	if err != nil {
		return nil, err
	}
	var list []WrittenChange
	for _, n := range slices.Backward(numbers) {
		c, err := s.Get(n)
		if err != nil {
			return nil, err
		}
		list = append(list, *c)
	}
	return list, nil
}

// Last returns the latest change that is no undo and was not undone.
func (s *Store) Last() (*WrittenChange, error) {
	numbers, err := s.numbers()
	if err != nil {
		return nil, err
	}
	undone := map[int]bool{}
	for _, n := range slices.Backward(numbers) {
		c, err := s.Get(n)
		switch {
		case err != nil:
			return nil, err
		case c.Undoes > 0:
			undone[c.Undoes] = true
		case !undone[n]:
			return c, nil
		}
	}
	return nil, ErrNone
}
