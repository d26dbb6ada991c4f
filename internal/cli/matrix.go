package cli

import (
	"cmp"
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/present"
)

func newMatrix(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "matrix",
		Usage:     "show groups at a glance",
		ArgsUsage: "[GROUP...]",
		Description: "A GROUP may hold * for anything; all without one. For every group: what its gate says to strangers, " +
			"how many people may post, get its mail or\n" +
			"miss it, send as it and approve, and how many hazards it has. --where takes comparisons\n" +
			"joined by \"and\", of a column with a word or a number; the columns are those of --format csv.\n\n" +
			"Example: yorvet matrix --where 'outside admit and undeliverable > 0' --sort undeliverable",
		Flags: []cli.Flag{
			groupsFlag(), exceptFlag(),
			&cli.StringFlag{Name: "where", Usage: "only the groups that fulfil a `CONDITION`"},
			&cli.IntFlag{Name: "top", Usage: "only the first `NUMBER` of groups: by --sort, or those that most people get"},
			&cli.StringFlag{Name: "sort", Usage: "by a `COLUMN`; -COLUMN: the other way round"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			groups, err := s.Groups(groupsOf(cmd, cmd.Args().Slice()...))
			if err != nil {
				return err
			}
			a := present.NewMatrix(s.Resolver)
			a.Only(groups)
			if cmd.IsSet("where") {
				if err := a.Where(cmd.String("where")); err != nil {
					return ask.Errorf("--where: %w", err)
				}
			}
			a.Total()
			if by := cmd.String("sort"); by != "" || cmd.IsSet("top") {
				if err := a.Sort(cmp.Or(by, "get")); err != nil {
					return ask.Errorf("--sort: %w", err)
				}
			}
			if cmd.IsSet("top") {
				if err := a.Top(cmd.Int("top")); err != nil {
					return ask.Errorf("--top: %w", err)
				}
			}
			return s.print(a)
		},
	}
}
