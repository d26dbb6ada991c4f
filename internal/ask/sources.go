package ask

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/revision"
	"yorvet.example/yorvet/internal/source"
)

// DomainsOf returns the names of the domains of an estate.
func DomainsOf(e *estate.Estate) []string {
	var list []string
	for _, d := range e.Settings().Domains {
		list = append(list, d.Name)
	}
	return list
}

// Has returns whether an estate has a person or group with an address.
func Has(e *estate.Estate) func(string) bool {
	return func(text string) bool {
		a, err := address.Parse(text)
		if err != nil {
			return false
		}
		_, ok := e.Exact(a)
		return ok
	}
}

// ReadSources reads sources, at once, and makes one of them.
// known reports whether the estate that is to follow them has an address; it may be nil.
func ReadSources(
	ctx context.Context, names []string, options source.Options, merging directory.MergeOptions,
) (*directory.Merged, error) {
	list, errs := make([]*directory.Directory, len(names)), make([]error, len(names))
	var done sync.WaitGroup
	for i, one := range names {
		done.Go(func() { list[i], errs[i] = source.Read(ctx, one, options) })
	}
	done.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, SourceError(err)
		}
	}
	return directory.Merge(list, merging), nil
}

// SourceError says why a source could not be read.
func SourceError(err error) error {
	if errors.Is(err, source.ErrNetwork) {
		return Network(err)
	}
	return Errorf("%w", err)
}

// Load loads an estate, or makes one of a source.
func Load(ctx context.Context, path string) (*estate.Estate, error) {
	if !source.Is(path) {
		e, err := estatefile.Load(ctx, path)
		if err != nil {
			return nil, LoadError(path, err)
		}
		return e, nil
	}
	m, err := ReadSources(ctx, []string{path}, source.Options{}, directory.MergeOptions{})
	if err != nil {
		return nil, err
	}
	e, err := m.Build()
	if err != nil {
		return nil, LoadError(path, err)
	}
	return e, nil
}

// Drift is an estate on disk, as it would be if it followed its sources and as it is.
type Drift struct {
	Then, Now *estate.Estate
	Merged    *directory.Merged
}

// Overlay returns how an estate on disk has drifted from sources.
func Overlay(ctx context.Context, from []string, path string, today estate.Day) (*Drift, error) {
	draft, err := estatefile.Open(ctx, path)
	if err != nil {
		return nil, LoadError(path, err)
	}
	before := draft.Before()
	m, err := ReadSources(ctx, from, source.Options{Domains: DomainsOf(before)},
		directory.MergeOptions{Domains: DomainsOf(before), Known: Has(before)})
	if err != nil {
		return nil, err
	}
	gone := m.Update(draft, directory.Options{Today: today})
	for _, who := range gone.People {
		if id, ok := before.Exact(address.MustParse(who)); ok && before.Inside(id) && m.GivesPeople {
			m.Remarks = append(m.Remarks, directory.Remark{Source: path, Harm: true, Drift: true,
				Text: who + " is in no source any more"})
		}
	}
	then, err := draft.Estate()
	if err != nil {
		return nil, LoadError(path, err)
	}
	return &Drift{then, draft.Before(), m}, nil
}

// loadSides returns the resolvers of two estates, either of which may be a source.
func loadSides(ctx context.Context, names [2]string, today estate.Day) (sides [2]*resolve.Resolver, err error) {
	var errs [2]error
	var done sync.WaitGroup
	for i, name := range names {
		done.Go(func() {
			var e *estate.Estate
			if e, errs[i] = LoadSide(ctx, name); errs[i] == nil {
				sides[i] = resolve.New(e, today)
			}
		})
	}
	done.Wait()
	return sides, errors.Join(errs[:]...)
}

// OnDisk reports whether there is a file or folder of a name.
func OnDisk(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}

// split tells sources from the one estate on disk beside them, which is the last name, or
// of two the first; path is empty where the names are otherwise.
func split(names []string) (sources []string, path string) {
	last := len(names) - 1
	for at, others := range map[int][]string{last: names[:last], 0: names[1:]} {
		if (at == last || last == 1) && !source.Is(names[at]) && OnDisk(names[at]) &&
			!slices.ContainsFunc(others, func(name string) bool { return !source.Is(name) }) {
			return others, names[at]
		}
	}
	return nil, ""
}

// LoadSide loads an estate from a path, or from a revision as REV:PATH.
func LoadSide(ctx context.Context, name string) (*estate.Estate, error) {
	rev, path, ok := strings.Cut(name, ":")
	if _, err := os.Stat(name); err == nil || source.Is(name) || !ok || rev == "" || path == "" {
		return Load(ctx, name)
	}
	tree, err := revision.Open(ctx, rev)
	if err != nil {
		return nil, Errorf("%s: %w", name, err)
	}
	e, err := estatefile.LoadFrom(ctx, tree, path, func(file string) string { return rev + ":" + file })
	if err != nil {
		return nil, LoadError(name, err)
	}
	return e, nil
}

// mostKnown is the size in bytes of a file of what is known.
const mostKnown = 64 << 20

// Forget takes out of merged sources what a file knows: remarks, and where the
// sources differ. What it returns notes the rest there.
func Forget(ctx context.Context, path string, m *directory.Merged) (remember func() error, err error) {
	if path == "" {
		return func() error { return nil }, nil
	}
	data, err := localfile.Read(ctx, path, mostKnown)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, Errorf("--known: %w", err)
	}
	known := map[string]bool{}
	for line := range strings.Lines(string(data)) {
		known[strings.TrimRight(line, "\r\n")] = true
	}
	found := map[string]bool{}
	isKnown := func(text string) bool {
		text = strings.Join(strings.Fields(text), " ")
		found[text] = true
		return known[text]
	}
	// Lines move when others come before them.
	m.Remarks = slices.DeleteFunc(m.Remarks, func(r directory.Remark) bool { return isKnown(r.Source + ": " + r.Text) })
	m.Conflicts = slices.DeleteFunc(m.Conflicts, func(c directory.Conflict) bool {
		return isKnown(c.Who + ": " + c.What + " is " + c.Taken.Value + ", not " + c.Left.Value)
	})
	return func() error {
		text := strings.Join(slices.Sorted(maps.Keys(found)), "\n") + "\n"
		if text == string(data) || len(found) == 0 && len(data) == 0 {
			return nil
		}
		if err := localfile.Write(path, []byte(text), 0o644); err != nil {
			return Errorf("--known: %w", err)
		}
		return nil
	}, nil
}

// RemarkLines says in a few lines what of sources was not taken.
func RemarkLines(remarks []directory.Remark) []string {
	const most = 5
	var lines []string
	for _, r := range remarks {
		if r.Harm {
			lines = append(lines, r.String())
		}
	}
	if more := len(lines) - most; more > 0 {
		lines = append(lines[:most], fmt.Sprintf("... and %d more of the source that is not taken; yorvet import --preview --all "+
			"shows it", more))
	}
	return lines
}

// Whole returns ErrPart where sources gave only a part of what they have.
func Whole(m *directory.Merged) error {
	if m.Partial {
		return ErrPart
	}
	return nil
}
