package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/propose"
)

// changeFlags are the flags of all commands that change the estate.
func changeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "yes", Usage: "make the change without asking"},
		&cli.BoolFlag{Name: "preview", Usage: "show what the change does; write nothing"},
		&cli.BoolFlag{Name: "diff", Usage: "show the lines of the files that change"},
		&cli.BoolFlag{Name: "quietly", Usage: "do not welcome new members"},
		throughLinks(),
	}
}

func throughLinks() cli.Flag {
	return &cli.BoolFlag{Name: "through-links", Usage: "with --yes: write files outside that links of the estate lead to"}
}

// makeChange shows what a change of the estate does, asks about it, and writes it.
func makeChange(ctx context.Context, cmd *cli.Command, streams Streams, p propose.Proposal) error {
	s, at, err := prepare(ctx, cmd, streams)
	if err != nil {
		return err
	}
	r, err := propose.Change(ctx, at, s.manner(), p)
	return s.say(r, err)
}

// manner returns how the command line wants a change to be made.
func (s *session) manner() *propose.Manner {
	cmd := s.cmd
	return &propose.Manner{
		Yes: cmd.Bool("yes"), Preview: cmd.Bool("preview"), Diff: cmd.Bool("diff"), Quietly: cmd.Bool("quietly"),
		ThroughLinks: cmd.Bool("through-links"), Command: s.streams.args, Loaded: collectOften,
		Tell: func(line string) { fmt.Fprintln(s.streams.Out, line) },
	}
}

// askable reports whether somebody is there to be asked.
func askable(streams Streams) bool {
	out, ok := streams.Out.(*os.File)
	return ok && term.IsTerminal(int(out.Fd())) && term.IsTerminal(int(os.Stdin.Fd()))
}

// agreed asks whether something is to be done, and says otherwise if not.
func agreed(ctx context.Context, streams Streams, question, otherwise string) bool {
	fmt.Fprint(streams.Out, question, " [y/N] ")
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
		answer <- strings.ToLower(strings.TrimSpace(line))
	}()
	select {
	case text := <-answer:
		if text == "yes" || text == "y" {
			return true
		}
	case <-ctx.Done():
	}
	fmt.Fprintln(streams.Out, otherwise)
	return false
}
