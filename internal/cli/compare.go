package cli

import (
	"context"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/revision"
	"yorvet.example/yorvet/internal/source"
)

func newCompare(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "show what changes from one estate to another",
		ArgsUsage: "OLD NEW",
		Description: "Effects are compared, not text: who may post, who receives and how, who sends as the group,\n" +
			"which hazards are new or gone, and which welcome mail is sent. OLD and NEW are files or\n" +
			"folders, REV:PATH for a revision of the current git repository (PATH as seen from here), or sources\n" +
			"as import takes them. A source beside an estate stands for the estate as the source would have it:\n" +
			"that shows what has drifted, and the exit code is 1 if anything has.\n\n" +
			"Example: yorvet compare estate served",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "same", Usage: "the exit code is 1 if anything changes"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usageError("compare needs two estates, OLD and NEW")
			}
			format, err := formatOf(cmd)
			if err != nil {
				return err
			}
			today, err := dayOf(cmd)
			if err != nil {
				return err
			}
			sides, err := compareSides(ctx, cmd.Args().Get(0), cmd.Args().Get(1), today, streams.Err)
			if err != nil {
				return err
			}
			s := &session{ctx: ctx, cmd: cmd, streams: streams, format: format}
			answer := present.NewComparison(sides[0], sides[1])
			if err := s.print(answer); err != nil {
				return err
			}
			drift := source.Is(cmd.Args().Get(0)) || source.Is(cmd.Args().Get(1))
			if (drift || cmd.Bool("same")) && !answer.IsEmpty() {
				return errWrong
			}
			return nil
		},
	}
}

// loadSide loads an estate from a path, or from a revision as REV:PATH.
func loadSide(ctx context.Context, name string) (*estate.Estate, error) {
	rev, path, ok := strings.Cut(name, ":")
	if _, err := os.Stat(name); err == nil || source.Is(name) || !ok || rev == "" || path == "" {
		return loadEstate(ctx, name)
	}
	tree, err := revision.Open(ctx, rev)
	if err != nil {
		return nil, usageError("%s: %w", name, err)
	}
	e, err := estatefile.LoadFrom(ctx, tree, path, func(file string) string { return rev + ":" + file })
	if err != nil {
		return nil, loadError(name, err)
	}
	return e, nil
}
