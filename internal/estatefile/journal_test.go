package estatefile

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

// leaveUnfinished leaves a change of all files of an estate as a writer does that is
// killed before it is in place: crew@ is called gang@ in it.
func leaveUnfinished(t *testing.T, dir string, texts map[string]string) *journal {
	t.Helper()
	j := &journal{path: filepath.Join(dir, journalName)}
	for name, text := range texts {
		if err := j.add(filepath.Join(dir, name), []byte(text), []byte(strings.ReplaceAll(text, "crew@", "gang@")), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	writeJournal(t, j.path, j)
	return j
}

func writeJournal(t *testing.T, path string, j any) {
	t.Helper()
	data, err := json.Marshal(j)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, data, 0o644); err != nil {
		t.Fatal(err)
	}
}

func leftIn(dir string) []string {
	left, _ := filepath.Glob(filepath.Join(dir, ".yorvet-*"))
	return left
}

// A change of several files that was not put in place, as its writer was killed,
// is there nevertheless: for who reads, and for the next who writes.
func TestJournal(t *testing.T) {
	dir := writeEstate(t, commented["tables"])
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	d.Apply(change.AddGroup{
		Address: address.MustParse("new@kelp.example"),
		Members: []change.Member{{Address: address.MustParse("fay@kelp.example")}},
	})
	d.Apply(change.AddPerson{Person: estate.Person{Address: address.MustParse("fay@kelp.example")}})
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	if left := leftIn(dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	dir = writeEstate(t, commented["tables"])
	leaveUnfinished(t, dir, commented["tables"])
	check := func(when string) {
		t.Helper()
		e, err := Load(t.Context(), dir)
		if err != nil {
			t.Fatal(err)
		}
		if find1(e, "gang@kelp.example") == estate.None || find1(e, "crew@kelp.example") != estate.None {
			t.Errorf("%s the change is not there", when)
		}
	}
	check("before it is in place")
	if d, err = Open(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	d.Apply(setTitle(find1(d.Before(), "gang@kelp.example"), "Gang"))
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	check("in place")
	if left := leftIn(dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// A change that was put in place in part is finished.
func TestJournalHalfDone(t *testing.T) {
	dir := writeEstate(t, commented["tables"])
	j := leaveUnfinished(t, dir, commented["tables"])
	if err := os.Rename(j.ready(j.Files[0]), j.place(j.Files[0])); err != nil {
		t.Fatal(err)
	}
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if find1(d.Before(), "gang@kelp.example") == estate.None {
		t.Error("the change is not there")
	}
	d.Apply(setTitle(0, "First"))
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	if e, err := Load(t.Context(), dir); err != nil || find1(e, "gang@kelp.example") == estate.None || e.Group(0).Title != "First" {
		t.Errorf("%v", err)
	}
}

// A journal that somebody else has put there neither writes outside of the estate,
// nor reads what is no part of it: it is an error that names the journal.
func TestJournalPlanted(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside")
	const mine = "this is mine\n"
	secret := filepath.Join(t.TempDir(), "secret")
	for _, path := range []string{outside, secret} {
		if err := os.WriteFile(path, []byte(mine), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	estateText := commented["block"]["estate.yaml"]
	good := strings.ReplaceAll(estateText, "crew@", "gang@")
	const ready = readyName + "abc"
	one := func(ready, place, was, is string) journal {
		return journal{Files: []journalFile{{ready, place, digest([]byte(was)), digest([]byte(is))}}}
	}
	for about, planted := range map[string]any{
		"writes outside":      one(ready, "../outside", mine, good),
		"writes to a path":    one(ready, outside, mine, good),
		"another file":        one(ready, "notes.txt", "", good),
		"the folder":          one(ready, ".", "", good),
		"reads outside":       one("../../etc/passwd", "estate.yaml", estateText, mine),
		"reads a path":        one(secret, "estate.yaml", estateText, mine),
		"reads a file here":   one("estate.yaml", "estate.yaml", estateText, estateText),
		"an unlike name":      one(readyName+"../x", "estate.yaml", estateText, good),
		"an empty name":       one(readyName, "estate.yaml", estateText, good),
		"other content":       one(ready, "estate.yaml", estateText, "other"),
		"a link":              one(readyName+"link", "estate.yaml", estateText, mine),
		"what is not there":   one(readyName+"gone", "notes.txt", "", ""),
		"more than there is":  map[string]any{"files": []any{}, "run": "x"},
		"no list":             map[string]any{"files": 7},
		"a name of a machine": one(ready, "estate.yaml\x00", estateText, good),
	} {
		dir := writeEstate(t, commented["block"])
		for name, text := range map[string]string{ready: good, "notes.txt": ""} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Symlink(secret, filepath.Join(dir, readyName+"link")); err != nil {
			t.Fatal(err)
		}
		before, err := Open(t.Context(), dir)
		if err != nil {
			t.Fatal(err)
		}
		before.Apply(setTitle(0, "First"))
		if _, err := before.Changed(); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, journalName)
		writeJournal(t, path, planted)
		readErr := error(nil)
		if _, readErr = Load(t.Context(), dir); readErr == nil {
			t.Errorf("%s: reading is no error", about)
		} else if text := readErr.Error(); !strings.Contains(text, path) && about != "a link" || strings.Contains(text, "mine") {
			t.Errorf("%s: %v, want the journal named, and nothing of the file", about, readErr)
		}
		if err := before.Write(); err == nil {
			t.Errorf("%s: writing is no error", about)
		}
		for _, path := range []string{outside, secret} {
			if data, _ := os.ReadFile(path); string(data) != mine {
				t.Fatalf("%s: %s holds %q", about, path, data)
			}
		}
		if data, _ := os.ReadFile(filepath.Join(dir, "estate.yaml")); string(data) != estateText {
			t.Errorf("%s: the estate was written", about)
		}
	}
}

// Where a file has been changed by hand since, nothing is overwritten and both
// versions are named.
func TestJournalChangedByHand(t *testing.T) {
	dir := writeEstate(t, commented["tables"])
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	d.Apply(setTitle(0, "First"))
	if _, err := d.Changed(); err != nil {
		t.Fatal(err)
	}
	j := leaveUnfinished(t, dir, commented["tables"])
	byHand := commented["tables"]["people.csv"] + "zoe@kelp.example,Zoe\n"
	if err := os.WriteFile(filepath.Join(dir, "people.csv"), []byte(byHand), 0o644); err != nil {
		t.Fatal(err)
	}
	_, readErr := Load(t.Context(), dir)
	for what, err := range map[string]error{"reading": readErr, "writing": d.Write()} {
		f, _ := j.find(filepath.Join(dir, "people.csv"))
		if err == nil || !strings.Contains(err.Error(), j.place(f)) || !strings.Contains(err.Error(), j.ready(f)) {
			t.Errorf("%s: %v, want both versions named", what, err)
		}
	}
	if data, _ := os.ReadFile(filepath.Join(dir, "people.csv")); string(data) != byHand {
		t.Errorf("what was written by hand is gone: %s", data)
	}
	for name, text := range commented["tables"] {
		if data, _ := os.ReadFile(filepath.Join(dir, name)); name != "people.csv" && string(data) != text {
			t.Errorf("%s was written: %s", name, data)
		}
	}
}

// What killed writers have left is removed by the next one, and nothing else is.
func TestLeftovers(t *testing.T) {
	dir := writeEstate(t, commented["block"])
	for _, name := range []string{readyName + "abc", "notes.txt", ".yorvet-other"} {
		if err := os.WriteFile(filepath.Join(dir, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	d.Apply(setTitle(0, "First"))
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	if left := leftIn(dir); len(left) != 1 || filepath.Base(left[0]) != ".yorvet-other" {
		t.Errorf("left: %v", left)
	}
	if _, err := os.Stat(filepath.Join(dir, "notes.txt")); err != nil {
		t.Error(err)
	}
}

// An edit keeps the owner, group and permissions of a file, of several at once and
// of one alone, and tells of its other names.
func TestWriteKeepsOwners(t *testing.T) {
	if runtime.GOOS == "windows" || os.Geteuid() != 0 {
		t.Skip("only root may give files away")
	}
	for about, edit := range map[string]func(*Draft){
		"one file": func(d *Draft) { d.Apply(setTitle(0, "First")) },
		"several": func(d *Draft) {
			d.Apply(change.AddPerson{Person: estate.Person{Address: address.MustParse("fay@kelp.example")}})
			d.Apply(setTitle(0, "First"))
			d.Apply(change.AddGroup{
				Address: address.MustParse("new@kelp.example"),
				Members: []change.Member{{Address: address.MustParse("fay@kelp.example")}},
			})
		},
	} {
		dir := writeEstate(t, commented["tables"])
		names, _ := filepath.Glob(filepath.Join(dir, "*"))
		for _, name := range names {
			if err := os.Chown(name, 4321, 1234); err != nil {
				t.Fatal(err)
			}
			if err := os.Chmod(name, 0o660); err != nil {
				t.Fatal(err)
			}
			if err := os.Link(name, name+".kept"); err != nil {
				t.Fatal(err)
			}
		}
		d, err := Open(t.Context(), dir)
		if err != nil {
			t.Fatal(err)
		}
		edit(d)
		changed, err := d.Changed()
		if err != nil || len(changed) == 0 {
			t.Fatalf("%v %v", changed, err)
		}
		for _, c := range changed {
			if c.Names != 2 {
				t.Errorf("%s: %s has %d names, want 2", about, c.File, c.Names)
			}
		}
		if err := d.Write(); err != nil {
			t.Fatal(err)
		}
		for _, name := range names {
			info, err := os.Stat(name)
			if err != nil {
				t.Fatal(err)
			}
			stat := reflect.Indirect(reflect.ValueOf(info.Sys()))
			if uid, gid := stat.FieldByName("Uid").Uint(), stat.FieldByName("Gid").Uint(); uid != 4321 || gid != 1234 || info.Mode().Perm() != 0o660 {
				t.Errorf("%s: %s belongs to %d:%d with %v", about, name, uid, gid, info.Mode())
			}
		}
	}
}

// When ctx has ended, nothing is read or written any more.
func TestCancelled(t *testing.T) {
	dir := writeEstate(t, commented["tables"])
	ctx, stop := context.WithCancel(t.Context())
	d, err := Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	d.Apply(setTitle(0, "First"))
	if _, err := d.Changed(); err != nil {
		t.Fatal(err)
	}
	stop()
	if err := d.Write(); err == nil {
		t.Error("it was written")
	}
	if _, err := Load(ctx, dir); err == nil {
		t.Error("it was read")
	}
	for name, text := range commented["tables"] {
		if data, _ := os.ReadFile(filepath.Join(dir, name)); string(data) != text {
			t.Errorf("%s was written: %s", name, data)
		}
	}
	if left := leftIn(dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// Whatever stands in a journal: nothing outside of the estate is read or written.
func FuzzJournal(f *testing.F) {
	f.Add([]byte(`{"files":[{"ready":".yorvet-ready-abc","place":"estate.yaml","old":"","new":""}]}`))
	f.Add([]byte(`{"files":[{"ready":"../x","place":"/etc/passwd"},{"ready":".yorvet-ready-","place":"../kept"}]}`))
	f.Add([]byte(`{`))
	f.Fuzz(func(t *testing.T, data []byte) {
		root := t.TempDir()
		dir := filepath.Join(root, "e")
		text := commented["block"]["estate.yaml"]
		for path, text := range map[string]string{dir + "/estate.yaml": text, dir + "/" + readyName + "abc": text + "\n", root + "/kept": "kept", dir + "/notes": "kept"} {
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		d, err := Open(t.Context(), dir)
		if err != nil {
			t.Fatal(err)
		}
		d.Apply(setTitle(0, "First"))
		if _, err := d.Changed(); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, journalName), data, 0o644); err != nil {
			t.Fatal(err)
		}
		_ = d.Write()
		if e, err := Load(t.Context(), dir); err == nil && e.Groups() == 0 {
			t.Error("another estate was read")
		}
		for _, path := range []string{root + "/kept", dir + "/notes"} {
			if now, err := os.ReadFile(path); err != nil || string(now) != "kept" {
				t.Errorf("%s was changed: %q %v", path, now, err)
			}
		}
		if list, _ := os.ReadDir(root); len(list) != 2 {
			t.Errorf("something was written beside the estate: %v", list)
		}
	})
}
