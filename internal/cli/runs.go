package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

func newRuns(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "runs",
		Usage: "list, show or remove runs of probes",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the runs that are kept", Flags: []cli.Flag{storeFlag(), allEstatesFlag()},
				Description: "Example: yorvet runs list",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return withStore(ctx, cmd, streams, func(s *session, st *store.Store) error {
						if cmd.Args().Len() > 0 {
							return ask.Errorf("runs list takes flags only, not %q", cmd.Args().First())
						}
						all, err := st.CountRuns(ctx)
						if err != nil {
							return ask.Network(err)
						}
						most := all
						if s.format == present.Text && !cmd.Bool("all") {
							most = mostListed
						}
						list, err := st.RunsSince(ctx, time.Time{}, most)
						if err != nil {
							return ask.Network(err)
						}
						a := ask.KeptRuns(list, st.Where())
						a.All = all
						for i := range list {
							if cmd.Bool("all-estates") {
								a.Runs[i].Owner = list[i].Owner
							}
						}
						if err := ask.UnderWay(ctx, st, list, a); err != nil {
							return ask.Network(err)
						}
						return s.print(a)
					})
				},
			},
			{
				Name: "show", Usage: "show what a run saw", ArgsUsage: "RUN",
				Flags: []cli.Flag{storeFlag()},
				Description: "It is judged by what was predicted when it was planned.\n\nExample: yorvet runs show " +
					"3f2a9c1e77b04d15",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					name, err := oneArgument(cmd, "a run")
					if err != nil {
						return err
					}
					return withStore(ctx, cmd, streams, func(s *session, st *store.Store) error {
						_, at, err := prepare(ctx, cmd, streams, present.JUnit)
						if err != nil {
							return err
						}
						at.Store = st
						return s.result((&ask.Probe{}).Show(ctx, at, name))
					})
				},
			},
			newRunsRemove(streams),
		},
	}
}

// newRunsRemove returns the command that removes runs.
func newRunsRemove(streams Streams) *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "remove runs, with all that was seen", ArgsUsage: "[RUN...]",
		Flags: []cli.Flag{
			storeFlag(),
			&cli.IntFlag{Name: "keep", Usage: "all that have ended, except the newest `N` of runs and kept answers"},
			&cli.IntFlag{Name: "older", Usage: "all that have ended and began more than `DAYS` ago"},
			&cli.BoolFlag{Name: "yes", Usage: "remove what --keep and --older pick without asking"},
		},
		Description: "With --keep and --older it shows which runs go, and asks; kept answers of the same age go with\n" +
			"them. yorvet store keep does it by a rule. Mailboxes are left alone: yorvet probe --tidy RUN removes\n" +
			"messages.\n\nExample: yorvet runs remove --keep 50",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			switch chosen := cmd.IsSet("keep") || cmd.IsSet("older"); {
			case chosen && cmd.Args().Len() > 0:
				return ask.Errorf("runs remove takes either names or --keep and --older")
			case !chosen && cmd.Args().Len() == 0:
				return ask.Errorf("runs remove needs the names of runs, --keep or --older")
			}
			return withStore(ctx, cmd, streams, func(s *session, st *store.Store) error {
				return removeRuns(ctx, cmd, streams, st)
			})
		},
	}
}

// withStore does something with the store. An estate is not needed.
func withStore(ctx context.Context, cmd *cli.Command, streams Streams, do func(*session, *store.Store) error) error {
	s := &session{ctx: ctx, cmd: cmd, streams: streams}
	var err error
	if s.format, err = formatOf(cmd, present.JUnit); err != nil {
		return err
	}
	st, err := openListed(ctx, cmd, streams)
	if none, ok := errors.AsType[*noRunsError](err); ok && cmd.Name == "list" {
		return s.print(ask.KeptRuns(nil, none.where))
	} else if ok && cmd.Name == "store" {
		return s.print(&present.Estates{Store: none.where, Estates: []present.KeptEstate{}})
	} else if ok && cmd.Name == "remove" && cmd.Args().Len() == 0 {
		fmt.Fprintln(streams.Out, "0 runs removed")
		return nil
	}
	if err != nil {
		return err
	}
	defer st.Close()
	return do(s, st)
}

func removeRuns(ctx context.Context, cmd *cli.Command, streams Streams, st *store.Store) error {
	names := cmd.Args().Slice()
	var cutoff time.Time
	if cmd.IsSet("keep") || cmd.IsSet("older") {
		var err error
		if names, cutoff, err = oldRuns(ctx, cmd, st); err != nil {
			return err
		}
		answers, err := st.AnswersBefore(ctx, cutoff, store.Part{})
		if err != nil {
			return ask.Network(err)
		}
		if len(names)+answers > 0 && !cmd.Bool("yes") {
			said := present.Count(len(names), "run goes", "runs go")
			if len(names) > 0 {
				said += ": " + ask.Some(names)
			}
			if answers > 0 {
				said += "; and " + present.Count(answers, "kept answer", "kept answers")
			}
			present.Paragraph(streams.Out, said, pageOptions(streams.Out))
			if !askable(streams) {
				return ask.Errorf("nothing is removed: no terminal to ask on; use --yes")
			}
			if !agreed(ctx, streams, "Remove them, with all that was seen?", "Nothing removed.") {
				return errWrong
			}
		}
	}
	slices.Sort(names)
	names = slices.Compact(names)
	if err := st.Remove(ctx, names...); err != nil {
		if errors.Is(err, store.ErrNoRun) {
			return ask.Errorf("%w", err)
		}
		return ask.Network(err)
	}
	fmt.Fprintf(streams.Out, "%d runs removed\n", len(names))
	n, err := st.RemoveAnswers(ctx, cutoff, store.Part{})
	if err != nil {
		return ask.Network(err)
	}
	if n > 0 {
		fmt.Fprintf(streams.Out, "%d answers of checks, expectations and comparisons removed\n", n)
	}
	return nil
}

// oldRuns returns the names of the runs that --keep and --older pick, the newest first, and the time before
// which they and the answers began that go with them.
func oldRuns(ctx context.Context, cmd *cli.Command, st *store.Store) ([]string, time.Time, error) {
	rule, err := ruleOf(cmd, "older", "keep")
	if err != nil {
		return nil, time.Time{}, err
	}
	cutoff, err := st.Cutoff(ctx, rule, store.Part{})
	if cmd.IsSet("older") && rule.Days == 0 || cmd.IsSet("keep") && rule.Runs == 0 {
		cutoff = st.Now().Add(time.Millisecond) // all that has ended
	}
	if err != nil {
		return nil, cutoff, ask.Network(err)
	}
	names, err := st.EndedBefore(ctx, cutoff, store.Part{})
	if err != nil {
		return nil, cutoff, ask.Network(err)
	}
	return names, cutoff, nil
}

// ruleOf reads a rule from two flags.
func ruleOf(cmd *cli.Command, days, runs string) (store.Rule, error) {
	r := store.Rule{Days: cmd.Int(days), Runs: cmd.Int(runs)}
	if r.Days < 0 || r.Runs < 0 || r.Days > mostDays {
		return r, ask.Errorf("--%s takes a number from 0 up, --%s one up to %d", runs, days, mostDays)
	}
	return r, nil
}

// mostDays is how far back --older may reach: a hundred years.
const mostDays = 36_525
