package cli

import (
	"context"
	"errors"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

func newHistory(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "history",
		Usage:     "show what checks and probes found over time",
		ArgsUsage: "[GROUP or PERSON]",
		Description: "Answers of check, expect and compare are kept as results where a store is, and runs of probes\n" +
			"are listed with them. Without an argument, the results are listed. With a group or a person:\n" +
			"what is found now and was found earlier, since when, what is flaky, how long messages took, and\n" +
			"what changed lately and who changed it.\n\n" +
			"Example: yorvet history sailing-notices@kelpmere.example",
		Flags: []cli.Flag{
			storeFlag(),
			&cli.StringFlag{Name: "kind", Usage: "list results of one `KIND`: check, expect, compare or probe"},
			allEstatesFlag(),
			&cli.IntFlag{Name: "days", Value: 30, HideDefault: true, Usage: "look `DAYS` back for changes (default: 30)"},
		},
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "show what stands in a result", ArgsUsage: "RESULT", Flags: []cli.Flag{storeFlag()},
				Description: "Example: yorvet history show 3f2a9c1e77b04d15",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					name, err := oneArgument(cmd, "a result")
					if err != nil {
						return err
					}
					return withHistory(ctx, cmd, streams, func(s *session, st *store.Store) error { return s.showResult(st, name) })
				},
			},
			newHistoryCompare(streams),
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 1 {
				return ask.Errorf("history takes one group or person, not %d", cmd.Args().Len())
			}
			if cmd.Int("days") < 1 || cmd.Int("days") > 3650 {
				return ask.Errorf("--days takes a number from 1 to 3650")
			}
			return withHistory(ctx, cmd, streams, func(s *session, st *store.Store) error {
				if cmd.Args().Len() == 0 {
					return s.listHistory(st)
				}
				if cmd.Bool("all-estates") {
					return ask.Errorf("--all-estates lists results; a group or person is one estate's")
				}
				return s.historyOf(st, cmd.Args().First())
			})
		},
	}
}

// newHistoryCompare returns the command that compares two results.
func newHistoryCompare(streams Streams) *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "show what one result found and another did not", ArgsUsage: "RESULT RESULT",
		Flags: []cli.Flag{storeFlag()},
		Description: "The exit code is 1 if the second found something that the first did not.\n\n" +
			"Example: yorvet history compare 3f2a9c1e77b04d15 9b1e0c4477ad2f08",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return ask.Errorf("history compare needs two results")
			}
			return withHistory(ctx, cmd, streams, func(s *session, st *store.Store) error {
				a, err := history.Compare(ctx, st, cmd.Args().Get(0), cmd.Args().Get(1))
				if err != nil {
					return historyError(err, cmd.Args().Get(0)+" or "+cmd.Args().Get(1))
				}
				if err := s.print(a); err != nil {
					return err
				}
				if len(a.New) > 0 || a.After.Truncated > 0 {
					return errWrong
				}
				return nil
			})
		},
	}
}

// withHistory does something with the store, which may be empty. An estate is not needed.
func withHistory(ctx context.Context, cmd *cli.Command, streams Streams, do func(*session, *store.Store) error) error {
	s := &session{ctx: ctx, cmd: cmd, streams: streams}
	var err error
	if s.format, err = formatOf(cmd); err != nil {
		return err
	}
	st, err := openListed(ctx, cmd, streams)
	if none, ok := errors.AsType[*noRunsError](err); ok && cmd.Name == "history" && cmd.Args().Len() == 0 {
		return s.print(&present.History{Store: none.where, Runs: []present.HistoryResult{}, NoStore: !keepsAnswers(cmd)})
	}
	if err != nil {
		return err
	}
	defer st.Close()
	return do(s, st)
}

// mostListed is how many results are listed without --all.
const mostListed = 30

var historyKinds = []string{"check", "expect", "compare", "probe"}

func (s *session) listHistory(st *store.Store) error {
	choice := history.Choice{Kind: s.cmd.String("kind"), Most: mostListed}
	if choice.Kind != "" && !containsWord(historyKinds, choice.Kind) {
		return ask.Unknown("kind", choice.Kind, historyKinds)
	}
	if s.cmd.Bool("all") || s.format != present.Text {
		choice.Most = 1 << 20
	}
	a, err := history.List(s.ctx, st, choice)
	if err != nil {
		return ask.Network(err)
	}
	return s.print(a)
}

func containsWord(words []string, word string) bool {
	for _, one := range words {
		if one == word {
			return true
		}
	}
	return false
}

// showResult shows a result: what an answer found, or what a probe saw.
func (s *session) showResult(st *store.Store, name string) error {
	a, err := history.Show(s.ctx, st, name)
	if err != nil {
		return historyError(err, name)
	}
	return s.print(a)
}

// historyOf reports on a group or person that the estate may no longer know.
func (s *session) historyOf(st *store.Store, text string) error {
	who, err := s.formerAddress(text)
	if err != nil {
		return err
	}
	a, err := history.Of(s.ctx, st, strings.ToLower(who.String()))
	if err != nil {
		return ask.Network(err)
	}
	since := clock.Now().AddDate(0, 0, -s.cmd.Int("days"))
	history.Lately(s.ctx, a, estatePath(s.cmd), who, since)
	return s.print(a)
}

// formerAddress returns the address that an argument names: one of the estate, by whatever names
// it has there, or one that the estate knew.
func (s *session) formerAddress(text string) (address.Address, error) {
	e, err := loadNamed(s.ctx, s.cmd)
	if err != nil && !strings.Contains(text, "@") {
		return address.Address{}, err
	}
	if err == nil {
		s.Use(e)
		if id, ok, err := s.ByLocalPart(text, ask.Anybody); err != nil {
			return address.Address{}, err
		} else if ok {
			return s.Estate.Address(id), nil
		}
		if id, ok, err := s.ByName(text); err != nil {
			return address.Address{}, err
		} else if ok {
			return s.Estate.Address(id), nil
		}
	}
	a, err := address.Parse(text)
	if err != nil {
		return a, ask.Errorf("no group or person %q%s", text, s.near(text))
	}
	if s.Estate != nil {
		if id, ok := s.Estate.Find(a); ok && id != estate.None {
			return s.Estate.Address(id), nil
		}
	}
	return a, nil
}

func (s *session) near(text string) string {
	if s.Estate == nil {
		return ""
	}
	return ask.Meant(s.NearGroups(text)...)
}
