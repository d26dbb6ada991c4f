package cli

import (
	"context"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/revision"
	"yorvet.example/yorvet/internal/source"
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
			names := cmd.Args().Slice()
			if len(names) < 2 {
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
			s := &session{ctx: ctx, cmd: cmd, streams: streams, format: format}
			began := clock.Now()
			if sources, path := split(names); path != "" {
				return s.drift(sources, path, today)
			}
			if len(names) > 2 {
				return usageError("compare takes two estates, or several sources and one estate on disk behind them")
			}
			sides, err := loadSides(ctx, [2]string{names[0], names[1]}, today)
			if err != nil {
				return err
			}
			answer := present.NewComparison(sides[0], sides[1])
			if err := s.print(answer); err != nil {
				return err
			}
			drift := source.Is(names[0]) || source.Is(names[1])
			if keepsAnswers(cmd) {
				s.record(s.comparisonOutcome(names[1], whatOf(cmd, "on"), began, answer))
			}
			if (drift || cmd.Bool("same")) && !answer.IsEmpty() {
				return errWrong
			}
			return nil
		},
	}
}

// split tells sources from the one estate on disk beside them, which is the last name, or
// of two the first; path is empty where the names are otherwise.
func split(names []string) (sources []string, path string) {
	last := len(names) - 1
	for at, others := range map[int][]string{last: names[:last], 0: names[1:]} {
		if (at == last || last == 1) && !source.Is(names[at]) && onDisk(names[at]) &&
			!slices.ContainsFunc(others, func(name string) bool { return !source.Is(name) }) {
			return others, names[at]
		}
	}
	return nil, ""
}

// drift shows how an estate on disk and its sources have drifted apart: what the estate says,
// and what the sources say now, in whatever order they are named.
func (s *session) drift(sources []string, path string, today estate.Day) error {
	began := clock.Now()
	d, err := overlaid(s.ctx, sources, path, today)
	if err != nil {
		return err
	}
	remember, err := forget(s.ctx, s.cmd, d.merged)
	if err != nil {
		return err
	}
	isOpen := func(r directory.Remark) bool { return r.Drift }
	tellRemarks(s.streams.Err, slices.DeleteFunc(slices.Clone(d.merged.Remarks), isOpen))
	answer := present.NewComparison(resolve.New(d.now, today), resolve.New(d.then, today))
	answer.Drift = &present.Drift{Estate: path, Sources: sources}
	for _, r := range d.merged.Remarks {
		if isOpen(r) {
			answer.Open = append(answer.Open, r.String())
		}
	}
	if err := s.print(answer); err != nil {
		return err
	}
	if err := remember(); err != nil {
		return err
	}
	if keepsAnswers(s.cmd) {
		s.record(s.comparisonOutcome(path, whatOf(s.cmd, "on"), began, answer))
	}
	if err := errPart(d.merged); err != nil {
		return err
	}
	if !answer.IsEmpty() {
		return errWrong
	}
	return nil
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
