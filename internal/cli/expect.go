package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/localfile"
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
		return usageError("--groups goes with --draft: the groups that expectations are about stand in their files")
	}
	if cmd.Args().Len() == 0 {
		return usageError("expect needs a file of expectations; yorvet expect --draft GROUP writes one")
	}
	began := clock.Now()
	s, err := open(ctx, cmd, streams, present.JUnit, present.TAP)
	if err != nil {
		return err
	}
	var answer present.Expectations
	lists, err := s.expectations(cmd.Args().Slice())
	if err != nil {
		return err
	}
	for i, name := range cmd.Args().Slice() {
		answer.Add(s.r, name, lists[i])
	}
	if err := s.print(&answer); err != nil {
		return err
	}
	if keepsAnswers(cmd) {
		s.record(s.expectationOutcome(estatePath(cmd), whatOf(cmd, "on"), began, &answer))
	}
	if answer.Broken() > 0 {
		return errWrong
	}
	return nil
}

// expectations reads files of expectations.
func (s *session) expectations(names []string) ([][]expect.Expectation, error) {
	lists := make([][]expect.Expectation, len(names))
	var problems []string
	for i, name := range names {
		text, err := localfile.Read(s.ctx, name, mostExpectations)
		if err != nil {
			return nil, usageError("the expectations: %w", err)
		}
		list, errs := expect.Parse(string(text))
		lists[i] = list
		for _, e := range append(errs, expect.Check(s.e, list)...) {
			problems = append(problems, name+":"+e.Error()+caret(e))
		}
		if len(list)+len(errs) == 0 {
			problems = append(problems, name+":1:1: there is no expectation in this file")
		}
	}
	if len(problems) > 0 {
		return nil, fmt.Errorf("%s", strings.Join(problems, "\n"))
	}
	return lists, nil
}

// caret shows the line of an error with a caret under the spot.
func caret(e *expect.Error) string {
	if e.Source == "" || utf8.RuneCountInString(e.Source) > 200 {
		return ""
	}
	return "\n    " + strings.ReplaceAll(e.Source, "\t", " ") + "\n    " + strings.Repeat(" ", e.Column-1) + "^"
}

// mostExpectations is the size in bytes of a file of expectations that is read.
const mostExpectations = 32 << 20

func draft(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.Args().Len() == 0 && !cmd.IsSet("groups") {
		return usageError("expect --draft needs the address of a group")
	}
	s, err := open(ctx, cmd, streams)
	if err != nil {
		return err
	}
	groups, err := s.groupsOrAll(cmd.Args().Slice()...)
	if err != nil {
		return err
	}
	_, err = io.WriteString(streams.Out, expect.Draft(s.r, groups))
	return err
}
