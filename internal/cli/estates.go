package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// allEstatesFlag is for anyone who runs a store.
func allEstatesFlag() cli.Flag {
	return &cli.BoolFlag{Name: "all-estates", Usage: "of all estates of the store, for those who run it", Local: true}
}

func newStore(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "store",
		Usage: "show which estates a store serves, and keep them apart",
		Description: "Runs, answers, plans and agents of a store belong to an estate, which sees those of no other. Which one\n" +
			"it is stands in " + store.IdentityFile + " beside it, and is made when the store is first used.\n\n" +
			"Example: yorvet store",
		Flags: []cli.Flag{storeFlag(), allEstatesFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 0 {
				return ask.Errorf("store takes flags only, not %q", cmd.Args().First())
			}
			return withStore(ctx, cmd, streams, func(s *session, st *store.Store) error { return s.showEstates(st) })
		},
		Commands: []*cli.Command{
			newStoreBegin(streams),
			{
				Name: "join", Usage: "use an estate that is used elsewhere, in this folder, too", Flags: []cli.Flag{storeFlag()},
				Description: "For a second machine with the same estate: a checkout, or a copy of its folder. Once is enough.\n\n" +
					"Example: yorvet store join",
				Action: func(ctx context.Context, cmd *cli.Command) error { return joinStore(ctx, cmd, streams) },
			},
			newStoreKeep(streams),
			newStoreSeparate(streams),
		},
	}
}

func newStoreBegin(streams Streams) *cli.Command {
	return &cli.Command{
		Name: "begin", Usage: "give the estate here an identity of its own", Flags: []cli.Flag{storeFlag()},
		Description: "For an estate that was made from a copy of another, which keeps what it has in a store; or for one whose\n" +
			"folder those who use it may not write. It writes " + store.IdentityFile + " beside it, and asks no store.\n\n" +
			"Example: yorvet store begin",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			folder, err := folderHere(cmd)
			if err != nil {
				return err
			}
			where, named, err := storePlace(cmd)
			if err != nil {
				return err
			}
			if !named {
				where = ""
			}
			identity := newIdentity(where)
			if err := identity.Write(folder, true); err != nil {
				return ask.Errorf("%w", err)
			}
			fmt.Fprintf(streams.Out, "Written: %s, by which a store knows this estate as %s\n",
				present.Clean(filepath.Join(folder, store.IdentityFile)), identity.Estate)
			return nil
		},
	}
}

// folderHere returns the folder of the estate here, for a command that takes flags only.
func folderHere(cmd *cli.Command) (string, error) {
	if cmd.Args().Len() > 0 {
		return "", ask.Errorf("store %s takes flags only, not %q", cmd.Name, cmd.Args().First())
	}
	path := estatePath(cmd)
	if !ask.OnDisk(path) {
		return "", ask.ErrNoEstate
	}
	return store.FolderOf(path)
}

// joinStore has the estate here use the store in this folder, too.
func joinStore(ctx context.Context, cmd *cli.Command, streams Streams) error {
	folder, err := folderHere(cmd)
	if err != nil {
		return err
	}
	identity, err := store.ReadIdentity(ctx, folder)
	if err == nil && identity.Estate == "" {
		err = ask.Errorf("there is no %s in %s; copy it from where the estate is used", store.IdentityFile, folder)
	}
	if err != nil {
		return err
	}
	st, err := openNamed(ctx, cmd, false)
	if err != nil {
		return err
	}
	defer st.Close()
	e := &entry{ctx: ctx, streams: streams, store: st, path: estatePath(cmd)}
	if _, err := e.join(identity.Estate, folder); err != nil {
		return err
	}
	fmt.Fprintf(streams.Out, "In %s this is the estate %s\n", present.Clean(st.Where()), identity.Estate)
	return nil
}

func newStoreKeep(streams Streams) *cli.Command {
	return &cli.Command{
		Name: "keep", Usage: "say how long runs and answers of this estate are kept",
		Flags: []cli.Flag{
			storeFlag(),
			&cli.IntFlag{Name: "days", Usage: "keep them `DAYS` (0: no limit; default: 400)"},
			&cli.IntFlag{Name: "runs", Usage: "keep the newest `N` (0: all, which is the default)"},
		},
		Description: "yorvet watch removes the rest once a day, and says what; a plan may have a keep: of its own. Nothing is\n" +
			"removed now. Without flags it says what holds.\n\n" +
			"Example: yorvet store keep --days 90",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := folderHere(cmd); err != nil {
				return err
			}
			rule, err := keepRule(ctx, cmd, streams)
			if err == nil {
				fmt.Fprintf(streams.Out, "Of runs and answers of this estate, %s\n", rule)
			}
			return err
		},
	}
}

// keepRule changes the rule of the estate here, if it is to be, and returns it.
func keepRule(ctx context.Context, cmd *cli.Command, streams Streams) (store.Rule, error) {
	given, err := ruleOf(cmd, "days", "runs")
	if err != nil {
		return given, err
	}
	days, runs := cmd.IsSet("days"), cmd.IsSet("runs")
	var st *store.Store
	if days || runs {
		st, err = openHere(ctx, cmd, streams)
	} else {
		st, err = peek(ctx, cmd)
	}
	if err != nil || st == nil {
		return store.UsualRule, err
	}
	defer st.Close()
	rule, err := st.Rule(ctx)
	if err != nil {
		return rule, ask.Network(err)
	}
	if days {
		rule.Days = given.Days
	}
	if runs {
		rule.Runs = given.Runs
	}
	if days || runs {
		err = stored(st.SetRule(ctx, rule))
	}
	return rule, err
}

func newStoreSeparate(streams Streams) *cli.Command {
	return &cli.Command{
		Name: "separate", Usage: "have a login of the database see this estate alone", ArgsUsage: "LOGIN",
		Flags: []cli.Flag{
			storeFlag(),
			&cli.BoolFlag{Name: "yes", Usage: "run the SQL without asking"},
		},
		Description: "It shows the SQL (row-level security of PostgreSQL), and runs it with a yes. It is for the login that\n" +
			"owns the tables, which goes on seeing all; the new one gets its password from you.\n\n" +
			"Example: yorvet store separate ferry_probes",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			login, err := oneArgument(cmd, "a login of the database")
			if err != nil {
				return err
			}
			st, err := openHere(ctx, cmd, streams)
			if err != nil {
				return err
			}
			defer st.Close()
			statements, err := st.Apart(ctx, login)
			if err != nil {
				return ask.Errorf("%w", err)
			}
			fmt.Fprintln(streams.Out, strings.Join(statements, ";\n")+";")
			if !cmd.Bool("yes") {
				if !askable(streams) {
					return ask.Errorf("nothing is changed: no terminal to ask on; use --yes")
				}
				if !agreed(ctx, streams, "Run this?", "Nothing is changed.") {
					return errWrong
				}
			}
			if err := st.Execute(ctx, statements); err != nil {
				return ask.Network(err)
			}
			fmt.Fprintf(streams.Out, "The login %s sees this estate alone. Give it a password: \\password %s in psql\n", login, login)
			return nil
		},
	}
}

func (s *session) showEstates(st *store.Store) error {
	list, err := st.Estates(s.ctx)
	if err != nil {
		return ask.Network(err)
	}
	a := &present.Estates{Store: st.Where(), Shared: st.Shared(), Estates: []present.KeptEstate{}}
	for _, e := range list {
		one := present.KeptEstate{Estate: e.Name, Here: e.Name == st.Estate(), Began: e.Began.UTC().Format(time.RFC3339),
			Login: e.Role, Places: []present.KeptPlace{}, Runs: e.Runs, Answers: e.Answers, Agents: e.Agents}
		if !e.LastUsed.IsZero() {
			one.LastUsed = e.LastUsed.UTC().Format(time.RFC3339)
		}
		for _, place := range e.Places {
			one.Places = append(one.Places, present.KeptPlace(place))
		}
		a.Estates = append(a.Estates, one)
	}
	return s.print(a)
}

// errNobodyYet says that a store has no estate yet.
var errNobodyYet = errors.New("yorvet: there is nothing to work on")

// openAgentStore opens the store for an agent: of the estate whose identity lies beside its
// connections, or beside the estate that is named; else of the only one of the store.
func openAgentStore(ctx context.Context, cmd *cli.Command) (*store.Store, error) {
	beside := cmd.String("connections")
	if cmd.IsSet("estate") {
		beside = estatePath(cmd)
	}
	folder, err := store.FolderOf(beside)
	if err != nil {
		return nil, err
	}
	identity, err := store.ReadIdentity(ctx, folder)
	if err != nil {
		return nil, err
	}
	where, named, err := storePlace(cmd)
	if err != nil && (named || identity.Store == "") {
		return nil, err
	}
	if !named && identity.Store != "" {
		where = identity.Store
	}
	st, err := openPlace(ctx, where, false)
	if err != nil || identity.Estate != "" {
		if err == nil {
			st = st.Of(identity.Estate)
		}
		return st, err
	}
	mine, err := onlyEstate(ctx, st)
	if err == nil && mine.Estate() == "" {
		err = fmt.Errorf("%w: no estate has used %s yet, and no %s lies beside the connections file; copy it there from beside "+
			"the estate, or use the store at your desk", errNobodyYet, st.Where(), store.IdentityFile)
	}
	if err != nil {
		st.Close()
	}
	return mine, err
}
