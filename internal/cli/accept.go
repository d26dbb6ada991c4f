package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/propose"
)

func newAccept(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "accept",
		Usage:     "write down that hazards are meant to be, and why",
		ArgsUsage: "HAZARD [GROUP...]",
		Description: "A GROUP may hold * for anything; '*' is all groups. The acceptance is written into the estate,\n" +
			"under accept: check counts what it is for apart, until the day of --until is over.\n\n" +
			"Example: yorvet accept gets-nothing 'pier-*' --because 'They read at the desk.' --until 2027-03-31",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "because", Usage: "the `REASON`, for those who read it later"},
			&cli.StringFlag{Name: "address", Usage: "only findings about an `ADDRESS`, which may hold * for anything"},
			&cli.StringFlag{Name: "until", Usage: "the last `DAY` on which it holds, as YYYY-MM-DD"},
			&cli.StringFlag{Name: "groups", Usage: "the groups that a `FILTER` of settings and attributes picks (RFC 4515)"},
		}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 {
				return ask.Errorf("accept needs the name of a hazard, as check tells it")
			}
			check, err := ask.FindCheck(cmd.Args().First())
			if err != nil {
				return err
			}
			if strings.TrimSpace(cmd.String("because")) == "" {
				return ask.Errorf("accept needs the reason: --because TEXT")
			}
			return makeChange(ctx, cmd, streams, &propose.Acceptance{
				Check: check, Groups: cmd.Args().Slice()[1:], Filter: cmd.String("groups"), Address: cmd.String("address"),
				Because: cmd.String("because"), Until: cmd.String("until"),
			})
		},
	}
}
