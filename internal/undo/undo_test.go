package undo

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
)

func randomLines(random *rand.Rand, n int) []string {
	var lines []string
	for range n {
		lines = append(lines, fmt.Sprint("line ", random.IntN(12), "\n"))
	}
	return lines
}

// edited returns lines with some of them changed, put in and taken out.
func edited(random *rand.Rand, lines []string) []string {
	lines = slices.Clone(lines)
	for range 1 + random.IntN(4) {
		at := random.IntN(len(lines) + 1)
		switch random.IntN(3) {
		case 0:
			lines = slices.Insert(lines, at, randomLines(random, 1+random.IntN(3))...)
		case 1:
			lines = slices.Delete(lines, min(at, max(len(lines)-1, 0)), min(at+1, len(lines)))
		default:
			if at < len(lines) {
				lines[at] = fmt.Sprint("new ", random.IntN(5), "\n")
			}
		}
	}
	return lines
}

// What was written is taken back byte for byte, with and without a line feed at the end.
func TestRevert(t *testing.T) {
	random := rand.New(rand.NewPCG(14, 3))
	for n := range 2000 {
		before := strings.Join(randomLines(random, random.IntN(40)), "")
		later := strings.Join(edited(random, strings.SplitAfter(before, "\n")), "")
		if random.IntN(4) == 0 {
			before = strings.TrimSuffix(before, "\n")
		}
		f, err := NewFile("x", []byte(before), []byte(later))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := f.Revert([]byte(later)); err != nil || string(got) != before {
			t.Fatalf("pair %d: %v\n%q\nbecame %q and goes back to\n%q", n, err, before, later, got)
		}
	}
}

// Where a file has changed elsewhere since, that stays; where it has in the lines of the
// change, or these cannot be told from others, nothing is taken back.
func TestRevertLater(t *testing.T) {
	before := "a\nb\nc\nd\ne\nf\ng\nh\ni\n"
	later := "a\nb\nc\nD\nE\nf\ng\nh\ni\n"
	f, err := NewFile("x", []byte(before), []byte(later))
	if err != nil {
		t.Fatal(err)
	}
	for now, want := range map[string]string{
		later:                                "a\nb\nc\nd\ne\nf\ng\nh\ni\n",
		"new\n" + later:                      "new\na\nb\nc\nd\ne\nf\ng\nh\ni\n",
		"a\nb\nc\nD\nE\nf\ng\nH\ni\n":        "a\nb\nc\nd\ne\nf\ng\nH\ni\n",
		"a\nB\nc\nD\nE\nf\nG\nh\ni\n":        "a\nB\nc\nd\ne\nf\nG\nh\ni\n",
		"a\nb\nc\nD\nX\nf\ng\nh\ni\n":        "",
		"a\nb\nc\nf\ng\nh\ni\n":              "",
		before:                               "",
		"c\nD\nE\nf\nx\nc\nD\nE\nf\n":        "",
		"a\nb\nC\nD\nE\nF\ng\nh\ni\n":        "",
		strings.ReplaceAll(later, "D", "DD"): "",
	} {
		got, err := f.Revert([]byte(now))
		conflict := (*Conflict)(nil)
		if want == "" {
			if !errors.As(err, &conflict) || conflict.Line != 4 {
				t.Errorf("%q: %q, %v, want a conflict in line 4", now, got, err)
			}
			continue
		}
		if err != nil || string(got) != want {
			t.Errorf("%q: %q, %v, want %q", now, got, err, want)
		}
	}
}

// Changes have numbers of their own, also when many are kept at once; the last that can be
// taken back is the last that is no undo and was not undone.
func TestStore(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", filepath.Join(t.TempDir(), "state"))
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Last(); !errors.Is(err, ErrNone) {
		t.Errorf("of no changes the last is %v", err)
	}
	var done sync.WaitGroup
	var mu sync.Mutex
	var numbers []int
	for range 20 {
		done.Go(func() {
			n, err := s.Keep(WrittenChange{User: "ann"})
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				t.Error(err)
			}
			numbers = append(numbers, n)
		})
	}
	done.Wait()
	slices.Sort(numbers)
	for i, n := range numbers {
		if n != i+1 {
			t.Fatalf("the numbers are %v", numbers)
		}
	}
	for _, undoes := range []int{20, 18} {
		if _, err := s.Keep(WrittenChange{Undoes: undoes}); err != nil {
			t.Fatal(err)
		}
	}
	if last, err := s.Last(); err != nil || last.Number != 19 {
		t.Errorf("the last is %+v, %v", last, err)
	}
	list, err := s.List()
	if err != nil || len(list) != 22 || list[0].Number != 22 || list[21].Number != 1 {
		t.Errorf("%d changes, %v", len(list), err)
	}
	if err := os.WriteFile(s.path(23), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Last(); err == nil || !strings.Contains(err.Error(), "000023.json") {
		t.Errorf("a change that is none: %v", err)
	}
	if info, err := os.Stat(s.path(1)); err != nil || info.Mode().Perm()&0o077 != 0 {
		t.Errorf("others can read what is kept: %v %v", info.Mode(), err)
	}
}

// A kept change that somebody else has written takes nothing back but the lines that it names.
func TestCraftedChange(t *testing.T) {
	const now = "a\nb\nc\n"
	for about, edit := range map[string]Edit{
		"before the file":  {Start: -5, Old: "x"},
		"behind the file":  {Start: 7, Old: "x"},
		"across its end":   {Start: 4, New: "c\nd\n", Old: "x"},
		"other lines":      {Start: 2, New: "c\n", Old: "x"},
		"a number as such": {Start: -1 << 63, New: "a\n"},
	} {
		f := File{Path: "x", Later: sumOf([]byte(now)), Edits: []Edit{edit}}
		if got, err := f.Revert([]byte(now)); err == nil {
			t.Errorf("%s: the file becomes %q", about, got)
		}
	}
}

// Whatever a kept change says: what comes of it is a file, or an error.
func FuzzRevert(f *testing.F) {
	kept, err := NewFile("x", []byte("a\nb\n"), []byte("a\nc\nd\n"))
	if err != nil {
		f.Fatal(err)
	}
	whole, err := json.Marshal(kept)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole, []byte("a\nc\nd\n"), true)
	f.Add([]byte(`{"edits": [{"start": -5, "old": "x"}]}`), []byte("a\n"), true)
	f.Fuzz(func(t *testing.T, data, now []byte, same bool) {
		var file File
		if json.Unmarshal(data, &file) != nil {
			return
		}
		if same {
			file.Later = sumOf(now)
		}
		before := len(now)
		for _, e := range file.Edits {
			before += len(e.Old)
		}
		if got, err := file.Revert(now); err == nil && len(got) > before {
			t.Errorf("%d bytes become %d", len(now), len(got))
		}
	})
}
