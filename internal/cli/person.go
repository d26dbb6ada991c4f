package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
)

func newPerson(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "person",
		Usage:     "show everything about one person, and list, add and change people",
		ArgsUsage: "ADDRESS|NAME",
		Description: "Whose mail reaches them and by which ways, whose does not and why, where they may post, send as,\n" +
			"approve and own, and what breaks without them. They are named by an address, by a local part that\n" +
			"nobody else has, or by their name or a part of it.\n\n" +
			"Example: yorvet person nora.teale@kelpmere.example, or yorvet person Nora",
		Commands: personCommands(streams),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			text, err := oneArgument(cmd, "the address or name of a person")
			if err != nil {
				return err
			}
			s, at, err := prepare(ctx, cmd, streams)
			if err != nil {
				return err
			}
			return s.ask(&ask.OfPerson{Person: text}, at)
		},
	}
}
