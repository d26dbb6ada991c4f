package ask

import (
	"context"
	"errors"
	"fmt"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/source"
	"yorvet.example/yorvet/internal/store"
)

// Evaluated loads the estate again, with its files as the store keeps them. An estate that is
// a source is not kept.
func (d *Desk) Evaluated(ctx context.Context, at *Place) (probe.Evaluated, error) {
	if source.Is(at.Path) {
		return probe.Evaluated{Digest: "of a source, " + at.Path, Path: at.Path}, nil
	}
	e, taken, err := estatefile.Take(ctx, at.Path)
	if errors.Is(err, estatefile.ErrTooLarge) {
		return probe.Evaluated{Digest: "too large, " + at.Path, Path: at.Path}, nil
	}
	if err != nil {
		return probe.Evaluated{}, LoadError(at.Path, err)
	}
	d.Use(e)
	return probe.Evaluated{Digest: taken.Digest, Body: taken.Body, Path: at.Path}, nil
}

// Kept returns a run of the store, and has the desk be about the estate that is kept of it, or about the one here.
func (d *Desk) Kept(ctx context.Context, at *Place, name string, l *connections.Connections) (*probe.Kept, error) {
	k, err := probe.Load(ctx, at.Store, name, l, estatefile.Restore, d.Resolver)
	if errors.Is(err, probe.ErrNoEstate) && d.Resolver == nil {
		here, failed := Open(ctx, at)
		if failed != nil {
			return nil, failed
		}
		k, err = probe.Load(ctx, at.Store, name, l, estatefile.Restore, here.Resolver)
	}
	if errors.Is(err, store.ErrNoRun) {
		return nil, Errorf("there is no run %s; yorvet runs list shows those that are kept", name)
	}
	if err != nil {
		return nil, fmt.Errorf("run %s: %w", name, err)
	}
	d.Use(k.Plan.Estate())
	d.Resolver = k.Plan.Resolver()
	return k, nil
}

// judged returns what a run saw, with the estate that it was planned with.
func (d *Desk) judged(ctx context.Context, st *store.Store, name string) (*probe.Judgement, *resolve.Resolver, error) {
	k, err := probe.Load(ctx, st, name, &connections.Connections{}, estatefile.Restore, d.Resolver)
	if err != nil {
		return nil, nil, fmt.Errorf("run %s: %w", name, err)
	}
	run, err := k.Run()
	if err != nil {
		return nil, nil, fmt.Errorf("run %s: %w", name, err)
	}
	return probe.Judge(run), k.Plan.Resolver(), nil
}
