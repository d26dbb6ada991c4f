package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
)

func newGroupLike(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "like",
		Usage:     "find the groups that reach the people of a pasted list",
		ArgsUsage: "[ADDRESS...]",
		Description: "Is that a group already? The nearest are told by who really gets their mail, with who is " +
			"missing and who\n" +
			"is too many, and the command that makes a group of just these people. Names without an address are\n" +
			"found where one person has them; a group stands for those who get its mail.\n\n" +
			"Example: yorvet group like --from volunteers.txt",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "take addresses from a `FILE`, or from - for standard input, as they " +
				"are pasted"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, at, err := prepare(ctx, cmd, streams)
			if err != nil {
				return err
			}
			return s.ask(&ask.Like{Addresses: cmd.Args().Slice(), From: cmd.String("from")}, at)
		},
	}
}
