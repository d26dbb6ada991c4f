package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
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
			s, at, err := prepare(ctx, cmd, streams)
			if err != nil {
				return err
			}
			q := &ask.Matrix{Groups: groupsOf(cmd, cmd.Args().Slice()...), Where: cmd.String("where"), Sort: cmd.String("sort")}
			if top := cmd.Int("top"); cmd.IsSet("top") {
				q.Top = &top
			}
			return s.ask(q, at)
		},
	}
}
