package propose

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/source"
)

// An Import brings an estate to where its sources are, or creates it.
type Import struct {
	Sources []string
	source.Options
	Name     string   // of a new estate
	Prefer   []string // main addresses whose owners have what others claim as an alias
	Known    string   // a file of what is known already, "": none
	Prune    bool     // take out people that no source has
	Coverage bool     // say of each column or attribute whether it was taken

	AllowRemoval int // how many removals of a kind are made in any case
	AllowOpening int // how many groups may be opened to anyone outside

	wanted    []string // domains that were asked for
	merged    *directory.Merged
	remarks   []directory.Remark
	conflicts []directory.Conflict
}

// Change reads the sources and makes the change.
func (x *Import) Change(ctx context.Context, at *ask.Place, how *Manner) (*ask.Result, error) {
	for _, domain := range x.Domains {
		if _, err := address.ParseDomain(domain); err != nil {
			return nil, ask.Errorf("--domain: %w", err)
		}
	}
	x.wanted = slices.Clone(x.Domains)
	_, err := os.Stat(at.Path)
	isNew := errors.Is(err, os.ErrNotExist)
	if err := x.read(ctx, at.Path, isNew); err != nil {
		return nil, err
	}
	remember, err := ask.Forget(ctx, x.Known, x.merged)
	if err != nil {
		return nil, err
	}
	x.remarks, x.conflicts = x.merged.Remarks, x.merged.Conflicts
	var r *ask.Result
	if isNew {
		r, err = x.create(ctx, at.Path, how)
	} else {
		r, err = Change(ctx, at, how, x)
	}
	if failed := remember(); failed != nil && err == nil {
		err = failed
	}
	return r, err
}

// read reads the sources and makes one of them.
func (x *Import) read(ctx context.Context, path string, isNew bool) (err error) {
	merging := directory.MergeOptions{Name: x.Name, Prefer: x.Prefer}
	if !isNew {
		before, err := estatefile.Load(ctx, path)
		if err != nil {
			return ask.LoadError(path, err)
		}
		merging.Known = ask.Has(before)
		for _, domain := range ask.DomainsOf(before) {
			if !slices.Contains(x.Domains, domain) {
				x.Domains = append(x.Domains, domain)
			}
		}
	}
	merging.Domains = x.Domains
	if x.merged, err = ask.ReadSources(ctx, x.Sources, x.Options, merging); err != nil {
		return err
	}
	if len(x.Domains) == 0 && x.merged.NeedsDomain && len(x.merged.Domains) > 0 && !slices.Contains(x.Sources, "-") {
		// The domains that were found name groups, now rather than at the next import.
		x.Domains = x.merged.Domains
		x.merged, err = ask.ReadSources(ctx, x.Sources, x.Options, merging)
	}
	return err
}

// create makes an estate of the sources.
func (x *Import) create(ctx context.Context, path string, how *Manner) (*ask.Result, error) {
	m := x.merged
	if len(m.Domains) == 0 {
		return nil, ask.Errorf("the sources name no domain that is yours, say --domain")
	}
	// The files are made while it is tried whether they are an estate.
	files := make(chan *estatefile.Prepared, 1)
	go func() { files <- m.Prepare(path) }()
	_, err := m.Build()
	prepared := <-files
	if err != nil {
		return nil, ask.LoadError(path, err)
	}
	a := newImportAnswer(path, m, x.Coverage)
	a.Files = prepared.Files()
	if !how.Preview {
		if err := prepared.Create(ctx); err != nil {
			return nil, ask.Errorf("%w", err)
		}
		// It is an estate if it can be loaded as one.
		if _, err := estatefile.Load(ctx, path); err != nil {
			return nil, fmt.Errorf("yorvet: %s was written, and is no estate\n%w", path, ask.LoadError(path, err))
		}
		a.Written = true
	}
	return &ask.Result{Answer: a}, ask.Whole(m)
}

// propose brings an estate to where its sources are.
func (x *Import) propose(w *work) error {
	m := x.merged
	m.Remarks, m.Conflicts = slices.Clone(x.remarks), slices.Clone(x.conflicts) // of an attempt before, none
	for _, domain := range x.wanted {
		if a, err := address.ParseDomain(domain); err == nil && !w.Estate.InsideDomain(a) {
			w.draft.Apply(change.AddDomain{Name: domain})
		}
	}
	gone := m.Update(w.draft, directory.Options{Today: w.Resolver.Today(), Prune: x.Prune})
	people := 0
	if x.Prune {
		people = len(gone.People)
	}
	w.after = ask.Whole(m)
	w.refused = ask.GuardRemoval(x.AllowRemoval, w.Estate, len(gone.Groups), gone.Memberships, people)
	if w.refused == nil {
		w.refused = guardSources(x.AllowRemoval, gone)
	}
	if w.refused == nil {
		w.refused = guardOpening(x.AllowOpening, w)
	}
	if w.refused != nil && w.how.Preview {
		w.note("%s", strings.TrimPrefix(w.refused.Error(), "yorvet: "))
	}
	w.wrap = func(change *present.EstateChange) present.Answer {
		a := newImportAnswer(w.path, m, x.Coverage)
		a.Change, a.Written = change, change.Written
		a.Gone = present.ImportGone{
			Groups: append(a.Gone.Groups, gone.Groups...),
			People: append(a.Gone.People, gone.People...),
			Pruned: x.Prune,
		}
		return a
	}
	return nil
}

// fewestGroups is from how many groups on a source that shows none any more is not believed.
const fewestGroups = 3

// guardSources refuses a change in which a source, even one that does not manage its groups, has lost half of
// what it had, or all: it may have been cut off, or have lost a column.
func guardSources(allowed int, gone directory.Gone) error {
	for _, name := range slices.Sorted(maps.Keys(gone.Shrunk)) {
		n, all := gone.Shrunk[name][0], gone.Shrunk[name][1]
		if n < fewestGroups || n <= allowed {
			continue
		}
		shows := "does not show " + strconv.Itoa(n) + " of its groups any more"
		if n == all {
			shows = "shows no group any more"
		}
		return ask.Errorf("%s %s, and the change would remove %d of its %d groups; nothing is written. If that is "+
			"intended: --allow-removal %d", name, shows, n, all, n)
	}
	for _, name := range slices.Sorted(maps.Keys(gone.Reset)) {
		if n, all := gone.Reset[name][0], gone.Reset[name][1]; n >= fewestGroups && 2*n >= all &&
			n > allowed {
			return ask.Errorf("the sources say no %s any more of %d of the %d groups that have one; nothing is written. "+
				"If that is intended: --allow-removal %d", name, n, all, n)
		}
	}
	return nil
}

// guardOpening refuses a change by which strangers from outside may write to more groups than are allowed, where
// they were held or refused: a source may have lost a column.
func guardOpening(allowed int, w *work) error {
	later, err := w.draft.Estate()
	if err != nil {
		return nil // which is reported when it is written
	}
	now := resolve.New(later, w.Resolver.Today())
	admits := func(r *resolve.Resolver, g estate.ID) bool {
		return r.Gate(g).Post(r.Strangers().Outside, resolve.Message{}).Verdict == estate.Admit
	}
	var opened []string
	for g := range estate.ID(w.Estate.Groups()) {
		id, ok := later.Exact(w.Estate.Address(g))
		if ok && later.IsGroup(id) && !admits(w.Resolver, g) && admits(now, id) {
			opened = append(opened, w.Estate.Address(g).String())
		}
	}
	if n := len(opened); n >= fewestGroups && n > allowed {
		return ask.Errorf("the change would open %d groups to anyone outside: %s; nothing is written. If that is "+
			"intended: --allow-opening %d", n, ask.Some(opened), n)
	}
	return nil
}
