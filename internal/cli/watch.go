package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
	"yorvet.example/yorvet/internal/watch"
)

func newWatch(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "watch",
		Usage:     "check again and again, and tell what has changed",
		ArgsUsage: "PLAN",
		Description: "The plan names checks, expectations, comparisons, probes and logs, each with its interval or times\n" +
			"of the day, and who is told. Several processes, on several machines, may watch one plan by one\n" +
			"store: each item is begun once. Alarms say what is new and what is resolved, once. Answers are\n" +
			"kept, and shown by yorvet history. It ends when it is interrupted; with --once, when all that is\n" +
			"due is done: the exit code is then 1 if an alarm was raised, and 3 if one could not be sent.\n\n" +
			"Example: yorvet watch plan.yaml --listen 127.0.0.1:9180",
		Flags: []cli.Flag{
			storeFlag(),
			&cli.BoolFlag{Name: "once", Usage: "do what is due, and end"},
			&cli.StringFlag{Name: "listen",
				Usage: "serve a page, /healthz and /metrics at an `ADDRESS`, such as 127.0.0.1:9180"},
			&cli.StringSliceFlag{Name: "known-as", Usage: "with --listen: answer to the host `NAME`, too"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error { return watchPlan(ctx, cmd, streams) },
	}
}

func watchPlan(ctx context.Context, cmd *cli.Command, streams Streams) error {
	path, err := oneArgument(cmd, "the file of a plan")
	if err != nil {
		return err
	}
	format, err := formatOf(cmd)
	if err != nil {
		return err
	}
	plan, err := watch.Load(ctx, path)
	if err != nil {
		return err
	}
	if cmd.IsSet("estate") {
		plan.Estate = estatePath(cmd)
	} else if plan.Estate == "" {
		plan.Estate = besidePlan(path)
	}
	if cmd.Bool("once") && cmd.IsSet("listen") {
		return usageError("--once and --listen exclude each other")
	}
	st, err := openStore(ctx, cmd, streams, plan.Estate, false)
	if err != nil {
		return err
	}
	defer st.Close()
	a := &asker{cmd: cmd, streams: streams, plan: plan, store: st}
	w := newWorker(a, format)
	if cmd.IsSet("known-as") && !cmd.IsSet("listen") {
		return usageError("--known-as goes with --listen")
	}
	if cmd.IsSet("listen") {
		end, err := a.listen(ctx, w, cmd.String("listen"))
		if err != nil {
			return err
		}
		defer end()
	}
	w.Run(ctx, cmd.Bool("once"))
	if !cmd.Bool("once") {
		return nil
	}
	switch raised, waiting := w.Raised(); {
	case waiting:
		return networkError(errors.New("an alarm could not be sent, or the store not be read; it is tried again"))
	case raised:
		return errWrong
	}
	return nil
}

// besidePlan returns the usual estate, in the folder of a plan.
func besidePlan(path string) string {
	folder := filepath.Dir(path)
	for _, name := range []string{"estate.yaml", "estate"} {
		if where := filepath.Join(folder, name); onDisk(where) {
			return where
		}
	}
	return filepath.Join(folder, "estate.yaml")
}

// newWorker returns a worker that tells of its answers on the streams.
func newWorker(a *asker, format present.Format) *watch.Worker {
	var one sync.Mutex
	trouble := func(text string) {
		one.Lock()
		defer one.Unlock()
		warn(a.streams, text)
	}
	sender := watch.NewSender(a.plan, version(), trouble)
	return &watch.Worker{
		Plan: a.plan, Store: a.store, Ask: a.ask, Trouble: trouble, Send: sender.Send,
		Tell: func(e *present.WatchEvent) {
			one.Lock()
			defer one.Unlock()
			if err := present.PrintWatchEvent(a.streams.Out, e, format, pageOptions(a.streams.Out)); err != nil {
				warn(a.streams, err.Error())
			}
		},
	}
}

// asker carries out the items of a plan: by the commands that somebody would type.
type asker struct {
	cmd     *cli.Command
	streams Streams
	plan    *watch.Plan
	store   *store.Store
}

// run runs a command, and returns its answer; what it says besides is part of an error.
func (a *asker) run(ctx context.Context, out io.Writer, args ...string) (present.Answer, error) {
	var answer present.Answer
	var said bytes.Buffer
	line := []string{"yorvet", "--estate", a.plan.Estate}
	if on := a.cmd.String("on"); on != "" {
		line = append(line, "--on", on)
	}
	if a.cmd.Bool("no-cache") {
		line = append(line, "--no-cache")
	}
	line = append(line, args...)
	inner := Streams{Out: out, Err: &said, args: line[1:], answer: func(one present.Answer) { answer = one }}
	if out != io.Discard {
		inner.answer = nil
	}
	err := newRoot(line, inner).Run(ctx, line)
	if err != nil && !errors.Is(err, errWrong) { // of a source that gave only a part, nothing is resolved
		return nil, plainError(err)
	}
	return answer, err
}

// plainError returns an error without the name of the program in front.
func plainError(err error) error {
	text := strings.TrimPrefix(errorText(err), "yorvet: ")
	return errors.New(strings.ReplaceAll(text, "\n", " "))
}

// ask carries out an item.
func (a *asker) ask(ctx context.Context, item *watch.Item, since time.Time) (*history.Outcome, error) {
	args := slices.Clone(item.Args)
	switch item.Kind {
	case watch.KindCompare:
		args = append(args, a.plan.Estate)
	case watch.KindLog:
		if !since.IsZero() {
			args = append(args, "--since", since.UTC().Format("2006-01-02 15:04:05"), "--time-zone", "UTC")
		}
	case watch.KindProbe:
		args = append(args, "--run", history.WatchedBy(a.plan.Name)+history.NewID())
	}
	if item.Kind == watch.KindProbe {
		args = append(args, a.storeArgs()...)
	} else if item.Kind != watch.KindLog {
		args = append(args, "--no-store")
	}
	answer, err := a.run(ctx, io.Discard, append([]string{item.Kind}, args...)...)
	if answer == nil {
		if err == nil || errors.Is(err, errWrong) {
			err = errors.New("there is no answer")
		}
		return nil, err
	}
	o, told := a.outcome(answer)
	if !told {
		return nil, fmt.Errorf("%s gave an answer that is not kept", item.Kind)
	}
	o.Wrong = o.Wrong || errors.Is(err, errWrong)
	return o, nil
}

// storeArgs name the store for another command.
func (a *asker) storeArgs() []string {
	if where := a.cmd.String("store"); where != "" {
		return []string{"--store", where}
	}
	return nil
}

// outcome returns what is kept of an answer.
func (a *asker) outcome(answer present.Answer) (*history.Outcome, bool) {
	s := &session{}
	now := clock.Now()
	var o *history.Outcome
	switch answer := answer.(type) {
	case *present.Hazards:
		o = s.hazardOutcome(a.plan.Estate, "", now, answer)
	case *present.Expectations:
		o = s.expectationOutcome(a.plan.Estate, "", now, answer)
	case *present.Comparison:
		o = s.comparisonOutcome(a.plan.Estate, "", now, answer)
	case *present.Probe:
		o = s.probeOutcome(a.plan.Estate, now, answer)
	case *present.Log:
		o = s.logOutcome(a.plan.Estate, now, answer)
	default:
		return nil, false
	}
	return o, true
}

// probeOutcome returns what is kept of a probe besides its own run: what was not as predicted.
func (s *session) probeOutcome(path string, began time.Time, a *present.Probe) *history.Outcome {
	o := s.outcome(watch.KindProbe, path, "", began, a)
	o.Says += " (run " + a.Run + ")"
	o.Good, o.Bad = a.AsPredicted, a.NotAsPredicted+a.NotLookedAt
	o.Wrong = o.Bad > 0
	for _, c := range a.Cases {
		if !c.AsPredicted {
			o.Facts = append(o.Facts, store.Fact{Name: nameOf(c.Kind, c.Group, c.From, c.Predicted, c.Seen),
				Group: strings.ToLower(c.Group), Who: strings.ToLower(c.From),
				Says: c.Kind + " message: predicted " + c.Predicted + ", seen " + seenWords(c.Seen, c.Why)})
		}
	}
	for _, m := range a.Members {
		if !m.AsPredicted {
			o.Facts = append(o.Facts, store.Fact{Name: nameOf(m.Case, m.Address, m.Predicted, m.Seen),
				Who:  strings.ToLower(m.Address),
				Says: "mailbox: predicted " + m.Predicted + ", seen " + seenWords(m.Seen, m.Why)})
		}
	}
	return o
}

func seenWords(seen, why string) string {
	if why != "" {
		return seen + " (" + why + ")"
	}
	return seen
}

// logOutcome returns what is kept of a look into logs: who did not get what.
func (s *session) logOutcome(path string, began time.Time, a *present.Log) *history.Outcome {
	o := s.outcome(watch.KindLog, path, "", began, a)
	o.Untold = a.LeftOut
	for _, m := range a.List {
		for _, r := range m.Recipients {
			if present.LogGood(r.Outcome) {
				o.Good++
				continue
			}
			o.Bad++
			o.Facts = append(o.Facts, store.Fact{Name: nameOf(m.Message, strings.Join(m.Queues, " "), m.Began, r.Address,
				r.Outcome),
				Group: strings.ToLower(r.Group), Who: strings.ToLower(r.Address),
				Says: r.Outcome + " from " + m.From + logDetail(r.Detail)})
		}
	}
	o.Wrong = o.Bad > 0
	return o
}

func logDetail(detail string) string {
	if detail == "" {
		return ""
	}
	return ": " + detail
}

// listen serves the page of a worker at an address, and returns how to end it.
func (a *asker) listen(ctx context.Context, w *watch.Worker, where string) (end func(), err error) {
	host, port, err := net.SplitHostPort(where)
	if err != nil {
		return nil, usageError("--listen takes an address such as 127.0.0.1:9180, not %q", where)
	}
	if _, err := strconv.ParseUint(port, 10, 16); err != nil {
		return nil, usageError("--listen: %q is no port", port)
	}
	if host == "" {
		host = "127.0.0.1" // other machines only where that is said
	}
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", net.JoinHostPort(host, port))
	if err != nil {
		return nil, networkError(err)
	}
	page := &watch.Page{Worker: w, Version: version(), Names: a.cmd.StringSlice("known-as")}
	page.Report = func(ctx context.Context, out io.Writer) error {
		args := append([]string{"report", "--output", "-"}, a.storeArgs()...)
		for _, file := range a.plan.Report {
			args = append(args, "--expect", file)
		}
		_, err := a.run(ctx, out, args...)
		return err
	}
	fmt.Fprintf(a.streams.Err, "yorvet: http://%s/ shows the latest results\n", listener.Addr())
	return page.Serve(listener), nil
}
