package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet"
	"yorvet.example/yorvet/internal/ask"
)

func newVersion(streams Streams) *cli.Command {
	return &cli.Command{
		Name:        "version",
		Usage:       "show the version and its licences",
		Description: "Example: yorvet version --licences",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "licences", Usage: "show the licences of Yorvet and of all that is built into it"},
		},
		Action: func(_ context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 0 {
				return ask.Errorf("version takes flags only, not %q", cmd.Args().First())
			}
			fmt.Fprintln(streams.Out, "yorvet "+version())
			if cmd.Bool("licences") {
				fmt.Fprintf(streams.Out, "\n%s\n%s", yorvet.Licence, yorvet.Notice)
			}
			return nil
		},
	}
}
