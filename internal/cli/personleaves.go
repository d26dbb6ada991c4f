package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/propose"
)

func newPersonClose(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "close",
		Usage:     "say that a mailbox is closed",
		ArgsUsage: "PERSON...",
		Description: "The person stays in all groups, and gets nothing: what breaks by that is shown.\n\n" +
			"Example: yorvet person close tam.weld@kelpmere.example",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 {
				return ask.Errorf("person close needs a person")
			}
			return makeChange(ctx, cmd, streams, propose.Closing(cmd.Args().Slice()))
		},
	}
}

func newPersonLeaves(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "leaves",
		Usage:     "take somebody who leaves out of everything, and put a successor in their place",
		ArgsUsage: "PERSON",
		Description: "Memberships, owners, moderators, and the rules of gates, send-as and access that name the person\n" +
			"become those of the successor; without one the person is taken out of all. Then the person goes; with\n" +
			"--keep they stay, with a closed mailbox.\n\n" +
			"Example: yorvet person leaves tam.weld@kelpmere.example --successor ines.maro@kelpmere.example",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "successor", Usage: "the `PERSON` who takes their place"},
			&cli.BoolFlag{Name: "keep", Usage: "they stay in the estate, with a closed mailbox"},
			&cli.BoolFlag{Name: "hand-over-address", Usage: "their addresses become aliases of the successor"},
		}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return ask.Errorf("person leaves needs one person")
			}
			return makeChange(ctx, cmd, streams, &propose.Leaving{
				Person: cmd.Args().First(), Successor: cmd.String("successor"), Keep: cmd.Bool("keep"),
				HandOverAddress: cmd.Bool("hand-over-address"),
			})
		},
	}
}

func newPersonRemove(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "remove",
		Usage:     "take people out of the estate",
		ArgsUsage: "PERSON...",
		Description: "They are taken out of all groups and rules, too. Somebody who leaves and has a successor: " +
			"yorvet person\n" +
			"leaves.\n\n" +
			"Example: yorvet person remove tam.weld@kelpmere.example",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 {
				return ask.Errorf("person remove needs a person")
			}
			return makeChange(ctx, cmd, streams, &propose.PersonRemoval{People: cmd.Args().Slice()})
		},
	}
}
