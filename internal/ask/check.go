package ask

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// Check asks which hazards an estate has.
type Check struct {
	Groups     Groups
	Only, Skip []string // names of hazards
	By         string   // the order, one of present.HazardOrders; "": severity
	FailOn     string   // the severity from which something is wrong, or never; "": high
	Baseline   string   // a file of hazards that are known, or ""
	Update     bool     // what is found is written into it
}

// Ask looks for hazards.
func (q *Check) Ask(ctx context.Context, at *Place) (*Result, error) {
	threshold, fails := hazard.High, q.FailOn != "never"
	if fails && q.FailOn != "" {
		var ok bool
		if threshold, ok = estate.WordIndex[hazard.Severity](hazard.SeverityWords(), q.FailOn); !ok {
			return nil, Errorf("--fail-on takes high, medium, low or never, not %q", q.FailOn)
		}
	}
	layout := present.HazardLayout{Full: len(q.Only) > 0, By: q.By}
	if q.By != "" && !slices.Contains(present.HazardOrders(), q.By) {
		return nil, Unknown("order of --by", q.By, present.HazardOrders())
	}
	if q.Update && q.Baseline == "" {
		return nil, Errorf("--update-baseline needs --baseline with the file")
	}
	checks, err := q.checks()
	if err != nil {
		return nil, err
	}
	began := clock.Now()
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	findings := hazard.Run(d.Resolver, checks)
	if layout.Groups, err = d.Groups(q.Groups); err != nil {
		return nil, err
	}
	if q.Groups.Some() {
		findings = slices.DeleteFunc(findings, func(f hazard.Finding) bool {
			return !slices.Contains(layout.Groups, f.Group)
		})
	}
	a := present.NewHazards(d.Resolver, checks, findings, layout)
	if err := q.compare(ctx, a); err != nil {
		return nil, err
	}
	wrong := fails && a.Worst(threshold)
	return &Result{Answer: a, Wrong: wrong, Kept: func() *history.Outcome { return at.hazards(began, a, wrong) }}, nil
}

// hazards returns what is kept of a check. Of more than are kept, none is put into words.
func (at *Place) hazards(began time.Time, a *present.Hazards, wrong bool) *history.Outcome {
	o := at.outcome("check", began, a)
	o.Wrong = wrong
	for _, n := range a.Counts {
		o.Bad += n
	}
	if o.Bad > store.MostFacts {
		o.Truncated = o.Bad
		return o
	}
	for h := range a.Brief() {
		o.Facts = append(o.Facts, store.Fact{Name: h.ID, Group: strings.ToLower(h.Group), Who: strings.ToLower(h.Address),
			Severity: h.Severity, Says: h.Name + ": " + h.Says})
	}
	return o
}

// mostBaseline is the size in bytes of a baseline that is read.
const mostBaseline = 256 << 20

// compare sets what is found beside the hazards that are known, or has them known from now on.
func (q *Check) compare(ctx context.Context, a *present.Hazards) error {
	if q.Baseline == "" {
		return nil
	}
	if q.Update {
		if q.Groups.Some() || len(q.Only)+len(q.Skip) > 0 {
			return Errorf("--update-baseline takes what is found in all groups by all checks, not in some")
		}
		if err := q.update(ctx, a); err != nil {
			return err
		}
	}
	data, err := localfile.Read(ctx, q.Baseline, mostBaseline)
	if err != nil {
		return Errorf("--baseline: %w", err)
	}
	b, err := present.ParseBaseline(q.Baseline, data)
	if err != nil {
		return Errorf("%w", err)
	}
	a.Against(q.Baseline, b)
	return nil
}

// update writes what is found into the baseline. Another file than one is not replaced.
func (q *Check) update(ctx context.Context, a *present.Hazards) error {
	data, err := a.Baseline()
	if err != nil {
		return err
	}
	old, err := localfile.Read(ctx, q.Baseline, mostBaseline)
	if err == nil {
		_, err = present.ParseBaseline(q.Baseline, old)
	} else if errors.Is(err, fs.ErrNotExist) {
		err = nil
	} else {
		err = Errorf("--baseline: %w", err)
	}
	if err != nil {
		return Errorf("%w", err)
	}
	if err := localfile.Write(q.Baseline, data, 0o644); err != nil {
		return Errorf("%w", err)
	}
	return nil
}

// checks returns the checks that Only and Skip leave.
func (q *Check) checks() ([]*hazard.Check, error) {
	for _, name := range slices.Concat(q.Only, q.Skip) {
		if _, err := FindCheck(name); err != nil {
			return nil, err
		}
	}
	var checks []*hazard.Check
	for _, c := range hazard.All() {
		if (len(q.Only) == 0 || slices.Contains(q.Only, c.Name)) && !slices.Contains(q.Skip, c.Name) {
			checks = append(checks, c)
		}
	}
	if len(checks) == 0 {
		return nil, Errorf("--only and --skip leave nothing to look for")
	}
	return checks, nil
}

// FindCheck returns the check for the hazard of a name.
func FindCheck(name string) (*hazard.Check, error) {
	var known []string
	for _, c := range hazard.All() {
		if c.Name == name {
			return c, nil
		}
		known = append(known, c.Name)
	}
	return nil, Unknown("hazard", name, known)
}
