package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/present"
)

func newProbe(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "probe",
		Usage:     "check predictions with real messages",
		ArgsUsage: "[GROUP...]",
		Description: "Without --send nothing is sent: the plan is shown, with what is predicted and who would find a\n" +
			"test message. The connections file says how mail is sent, and how mailboxes are opened. A run is\n" +
			"recorded as it goes; --resume goes on with one that was ended, and sends nothing twice.\n\n" +
			"Example: yorvet probe lost-property@kelpmere.example --connections connections.yaml --send",
		Flags: []cli.Flag{
			groupsFlag(), exceptFlag(),
			&cli.StringFlag{Name: "connections", Usage: "the connections `FILE`", Value: "connections.yaml"},
			&cli.StringSliceFlag{Name: "kind", Usage: "only cases of a `KIND`; may be repeated: " + ask.OrList(ask.KindWords())},
			&cli.StringFlag{Name: "from", Usage: "from everyone that a `SELECTOR` picks, rather than the usual cases"},
			&cli.StringSliceFlag{
				Name:  "expect",
				Usage: "the messages that a `FILE` of expectations speaks of, rather than the usual cases; may be repeated",
			},
			&cli.IntFlag{Name: "sample", Usage: "`N` cases at most, spread over all"},
			&cli.FloatFlag{Name: "pace", Usage: "`N` messages a second at most, rather than what the connections say"},
			&cli.BoolFlag{Name: "send", Usage: "send the messages"},
			&cli.BoolFlag{Name: "send-anyway", Usage: "with --send: send even if none of the mailboxes that are tried first opens"},
			&cli.BoolFlag{Name: "approve", Usage: "answer the requests to approvers, and go on watching"},
			&cli.StringFlag{Name: "evidence", Usage: "copy the raw messages of what differed to a `FOLDER`"},
			storeFlag(),
			&cli.BoolFlag{Name: "check-connections", Usage: "try all logins of the plan, and send nothing"},
			&cli.StringFlag{Name: "run", Usage: "the `NAME` of the new run"},
			&cli.StringFlag{Name: "resume", Usage: "go on with a `RUN`; with --send: send what is still to be sent, too"},
			&cli.StringFlag{Name: "show", Usage: "show a `RUN` again, as far as it went"},
			&cli.BoolFlag{
				Name:  "expunge",
				Usage: "with --tidy: also where a server only removes all that is marked as deleted, if nothing else is marked",
			},
			&cli.StringFlag{Name: "tidy", Usage: "remove the messages of a `RUN` from the mailboxes, and those only"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error { return runProbe(ctx, cmd, streams) },
		Commands: []*cli.Command{{
			Name: "send-as", Usage: "send as the group, as everyone who may and one who may not", ArgsUsage: "GROUP",
			Description: "The messages go to a stranger of the connections, and what that reader sees is shown.\n\n" +
				"Example: yorvet probe send-as charter@kelpmere.example --send",
			Action: func(ctx context.Context, cmd *cli.Command) error { return runProbe(ctx, cmd, streams) },
		}},
	}
}

func runProbe(ctx context.Context, cmd *cli.Command, streams Streams) error {
	existing := cmd.String("tidy") + cmd.String("resume") + cmd.String("show")
	s, at, err := prepare(ctx, cmd, streams, present.JUnit)
	if err != nil {
		return err
	}
	q := &ask.Probe{Groups: groupsOf(cmd, cmd.Args().Slice()...), Kinds: cmd.StringSlice("kind"), From: cmd.String("from"),
		Expect: cmd.StringSlice("expect"), Sample: cmd.Int("sample"), File: cmd.String("connections"),
		Named: cmd.IsSet("connections"), Run: cmd.String("run"), Approve: cmd.Bool("approve"),
		SendAnyway: cmd.Bool("send-anyway"), Evidence: cmd.String("evidence")}
	if cmd.IsSet("pace") {
		pace := cmd.Float("pace")
		q.Pace = &pace
	}
	if cmd.Name == "send-as" {
		if q.SendAs, err = oneArgument(cmd, "a group"); err != nil {
			return err
		}
	}
	if existing == "" { // else it was planned with an estate of its own, which the store keeps
		d, err := ask.Open(ctx, at)
		if err != nil {
			return err
		}
		s.Desk = *d
	}
	planOnly := existing == "" && !cmd.Bool("send") && !cmd.Bool("check-connections")
	if err := q.Load(ctx, at, !planOnly && (cmd.String("show") == "" || q.Evidence != "")); err != nil {
		return err
	}
	for _, name := range []string{"run", "resume", "show", "tidy"} {
		if err := ask.CheckRunName(name, cmd.String(name)); err != nil {
			return err
		}
	}
	switch {
	case planOnly:
		return s.showPlan(q, at)
	case existing == "" && cmd.Bool("check-connections"):
		return s.result(q.Check(ctx, &s.Desk))
	}
	if at.Store, err = openStore(ctx, cmd, streams, at.Path, existing != ""); err != nil {
		return err
	}
	defer at.Store.Close()
	if run := cmd.String("tidy"); run != "" {
		return s.tidy(q, at, run)
	}
	if run := cmd.String("show"); run != "" {
		return s.result(q.Show(ctx, at, run))
	}
	shown := s.progress()
	at.Progress = shown.set
	var r *ask.Result
	if run := cmd.String("resume"); run != "" {
		r, err = q.Resume(ctx, at, run, cmd.Bool("send"))
	} else {
		r, err = q.Send(ctx, at, &s.Desk)
	}
	shown.end()
	return s.result(r, err)
}

// result prints an answer that is not kept, or returns why there is none.
func (s *session) result(r *ask.Result, err error) error {
	switch {
	case errors.Is(err, ask.ErrNotAgreed):
		return errWrong
	case err != nil:
		return err
	}
	return s.answer(r)
}

// showPlan shows what would be sent, by this machine and the agents of the store that are alive.
func (s *session) showPlan(q *ask.Probe, at *ask.Place) (err error) {
	if at.Store, err = peek(s.ctx, s.cmd); err != nil {
		warn(s.streams, "agents are not counted: "+plainError(err).Error())
	}
	if at.Store != nil {
		defer at.Store.Close()
	}
	return s.result(q.Plan(s.ctx, at, &s.Desk))
}

// tidy removes the messages of a run.
func (s *session) tidy(q *ask.Probe, at *ask.Place, name string) error {
	removed, run, err := q.Tidy(s.ctx, at, name, func(accounts []string) bool {
		const text = "The servers of %d mailboxes remove no single messages (UIDPLUS): mark the messages of this run as deleted, " +
			"and remove what is marked, where nothing else is?"
		return s.cmd.Bool("expunge") || at.Agree != nil && at.Agree(fmt.Sprintf(text, len(accounts)), "They stay.")
	})
	if run == "" {
		return err
	}
	fmt.Fprintf(s.streams.Out, "%d messages of run %s removed\n", removed, run)
	if errors.Is(err, mailbox.ErrSingly) {
		warn(s.streams, "--expunge marks the messages of the run as deleted, and removes what is marked, where nothing else is")
	}
	return stored(err)
}
