package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/source"
	"yorvet.example/yorvet/internal/store"
)

// storeVariable is the environment variable that names the store.
const storeVariable = "YORVET_STORE"

// storeFlag is the flag of commands that have to do with runs.
func storeFlag() cli.Flag {
	return &cli.StringFlag{
		Name: "store",
		Usage: "keep runs in a `FILE`, or at the URL of a PostgreSQL database; without it $" + storeVariable +
			" counts, or else a file in your state folder",
	}
}

// openStore opens the store that is named, or the usual one. With wanted it has to be there.
func openStore(ctx context.Context, cmd *cli.Command, wanted bool) (*store.Store, error) {
	where := cmd.String("store")
	if where != "" && store.IsURL(where) && store.HasPassword(where) {
		return nil, usageError("--store has a password in it, which others on this machine can read; leave it out and " +
			"set PGPASSWORD, use a passfile, or put the URL into $" + storeVariable)
	}
	if where == "" {
		where = os.Getenv(storeVariable)
	}
	if where == "" {
		folder, err := localfile.StateFolder()
		if err != nil {
			return nil, usageError("name the store with --store: %w", err)
		}
		where = filepath.Join(folder, "runs.db")
	}
	if _, err := os.Stat(where); wanted && !store.IsURL(where) && errors.Is(err, os.ErrNotExist) {
		return nil, &noRunsError{where}
	}
	s, err := store.Open(ctx, where)
	switch {
	case err == nil:
		return s, nil
	case errors.Is(err, store.ErrNewer), !store.IsURL(where):
		return nil, usageError("%w", err)
	}
	return nil, networkError(err)
}

// noRunsError says that there is no store.
type noRunsError struct{ where string }

func (e *noRunsError) Error() string { return "yorvet: there are no runs yet: no file " + e.where }

// evaluated loads the estate anew, with its files as the store keeps them. An estate that is
// a source is not kept.
func (s *session) evaluated() (probe.Evaluated, error) {
	path := estatePath(s.cmd)
	if source.Is(path) {
		return probe.Evaluated{Digest: "of a source, " + path, Path: path}, nil
	}
	e, taken, err := estatefile.Take(s.ctx, path)
	if errors.Is(err, estatefile.ErrTooLarge) {
		return probe.Evaluated{Digest: "too large, " + path, Path: path}, nil
	}
	if err != nil {
		return probe.Evaluated{}, loadError(path, err)
	}
	s.use(e)
	return probe.Evaluated{Digest: taken.Digest, Body: taken.Body, Path: path}, nil
}

// kept returns a run of the store.
func (s *session) kept(st *store.Store, name string, l *connections.Connections) (*probe.Kept, error) {
	k, err := probe.Load(s.ctx, st, name, l, estatefile.Restore, s.r)
	if errors.Is(err, store.ErrNoRun) {
		return nil, usageError("there is no run %s; yorvet runs list shows those that are kept", name)
	}
	if err != nil {
		return nil, fmt.Errorf("run %s: %w", name, err)
	}
	s.use(k.Plan.Estate())
	s.r = k.Plan.Resolver()
	return k, nil
}
