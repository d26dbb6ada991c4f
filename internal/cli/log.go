package cli

import (
	"context"
	"errors"
	"runtime/debug"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/maillog"
	"yorvet.example/yorvet/internal/present"
)

func newLog(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "log",
		Usage:     "say what became of messages, by mail logs",
		ArgsUsage: "FILE...",
		Description: "Reads the logs of Postfix, Exim, OpenSMTPD, Dovecot and the stand-in, plain or compressed, of files\n" +
			"or standard input (-), and delivery tables by a map (--map). Each message is followed from machine to\n" +
			"machine. With an estate, members without a delivery are named, and why.\n\n" +
			"Example: yorvet log /var/log/mail.log --to lost-property --since yesterday\n" +
			"         journalctl -u postfix | yorvet log - --from guest@holiday.example",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "only messages from an `ADDRESS`, or @DOMAIN"},
			&cli.StringFlag{Name: "to", Usage: "only messages to an `ADDRESS`, or @DOMAIN; a group by any of its addresses"},
			&cli.StringFlag{Name: "since",
				Usage: "only from a `TIME` on: 2026-11-25, \"2026-11-25 08:00\", 08:00, yesterday, 2h"},
			&cli.StringFlag{Name: "until", Usage: "only before a `TIME`"},
			&cli.StringSliceFlag{Name: "outcome", Usage: "only with an `OUTCOME` for one recipient at least, such as bounced"},
			&cli.StringFlag{Name: "message", Usage: "one message by its Message-ID or queue `ID`, from beginning to end"},
			&cli.StringFlag{Name: "as", Usage: "what was sent in the name of a `GROUP`, by which logins, and the answers"},
			&cli.StringFlag{Name: "map", Usage: "the files are delivery tables that a map `FILE` describes"},
			&cli.StringFlag{Name: "time-zone", Usage: "the `ZONE` of times that do not say theirs, such as Europe/Oslo",
				DefaultText: "that of this machine"},
			&cli.BoolFlag{Name: "follow", Usage: "tell of each message as the logs grow"},
			&cli.BoolFlag{Name: "unknown", Usage: "show the lines that are not understood"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error { return logged(ctx, cmd, streams) },
	}
}

func logged(ctx context.Context, cmd *cli.Command, streams Streams) error {
	s, at, err := prepare(ctx, cmd, streams)
	if err != nil {
		return err
	}
	q := &ask.Log{Files: cmd.Args().Slice(), From: cmd.String("from"), To: cmd.String("to"), As: cmd.String("as"),
		Since: cmd.String("since"), Until: cmd.String("until"), Outcomes: cmd.StringSlice("outcome"),
		Message: cmd.String("message"), Map: cmd.String("map"), Zone: cmd.String("time-zone"), Unknown: cmd.Bool("unknown")}
	defer debug.SetGCPercent(debug.SetGCPercent(maillog.GCPercent))
	switch {
	case cmd.Bool("follow"):
		return q.Follow(ctx, at, func(story *trail.Story, zone *time.Location) error {
			return present.PrintLogMessage(streams.Out, story, s.format, pageOptions(streams.Out), zone)
		})
	case s.format == present.CSV && q.As == "":
		var rows *present.LogRows
		err := q.Rows(ctx, at, func(zone *time.Location) func(*trail.Story) {
			rows = present.NewLogRows(streams.Out, zone)
			return rows.Add
		})
		if rows == nil {
			return err
		}
		return errors.Join(err, rows.Flush())
	}
	return s.result(q.Ask(ctx, at))
}
