package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
)

func newReport(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "report",
		Usage:     "write a page for people who do not type",
		ArgsUsage: " ",
		Description: "One HTML file with everything in it: the groups at a glance, who may write and who gets it and why,\n" +
			"a map of nested groups, people, hazards with what to do, and the last probe. --for makes it for one\n" +
			"group, or for one person and the groups that they own. --mail sends each owner theirs; without\n" +
			"--send it is a plan.\n\n" +
			"Example: yorvet report --expect kelpmere.expect\n" +
			"         yorvet report --for ines.maro -o ines.html",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write to a `FILE`; - is standard output",
				Value: "report.html"},
			&cli.BoolFlag{Name: "force", Usage: "overwrite a file that is there"},
			&cli.StringFlag{Name: "for", Usage: "only a group, or the groups of an owner: an `ADDRESS`"},
			&cli.StringSliceFlag{Name: "expect", Usage: "with the expectations of a `FILE`"},
			&cli.StringFlag{Name: "run", Usage: "with a `RUN` of probes; otherwise the last one of this estate"},
			storeFlag(),
			&cli.BoolFlag{Name: "mail", Usage: "for each owner: what they would be sent; with --send, send it"},
			&cli.BoolFlag{Name: "send", Usage: "send what --mail plans"},
			&cli.StringFlag{Name: "as", Usage: "who sends it: your own `ADDRESS`"},
			&cli.StringFlag{Name: "connections", Usage: "the connections `FILE`", Value: "connections.yaml"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 0 {
				return ask.Errorf("report takes flags only, not %q; a group or owner is named by --for", cmd.Args().First())
			}
			// The page is made once and done with: memory is cheaper than looking through it.
			defer debug.SetGCPercent(debug.SetGCPercent(400))
			return runReport(ctx, cmd, streams)
		},
	}
}

func runReport(ctx context.Context, cmd *cli.Command, streams Streams) error {
	s, at, err := prepare(ctx, cmd, streams)
	if err != nil {
		return err
	}
	switch {
	case cmd.Bool("send") && !cmd.Bool("mail"):
		return ask.Errorf("--send goes with --mail")
	case cmd.Bool("mail") && cmd.String("as") == "":
		return ask.Errorf("report --mail needs --as with your own address")
	}
	q := &ask.Report{For: cmd.String("for"), Expect: cmd.StringSlice("expect"), Run: cmd.String("run")}
	at.Store, err = openStore(ctx, cmd, streams, at.Path, true)
	if _, none := errors.AsType[*noRunsError](err); none && q.Run == "" {
		err = nil
	}
	if err != nil {
		return err
	}
	if at.Store != nil {
		defer at.Store.Close()
	}
	if cmd.Bool("mail") {
		return s.ask(&ask.MailReports{
			Report: q, As: cmd.String("as"), Send: cmd.Bool("send"), File: cmd.String("connections"),
			Named: cmd.IsSet("connections"),
		}, at)
	}
	d, err := ask.Open(ctx, at)
	if err != nil {
		return err
	}
	s.Desk = *d
	return s.writeReport(q, at)
}

// writeReport writes a page to a file.
func (s *session) writeReport(q *ask.Report, at *ask.Place) error {
	path := s.cmd.String("output")
	if _, err := os.Lstat(path); path != "-" && err == nil && !s.cmd.Bool("force") {
		return ask.Errorf("%s exists; use --force", path)
	}
	var page bytes.Buffer
	d, err := q.Collect(s.ctx, at, &s.Desk)
	if err != nil {
		return err
	}
	if err := d.Write(&page); err != nil {
		return err
	}
	if err := s.ctx.Err(); err != nil {
		return err
	}
	if path == "-" {
		_, err := s.streams.Out.Write(page.Bytes())
		return err
	}
	if err := localfile.Write(path, page.Bytes(), 0o600); err != nil {
		return ask.Errorf("%w", err)
	}
	fmt.Fprintf(s.streams.Out, "Wrote %s: %s, %s, %s. Open it in a browser.\n", present.Clean(path),
		present.Count(len(d.Groups), "group", "groups"), present.Count(len(d.People), "person",
			"people"), present.Count((page.Len()+999)/1000, "kB", "kB"))
	return nil
}
