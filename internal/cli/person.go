package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/present"
)

func newPerson(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "person",
		Usage:     "everything about one person",
		ArgsUsage: "ADDRESS",
		Description: "Whose mail reaches them and by which ways, whose does not and why, where they may post, send as,\n" +
			"approve and own, and what breaks without them.\n\n" +
			"Example: yorvet person nora.teale@kelpmere.example",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			text, err := oneArgument(cmd, "the address of a person")
			if err != nil {
				return err
			}
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			near := nearest.Words(text, s.e.Addresses, 3)
			if !strings.Contains(text, "@") {
				near = nil
			}
			a, err := s.address("person", text)
			if err != nil {
				return usageError("%q is no address", text)
			}
			id, ok := s.e.Find(a)
			switch {
			case !ok:
				return usageError("nobody in the estate has %s%s", text, meant(near...))
			case s.e.IsGroup(id):
				return usageError("%s is a group; try yorvet who receives %s", text, text)
			}
			return s.print(present.NewPerson(s.r, id))
		},
	}
}
