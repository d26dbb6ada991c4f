// Package ask has what can be asked about an estate: one function for each question, with arguments as values and an
// answer as its result. It reads estates, sources, logs and stores; it parses no command line, and prints nothing.
package ask

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/source"
	"yorvet.example/yorvet/internal/store"
)

// A Place is where a question is asked: of which estate, for which day, and who asks.
type Place struct {
	Path    string       // of the estate: a file, a folder or a source
	Named   bool         // somebody named it: only then may it be a source
	Day     estate.Day   // of evaluation
	Version string       // of the program
	Store   *store.Store // where runs are kept; nil: nowhere

	Warn     func(text string)                     // gets what goes wrong as well
	Note     func(line string)                     // gets what stands beside an answer
	Agree    func(question, otherwise string) bool // asks somebody; nil: nobody is there to be asked
	Progress func(store.Progress)                  // gets how far a run of probes is
	Loaded   func()                                // is called once the estate is loaded
}

// A Question can be asked at a place.
type Question interface {
	Ask(ctx context.Context, at *Place) (*Result, error)
}

// A Result is the answer to a question.
type Result struct {
	Answer present.Answer
	Kept   func() *history.Outcome // what is kept of it; nil: nothing
	Wrong  bool                    // something that was asked about is wrong
	// Then is called once the answer was given; nil: nothing is left to do.
	Then    func() error
	Partial bool // it is not whole: a source gave only a part
}

// A Desk is an estate that questions are asked about.
type Desk struct {
	Estate   *estate.Estate
	Resolver *resolve.Resolver

	picks  map[string][]estate.ID // people, by a selector that asks nothing about a group
	byWord map[string][]estate.ID // people by a word of their name; nil: not asked yet
}

// Open loads the estate of a place.
func Open(ctx context.Context, at *Place) (*Desk, error) {
	e, err := at.Load(ctx)
	if err != nil {
		return nil, err
	}
	if at.Loaded != nil {
		at.Loaded()
	}
	return &Desk{Estate: e, Resolver: resolve.New(e, at.Day)}, nil
}

// Load loads the estate of a place.
func (at *Place) Load(ctx context.Context) (*estate.Estate, error) {
	if at.Named {
		return Load(ctx, at.Path)
	}
	if err := NoSource(at.Path); err != nil {
		return nil, err
	}
	e, err := estatefile.Load(ctx, at.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, ErrNoEstate
	case err != nil:
		return nil, LoadError(at.Path, err)
	}
	return e, nil
}

// Use has the desk be about another estate.
func (d *Desk) Use(e *estate.Estate) {
	d.Estate, d.picks, d.byWord = e, nil, nil
	if d.Resolver != nil {
		d.Resolver = resolve.New(e, d.Resolver.Today())
	}
}

// NoSource refuses an estate that is a source where none was named: looking into a
// folder neither runs nor reaches what a file there names.
func NoSource(path string) error {
	if source.Is(path) {
		return Errorf("%s, which is here, is a source rather than an estate; a source is used only where it is named: "+
			"--estate %s", path, path)
	}
	return nil
}

// ErrNoEstate says that no estate is named, and none is here.
var ErrNoEstate = Errorf("there is no estate here: neither estate.yaml nor a folder estate; name one with " +
	"--estate, or try yorvet demo")

// LoadError says why an estate could not be loaded.
func LoadError(path string, err error) error {
	var bad *estatefile.Errors
	if errors.As(err, &bad) {
		n := len(bad.List) + bad.More
		noun := "errors"
		if n == 1 {
			noun = "error"
		}
		return fmt.Errorf("%w\n%d %s in %s", err, n, noun, path)
	}
	var file *fs.PathError
	if errors.As(err, &file) {
		return Errorf("the estate: %w", file)
	}
	return Errorf("%w", err)
}
