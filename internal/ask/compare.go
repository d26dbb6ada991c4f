package ask

import (
	"context"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/source"
	"yorvet.example/yorvet/internal/store"
)

// Compare asks what changes from one estate to another, or how sources and an estate have drifted apart.
type Compare struct {
	Names []string // two estates, the old one first; or sources and one estate on disk
	Same  bool     // anything that changes is wrong; what has drifted always is
	Known string   // a file of what has been told of sources, or ""
}

// Ask compares them.
func (q *Compare) Ask(ctx context.Context, at *Place) (*Result, error) {
	if len(q.Names) < 2 {
		return nil, Errorf("compare needs two estates, OLD and NEW")
	}
	began := clock.Now()
	sources, path := split(q.Names)
	switch {
	case path != "":
		return q.drift(ctx, at, sources, path)
	case len(q.Names) > 2:
		return nil, Errorf("compare takes two estates, or several sources and one estate on disk behind them")
	}
	before, after := q.Names[0], q.Names[1]
	sides, err := loadSides(ctx, [2]string{before, after}, at.Day)
	if err != nil {
		return nil, err
	}
	a := present.NewComparison(sides[0], sides[1])
	wrong := (q.Same || source.Is(before) || source.Is(after)) && !a.IsEmpty()
	return &Result{Answer: a, Wrong: wrong, Kept: func() *history.Outcome { return at.comparison(after, began, a) }}, nil
}

// drift tells how an estate on disk and its sources have drifted apart: from what the estate says to what the
// sources say now, in whatever order they are named.
func (q *Compare) drift(ctx context.Context, at *Place, sources []string, path string) (*Result, error) {
	began := clock.Now()
	d, err := Overlay(ctx, sources, path, at.Day)
	if err != nil {
		return nil, err
	}
	remember, err := Forget(ctx, q.Known, d.Merged)
	if err != nil {
		return nil, err
	}
	isOpen := func(r directory.Remark) bool { return r.Drift }
	for _, line := range RemarkLines(slices.DeleteFunc(slices.Clone(d.Merged.Remarks), isOpen)) {
		at.Note(line)
	}
	a := present.NewComparison(resolve.New(d.Now, at.Day), resolve.New(d.Then, at.Day))
	a.Drift = &present.Drift{Estate: path, Sources: sources}
	for _, r := range d.Merged.Remarks {
		if isOpen(r) {
			a.Open = append(a.Open, r.String())
		}
	}
	return &Result{Answer: a, Wrong: !a.IsEmpty(), Then: remember, Partial: d.Merged.Partial,
		Kept: func() *history.Outcome { return at.comparison(path, began, a) }}, nil
}

// comparison returns what is kept of a comparison: every difference.
func (at *Place) comparison(path string, began time.Time, a *present.Comparison) *history.Outcome {
	o := at.outcome("compare", began, a)
	o.Series = history.NewSeries("compare", path, "")
	for _, d := range a.Differences() {
		o.Facts = append(o.Facts, store.Fact{Name: nameOf(d.Group, d.Who, d.Says, d.Detail), Group: strings.ToLower(d.Group),
			Who: strings.ToLower(d.Who), Says: d.Says})
	}
	o.Bad, o.Wrong = len(o.Facts), len(o.Facts) > 0
	return o
}
