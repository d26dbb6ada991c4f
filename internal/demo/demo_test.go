package demo

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
)

// The estate as it is written down is large enough, and differs from what the
// mail service has in who posts or receives in some groups, but not in most.
func TestEstates(t *testing.T) {
	dir := t.TempDir()
	if err := Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	written, err := estatefile.Load(context.Background(), filepath.Join(dir, Estate))
	if err != nil {
		t.Fatal(err)
	}
	served, err := estatefile.Load(context.Background(), filepath.Join(dir, "served"))
	if err != nil {
		t.Fatal(err)
	}
	if written.People() < 40 || written.Groups() < 14 || served.Groups() != written.Groups() || served.People() != written.People() {
		t.Errorf("%d people and %d groups, served %d and %d", written.People(), written.Groups(), served.People(), served.Groups())
	}
	day, _ := estate.ParseDay("2026-11-23")
	r, other := resolve.New(written, day), resolve.New(served, day)
	var different []string
	for id := range estate.ID(written.Groups()) {
		if !sameDelivery(r, other, id) || r.Gate(id).Judge(r.Strangers().Outside, resolve.Message{}) != other.Gate(id).Judge(other.Strangers().Outside, resolve.Message{}) {
			different = append(different, written.Address(id).String())
		}
	}
	if len(different) < 4 || len(different) > 10 {
		t.Errorf("these groups differ: %v", different)
	}
}

// sameDelivery compares what everybody gets of a message by a member of the
// board.
func sameDelivery(r, other *resolve.Resolver, group estate.ID) bool {
	director := address.MustParse("bero.fell@kelpmere.example")
	s, o := r.Sender(director), other.Sender(director)
	a, b := r.Deliver(resolve.Query{Group: group, Sender: &s}), other.Deliver(resolve.Query{Group: group, Sender: &o})
	if len(a.Recipients()) != len(b.Recipients()) {
		return false
	}
	for i, recipient := range a.Recipients() {
		if recipient.Outcome != b.Recipients()[i].Outcome {
			return false
		}
	}
	return true
}

// A file that an earlier demo wrote is replaced; any other is not.
func TestWriteReplacesItsOwn(t *testing.T) {
	dir := t.TempDir()
	groups := filepath.Join(dir, Estate, "groups.yaml")
	if err := os.MkdirAll(filepath.Dir(groups), 0o755); err != nil {
		t.Fatal(err)
	}
	old := []byte("yorvet: 1 # of an earlier version\n")
	if err := os.WriteFile(groups, old, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := Write(t.Context(), dir); err == nil {
		t.Fatal("the demo replaces a file that it did not write")
	}
	if entries, _ := os.ReadDir(dir); len(entries) != 1 {
		t.Errorf("it wrote something all the same: %v", entries)
	}
	if err := os.WriteFile(filepath.Join(dir, record), []byte(sum(old)+" estate/groups.yaml\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := Write(t.Context(), dir); err != nil {
		t.Fatalf("the demo does not replace its own file: %v", err)
	}
	if data, _ := os.ReadFile(groups); string(data) == string(old) {
		t.Error("the file is the old one")
	}
}
