package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/localfile"
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

// storePlace returns where the store is that is named, or the usual one; named is whether it is named.
func storePlace(cmd *cli.Command) (where string, named bool, err error) {
	where = cmd.String("store")
	if where != "" && store.IsURL(where) && store.HasPassword(where) {
		return "", true, ask.Errorf("--store has a password in it, which others on this machine can read; leave it out and " +
			"set PGPASSWORD, use a passfile, or put the URL into $" + storeVariable)
	}
	if where == "" {
		where = os.Getenv(storeVariable)
	}
	if where != "" {
		return where, true, nil
	}
	folder, err := localfile.StateFolder()
	if err != nil {
		return "", false, ask.Errorf("name the store with --store: %w", err)
	}
	return filepath.Join(folder, "runs.db"), false, nil
}

// openPlace opens the store at a place, for no estate yet. With wanted it has to be there.
func openPlace(ctx context.Context, where string, wanted bool) (*store.Store, error) {
	if _, err := os.Stat(where); wanted && !store.IsURL(where) && errors.Is(err, os.ErrNotExist) {
		return nil, &noRunsError{where}
	}
	s, err := store.Open(ctx, where)
	switch {
	case err == nil:
		return s, nil
	case errors.Is(err, store.ErrNewer), !store.IsURL(where):
		return nil, ask.Errorf("%w", err)
	}
	return nil, ask.Network(err)
}

// openNamed opens the store that is named, or the usual one, for no estate yet. With wanted it has to be there.
func openNamed(ctx context.Context, cmd *cli.Command, wanted bool) (*store.Store, error) {
	where, _, err := storePlace(cmd)
	if err != nil {
		return nil, err
	}
	return openPlace(ctx, where, wanted)
}

// openHere opens the store that is named, or the usual one, for the estate here, which has to be there.
func openHere(ctx context.Context, cmd *cli.Command, streams Streams) (*store.Store, error) {
	if !ask.OnDisk(estatePath(cmd)) {
		return nil, ask.ErrNoEstate
	}
	return openStore(ctx, cmd, streams, estatePath(cmd), false)
}

// openStore opens the store that is named, or the usual one, for the estate at a path. With wanted it
// has to be there.
func openStore(ctx context.Context, cmd *cli.Command, streams Streams, path string, wanted bool) (*store.Store, error) {
	where, named, err := storePlace(cmd)
	if err != nil {
		return nil, err
	}
	st, err := openPlace(ctx, where, wanted)
	if err != nil {
		return nil, err
	}
	e := &entry{ctx: ctx, streams: streams, store: st, path: path, looks: wanted}
	if named {
		e.named = where
	}
	mine, err := e.enter()
	if err != nil {
		st.Close()
		return nil, err
	}
	return mine, nil
}

// openListed opens the store that is named or the usual one, which has to be there, to show what it keeps
// of the estate here, or of all of them.
func openListed(ctx context.Context, cmd *cli.Command, streams Streams) (*store.Store, error) {
	if !cmd.Bool("all-estates") {
		return openStore(ctx, cmd, streams, estatePath(cmd), true)
	}
	st, err := openNamed(ctx, cmd, true)
	if err != nil {
		return nil, err
	}
	return st.All(), nil
}

// peek opens the store that is named or the usual one, as the estate sees it, and writes nothing; nil
// if there is none, or the estate has not used it yet.
func peek(ctx context.Context, cmd *cli.Command) (*store.Store, error) {
	folder, err := store.FolderOf(estatePath(cmd))
	if err != nil {
		return nil, err
	}
	identity, err := store.ReadIdentity(ctx, folder)
	if err != nil || identity.Estate == "" {
		return nil, err
	}
	st, err := openNamed(ctx, cmd, true)
	if _, none := errors.AsType[*noRunsError](err); none {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return st.Of(identity.Estate), nil
}

// entry is how an estate comes into a store.
type entry struct {
	ctx     context.Context
	streams Streams
	store   *store.Store
	path    string // of the estate
	named   string // where the store is, if somebody named it
	looks   bool   // it looks at what is there: nothing is written beside it
}

// enter returns the store as the estate sees it. An estate has its identity in a file beside it; one
// without gets one when it first keeps something, and sees before that what an earlier store has of no
// estate yet. Where no estate is, the only one of the store is meant.
func (e *entry) enter() (*store.Store, error) {
	folder, err := store.FolderOf(e.path)
	if err != nil {
		return nil, err
	}
	identity, err := store.ReadIdentity(e.ctx, folder)
	if err != nil {
		return nil, err
	}
	if identity.Estate == "" {
		switch {
		case !ask.OnDisk(e.path):
			return onlyEstate(e.ctx, e.store)
		case e.looks:
			return e.store, nil
		}
		return e.begin(folder, false)
	}
	mine, err := e.store.Enter(e.ctx, identity.Estate, store.Here(folder), false, e.paths()...)
	elsewhere, ok := errors.AsType[*store.ElsewhereError](err)
	switch {
	case !ok:
		return mine, stored(err)
	case !askable(e.streams):
		return nil, ask.Errorf("%w; if this is that estate: yorvet store join; if it is another, made from a copy: "+
			"yorvet store begin", elsewhere)
	case agreed(e.ctx, e.streams, elsewhere.Error()+". Is it the same estate, with the same runs and plans?",
		"It begins as an estate of its own."):
		return e.join(identity.Estate, folder)
	}
	return e.begin(folder, true)
}

// begin gives the estate an identity of its own, instead of one that it has or not.
func (e *entry) begin(folder string, instead bool) (*store.Store, error) {
	identity := newIdentity(e.named)
	switch err := identity.Write(folder, instead); {
	case errors.Is(err, fs.ErrExist):
		return e.enter() // another process was first
	case err != nil:
		return nil, ask.Errorf("the estate has no identity in the store %s, and none can be written beside it: %w; run "+
			"yorvet store begin once as somebody who may write there", e.store.Where(), err)
	}
	return e.join(identity.Estate, folder)
}

// newIdentity returns an identity for an estate; where is the store, if somebody named it.
func newIdentity(where string) store.Identity {
	switch path, err := filepath.Abs(where); {
	case where == "" || store.HasPassword(where): // which is no file's to know
		where = ""
	case err == nil && !store.IsURL(where):
		where = path
	}
	return store.Identity{Version: 1, Store: where, Estate: store.NewName()}
}

func (e *entry) join(estate, folder string) (*store.Store, error) {
	mine, err := e.store.Enter(e.ctx, estate, store.Here(folder), true, e.paths()...)
	return mine, stored(err)
}

// paths are the names of the estate by which an earlier store knew it.
func (e *entry) paths() []string {
	list := []string{e.path}
	if path, err := filepath.Abs(e.path); err == nil && path != e.path {
		list = append(list, path)
	}
	return list
}

// stored says that a store failed, if it did.
func stored(err error) error {
	if err == nil {
		return nil
	}
	return ask.Network(err)
}

// onlyEstate returns the store as its only estate sees it.
func onlyEstate(ctx context.Context, st *store.Store) (*store.Store, error) {
	list, err := st.Names(ctx)
	if err != nil {
		return nil, ask.Network(err)
	}
	switch len(list) {
	case 0:
		return st, nil
	case 1:
		return st.Of(list[0]), nil
	}
	return nil, ask.Errorf("the store %s has %d estates; name one with --estate (yorvet store --all-estates lists them)",
		st.Where(), len(list))
}

// noRunsError says that there is no store.
type noRunsError struct{ where string }

func (e *noRunsError) Error() string { return "yorvet: there are no runs yet: no file " + e.where }
