package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
)

func newExplain(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "explain",
		Usage: "follow one message step by step",
		Description: "Shows every rule that was tried and why it did or did not match, the ways into nested\n" +
			"groups, who gets the message and how, and what each side sees.\n\n" +
			"Example: yorvet explain --from odile.renn@kelpmere.example --to sailing-notices@kelpmere.example",
		Flags: append([]cli.Flag{
			&cli.StringSliceFlag{
				Name:  "from",
				Usage: "the `ADDRESS` that the message claims to be from; may be repeated",
			},
			&cli.StringSliceFlag{Name: "to", Usage: "the `ADDRESS` that it is sent to; may be repeated"},
			&cli.StringFlag{Name: "as", Usage: "the `GROUP` in whose name it is written"},
			&cli.StringFlag{Name: "for", Usage: "follow it to one `PERSON`, by every way"},
		}, messageFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error { return explain(ctx, cmd, streams) },
	}
}

func explain(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.Args().Len() > 0 {
		return ask.Errorf("explain takes flags only, not %q", cmd.Args().First())
	}
	for _, flag := range []string{"from", "to"} {
		if len(cmd.StringSlice(flag)) == 0 {
			return ask.Errorf("explain needs --%s ADDRESS", flag)
		}
	}
	m, err := message(cmd)
	if err != nil {
		return err
	}
	s, at, err := prepare(ctx, cmd, streams)
	if err != nil {
		return err
	}
	return s.ask(&ask.Explain{
		From: cmd.StringSlice("from"), To: cmd.StringSlice("to"), As: cmd.String("as"), For: cmd.String("for"), Message: m,
	}, at)
}
