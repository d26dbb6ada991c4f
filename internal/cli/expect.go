package cli

import (
	"context"
	"io"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/present"
)

func newExpect(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "expect",
		Usage:     "check what you expect of the groups",
		ArgsUsage: "FILE...",
		Description: "Each file holds statements such as \"reaches members in inbox\". A broken one shows who breaks it,\n" +
			"and the exit code is 1. With --draft, the arguments are groups, and what holds of them today is\n" +
			"written down as a start.\n\n" +
			"Example: yorvet expect kelpmere.expect",
		Flags: append(keepFlags(),
			groupsFlag(), exceptFlag(),
			&cli.BoolFlag{Name: "draft", Usage: "write the expectations that hold for the groups that are named"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Bool("draft") {
				return draft(ctx, cmd, streams)
			}
			return expectFiles(ctx, cmd, streams)
		},
	}
}

func expectFiles(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.IsSet("groups") {
		return ask.Errorf("--groups goes with --draft: the groups that expectations are about stand in their files")
	}
	if cmd.Args().Len() == 0 {
		return ask.Errorf("expect needs a file of expectations; yorvet expect --draft GROUP writes one")
	}
	s, at, err := prepare(ctx, cmd, streams, present.JUnit, present.TAP)
	if err != nil {
		return err
	}
	return s.ask(&ask.Expect{Files: cmd.Args().Slice()}, at, "on")
}

func draft(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.Args().Len() == 0 && !cmd.IsSet("groups") {
		return ask.Errorf("expect --draft needs the address of a group")
	}
	s, err := open(ctx, cmd, streams)
	if err != nil {
		return err
	}
	groups, err := s.Groups(groupsOf(cmd, cmd.Args().Slice()...))
	if err != nil {
		return err
	}
	_, err = io.WriteString(streams.Out, expect.Draft(s.Resolver, groups))
	return err
}
