package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
)

func newCompare(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "show what changes from one estate to another",
		ArgsUsage: "OLD NEW, or SOURCE... ESTATE",
		Description: "Effects are compared, not text: who may post, who receives and how, who sends as the group,\n" +
			"which hazards are new or gone, and which welcome mail is sent. OLD and NEW are files or\n" +
			"folders, REV:PATH for a revision of the current git repository (PATH as seen from here), or sources\n" +
			"as import takes them. Beside an estate, sources are compared with it: what they say otherwise now is\n" +
			"drift, told from what the estate says to what they say, whatever else is written by hand; the exit\n" +
			"code is 1 if there is any. A source that gave only a part, or that says what is not understood, is no clean\n" +
			"answer: the exit code is 3, or 1.\n\n" +
			"Example: yorvet compare estate served",
		Flags: append(keepFlags(),
			&cli.BoolFlag{Name: "same", Usage: "the exit code is 1 if anything changes"},
			knownFlag(),
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, at, err := prepare(ctx, cmd, streams)
			if err != nil {
				return err
			}
			q := &ask.Compare{Names: cmd.Args().Slice(), Same: cmd.Bool("same"), Known: cmd.String("known")}
			return s.ask(q, at, "on")
		},
	}
}

// knownFlag names the file that remembers what has been told of sources.
func knownFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "known",
		Usage: "of what is not taken and where sources differ, tell only what a `FILE` does not have yet, and note it there",
	}
}
