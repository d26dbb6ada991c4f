package estate_test

import (
	"bytes"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"slices"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/sample"
)

func compiledBytes(e *estate.Estate) []byte { return bytes.Join(slices.Collect(clones(e)), nil) }

func clones(e *estate.Estate) func(func([]byte) bool) {
	return func(yield func([]byte) bool) {
		for piece := range e.Compiled() {
			if !yield(bytes.Clone(piece)) {
				return
			}
		}
	}
}

func compiled(t *testing.T, e *estate.Estate) *estate.Estate {
	t.Helper()
	again, err := estate.FromCompiled(compiledBytes(e))
	if err != nil {
		t.Fatal(err)
	}
	return again
}

// same fails where two estates tell different things.
func same(t *testing.T, got, want *estate.Estate) {
	t.Helper()
	check := func(what string, got, want any) {
		t.Helper()
		if !reflect.DeepEqual(got, want) {
			t.Fatalf("%s is\n%+v, want\n%+v", what, got, want)
		}
	}
	check("settings", got.Settings(), want.Settings())
	check("counts", [3]int{got.Groups(), got.People(), got.Memberships()},
		[3]int{want.Groups(), want.People(), want.Memberships()})
	check("unknown", got.Unknown(), want.Unknown())
	check("order", got.PeopleByAddress(), want.PeopleByAddress())
	check("domains", got.Domains(), want.Domains())
	for name, n := range want.DomainNames() {
		for other, m := range got.DomainNames() {
			check("number of "+name, other == name, m == n)
		}
	}
	var addresses []address.Address
	for id := range estate.ID(want.Groups()) {
		check("group", got.Group(id), want.Group(id))
		check("entries", slices.Concat(got.Entries(id)), slices.Concat(want.Entries(id)))
		check("rules", got.Rules(id), want.Rules(id))
		check("children", slices.Concat(got.Children(id)), slices.Concat(want.Children(id)))
		check("parents", slices.Concat(got.Parents(id)), slices.Concat(want.Parents(id)))
		check("names", got.Also(id), want.Also(id))
		addresses = append(append(addresses, want.Address(id)), want.Also(id)...)
		for _, entry := range want.Entries(id) {
			check("member", got.Address(entry.Member), want.Address(entry.Member))
		}
	}
	for i := range want.People() {
		id := want.PersonID(i)
		check("person", got.Person(id), want.Person(id))
		check("attributes", got.Attributes(id), want.Attributes(id))
		check("rank", got.Rank(id), want.Rank(id))
		check("inside", got.Inside(id), want.Inside(id))
		addresses = append(append(addresses, want.Address(id)), want.Also(id)...)
	}
	for _, text := range []string{"nobody@kelp.example", "p+x@kelp.example", "someone@elsewhere.example"} {
		addresses = append(addresses, address.MustParse(text))
	}
	for _, a := range addresses {
		gotID, gotOK := got.Find(a)
		wantID, wantOK := want.Find(a)
		check("who has "+a.String(), [2]any{gotID, gotOK}, [2]any{wantID, wantOK})
		check("domain of "+a.String(), got.Domain(a.Domain()), want.Domain(a.Domain()))
	}
	for _, name := range []string{"post", "Post", "years"} {
		check("name of attribute", got.AttributeName(name), want.AttributeName(name))
	}
}

// An estate that was compiled tells what it told, however it was made.
func TestCompiled(t *testing.T) {
	for _, name := range []string{demo.Estate, demo.Changed} {
		e := sample.Demo(t, name).Estate()
		same(t, compiled(t, e), e)
	}
	random := rand.New(rand.NewPCG(17, 4))
	for range 300 {
		e := sample.Load(t, sample.Estate(random)).Estate()
		same(t, compiled(t, e), e)
	}
	dir := t.TempDir()
	if _, err := sample.Heavy(dir, sample.Small, 3); err != nil {
		t.Fatal(err)
	}
	e, err := estatefile.Load(t.Context(), filepath.Join(dir, "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	again := compiled(t, e)
	same(t, again, e)
	if !bytes.Equal(compiledBytes(again), compiledBytes(e)) {
		t.Error("what was compiled is compiled otherwise")
	}
}

// Parts of a compiled estate are exchanged as those of any other.
func TestCompiledWith(t *testing.T) {
	e := sample.Demo(t, demo.Estate).Estate()
	again := compiled(t, e)
	parts := estate.Parts{Groups: map[estate.ID]estate.Group{1: *e.Group(2)}, Entries: map[estate.ID][]estate.Entry{0: nil}}
	parts.Groups[1] = func() estate.Group {
		g := *e.Group(1)
		g.Title, g.Gate = "Other", nil
		return g
	}()
	same(t, again.With(parts), e.With(parts))
	same(t, again, e)
}

// Bytes that are no compiled estate are refused, or read as another one: nothing but an error,
// and no end in sight of memory, comes of them.
func FuzzFromCompiled(f *testing.F) {
	e := sample.Demo(f, demo.Estate).Estate()
	whole := compiledBytes(e)
	f.Add(whole, 0, byte(0))
	f.Add(whole[:len(whole)/2], 5, byte(1))
	f.Add([]byte{}, 0, byte(0))
	f.Fuzz(func(t *testing.T, data []byte, at int, change byte) {
		data = append(make([]byte, 0, len(data)+8), data...)
		if len(data) > 0 {
			data[max(at, 0)%len(data)] ^= change
		}
		if e, err := estate.FromCompiled(data); err == nil {
			askAll(e)
		}
	})
}

// Whatever byte of a compiled estate is another one, and wherever it is cut: it is refused, or all
// questions about it have an answer.
func TestCraftedForms(t *testing.T) {
	whole := compiledBytes(sample.Demo(t, demo.Estate).Estate())
	random := rand.New(rand.NewPCG(30, 1))
	taken, step := 0, 1
	if !campaign.On() {
		step = 17
	}
	for at := 0; at < len(whole); at += step {
		data := bytes.Clone(whole)
		data[at] ^= byte(1 << random.IntN(8))
		if at%3 == 0 {
			data[at] = 0xff
		}
		if e, err := estate.FromCompiled(data); err == nil {
			taken++
			askAll(e)
		}
	}
	t.Logf("%d of %d changed forms are estates", taken, len(whole))
}

// askAll asks everything that can be asked of an estate.
func askAll(e *estate.Estate) {
	for id := range estate.ID(e.Groups()) {
		g := e.Group(id)
		e.Settings().Position(g.Place)
		_, _, _ = e.Address(id), e.Also(id), e.Parents(id)
		for _, entry := range e.Entries(id) {
			_, _, _ = e.Address(entry.Member), entry.Copy().String(), entry.Invitations().String()
			e.Settings().Position(entry.Place)
		}
		for _, child := range e.Children(id) {
			e.Group(child.Group)
		}
	}
	for i := range e.People() {
		id := e.PersonID(i)
		_, _, _, _ = e.Person(id).Mailbox.String(), e.Attributes(id), e.Inside(id), e.PeopleByAddress()[e.Rank(id)]
		e.Settings().Position(e.Person(id).Place)
	}
	for _, text := range []string{"nobody@kelpmere.example", "ines.maro+x@kelpmere.example", "ines.maro@kelpmere.example"} {
		if id, ok := e.Find(address.MustParse(text)); ok {
			e.Address(id)
		}
	}
	resolve.New(e, 20000).Survey()
	for id := range min(estate.ID(e.Groups()), 5) {
		resolve.New(e, 20000).Flow(id, resolve.Message{}).Outcomes()
	}
}
