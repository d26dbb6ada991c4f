package cli

import (
	"context"
	"errors"
	"io/fs"
	"slices"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
)

func newCheck(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "find mail that is lost, leaks or can be forged",
		ArgsUsage: "[GROUP...]",
		Description: "A GROUP may hold * for anything; all without one.\n" +
			"Every hazard comes with its place, what will go wrong, and what to do. The exit code is 1 if there\n" +
			"is one at least as severe as --fail-on. A finding that is meant to be is accepted in the estate, in\n" +
			"its group: accept: [{hazard: gets-nothing, address: ..., because: \"...\"}]\n\n" +
			"Example: yorvet check --skip owner-left-out",
		Flags: append(keepFlags(),
			groupsFlag(), exceptFlag(),
			&cli.StringFlag{
				Name:  "fail-on",
				Value: "high",
				Usage: "the `SEVERITY` from which the exit code is 1: high, medium, low or never",
			},
			&cli.StringSliceFlag{Name: "only", Usage: "look for hazards of this `NAME` only; may be repeated"},
			&cli.StringSliceFlag{Name: "skip", Usage: "do not look for hazards of this `NAME`; may be repeated"},
			&cli.StringFlag{Name: "by", Value: "severity",
				Usage: "the `ORDER`: severity, cause (alike ones once), group, owner or person"},
			&cli.StringFlag{Name: "baseline", Usage: "tell only of what a `FILE` does not know; the exit code is of that"},
			&cli.BoolFlag{Name: "update-baseline", Usage: "write what is found into the file of --baseline"},
			&cli.StringFlag{Name: "explain", Usage: "tell more about the hazard of this `NAME`"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error { return check(ctx, cmd, streams) },
	}
}

func check(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.IsSet("explain") {
		return explainHazard(cmd, streams)
	}
	threshold, fails := hazard.High, cmd.String("fail-on") != "never"
	if fails {
		var ok bool
		if threshold, ok = estate.WordIndex[hazard.Severity](hazard.SeverityWords(), cmd.String("fail-on")); !ok {
			return usageError("--fail-on takes high, medium, low or never, not %q", cmd.String("fail-on"))
		}
	}
	layout := present.HazardLayout{Full: cmd.IsSet("only"), By: cmd.String("by")}
	if !slices.Contains(present.HazardOrders(), layout.By) {
		return unknown("order of --by", layout.By, present.HazardOrders())
	}
	if cmd.Bool("update-baseline") && !cmd.IsSet("baseline") {
		return usageError("--update-baseline needs --baseline with the file")
	}
	checks, err := chosenChecks(cmd)
	if err != nil {
		return err
	}
	began := clock.Now()
	s, err := open(ctx, cmd, streams, present.SARIF)
	if err != nil {
		return err
	}
	collectOften()
	findings := hazard.Run(s.r, checks)
	if layout.Groups, err = s.groupsOrAll(cmd.Args().Slice()...); err != nil {
		return err
	}
	if cmd.Args().Len() > 0 || cmd.IsSet("groups") {
		findings = slices.DeleteFunc(findings, func(f hazard.Finding) bool {
			return !slices.Contains(layout.Groups, f.Group)
		})
	}
	answer := present.NewHazards(s.r, checks, findings, layout)
	if err := s.baseline(answer); err != nil {
		return err
	}
	if err := s.print(answer); err != nil {
		return err
	}
	wrong := fails && answer.Worst(threshold)
	if keepsAnswers(cmd) {
		what := whatOf(cmd, "groups", "except", "only", "skip", "baseline", "on")
		o := s.hazardOutcome(estatePath(cmd), what, began, answer)
		o.Wrong = wrong
		s.record(o)
	}
	if wrong {
		return errWrong
	}
	return nil
}

// mostBaseline is the size in bytes of a baseline that is read.
const mostBaseline = 256 << 20

// baseline sets what is found beside the hazards that are known, or has them known from now on.
func (s *session) baseline(answer *present.Hazards) error {
	path := s.cmd.String("baseline")
	if path == "" {
		return nil
	}
	if s.cmd.Bool("update-baseline") {
		if s.cmd.Args().Len() > 0 || s.cmd.IsSet("groups") || s.cmd.IsSet("only") || s.cmd.IsSet("skip") {
			return usageError("--update-baseline takes what is found in all groups by all checks, not in some")
		}
		data, err := answer.Baseline()
		if err != nil {
			return err
		}
		if old, err := localfile.Read(s.ctx, path, mostBaseline); err == nil { // only a baseline is replaced
			if _, err := present.ParseBaseline(path, old); err != nil {
				return usageError("%w", err)
			}
		} else if !errors.Is(err, fs.ErrNotExist) {
			return usageError("--baseline: %w", err)
		}
		if err := localfile.Write(path, data, 0o644); err != nil {
			return usageError("%w", err)
		}
	}
	data, err := localfile.Read(s.ctx, path, mostBaseline)
	if err != nil {
		return usageError("--baseline: %w", err)
	}
	b, err := present.ParseBaseline(path, data)
	if err != nil {
		return usageError("%w", err)
	}
	answer.Against(path, b)
	return nil
}

// chosenChecks returns the checks that --only and --skip leave.
func chosenChecks(cmd *cli.Command) ([]*hazard.Check, error) {
	only, skip := cmd.StringSlice("only"), cmd.StringSlice("skip")
	for _, name := range slices.Concat(only, skip) {
		if _, err := findCheck(name); err != nil {
			return nil, err
		}
	}
	var checks []*hazard.Check
	for _, c := range hazard.All() {
		if (len(only) == 0 || slices.Contains(only, c.Name)) && !slices.Contains(skip, c.Name) {
			checks = append(checks, c)
		}
	}
	if len(checks) == 0 {
		return nil, usageError("--only and --skip leave nothing to look for")
	}
	return checks, nil
}

func findCheck(name string) (*hazard.Check, error) {
	var known []string
	for _, c := range hazard.All() {
		if c.Name == name {
			return c, nil
		}
		known = append(known, c.Name)
	}
	return nil, unknown("hazard", name, known)
}

func explainHazard(cmd *cli.Command, streams Streams) error {
	c, err := findCheck(cmd.String("explain"))
	if err != nil {
		return err
	}
	format, err := formatOf(cmd)
	if err != nil {
		return err
	}
	s := &session{cmd: cmd, streams: streams, format: format}
	return s.print(present.NewHazardPage(c))
}
