package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
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
	s, at, err := prepare(ctx, cmd, streams, present.SARIF)
	if err != nil {
		return err
	}
	at.Loaded = collectOften
	q := &ask.Check{Groups: groupsOf(cmd, cmd.Args().Slice()...), Only: cmd.StringSlice("only"), Skip: cmd.StringSlice("skip"),
		By: cmd.String("by"), FailOn: cmd.String("fail-on"), Baseline: cmd.String("baseline"),
		Update: cmd.Bool("update-baseline")}
	return s.ask(q, at, "groups", "except", "only", "skip", "baseline", "on")
}

func explainHazard(cmd *cli.Command, streams Streams) error {
	c, err := ask.FindCheck(cmd.String("explain"))
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
