package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/maillog"
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
		return ask.Errorf("--once and --listen exclude each other")
	}
	st, err := openStore(ctx, cmd, streams, plan.Estate, false)
	if err != nil {
		return err
	}
	defer st.Close()
	a := &asker{cmd: cmd, streams: streams, plan: plan, store: st}
	w := newWorker(a, format)
	if cmd.IsSet("known-as") && !cmd.IsSet("listen") {
		return ask.Errorf("--known-as goes with --listen")
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
		return ask.Network(errors.New("an alarm could not be sent, or the store not be read; it is tried again"))
	case raised:
		return errWrong
	}
	return nil
}

// besidePlan returns the usual estate, in the folder of a plan.
func besidePlan(path string) string {
	folder := filepath.Dir(path)
	for _, name := range []string{"estate.yaml", "estate"} {
		if where := filepath.Join(folder, name); ask.OnDisk(where) {
			return where
		}
	}
	return filepath.Join(folder, "estate.yaml")
}

// newWorker returns a worker that reports its answers on the streams.
func newWorker(a *asker, format present.Format) *watch.Watcher {
	var one sync.Mutex
	trouble := func(text string) {
		one.Lock()
		defer one.Unlock()
		warn(a.streams, text)
	}
	sender := watch.NewSender(a.plan, version(), trouble)
	return &watch.Watcher{
		Plan: a.plan, Store: a.store, Ask: a.ask, OnError: trouble, Send: sender.Send,
		Tell: func(e *present.WatchEvent) {
			one.Lock()
			defer one.Unlock()
			if err := present.PrintWatchEvent(a.streams.Out, e, format, pageOptions(a.streams.Out)); err != nil {
				warn(a.streams, err.Error())
			}
		},
	}
}

// asker asks the questions of a plan.
type asker struct {
	cmd     *cli.Command
	streams Streams
	plan    *watch.Plan
	store   *store.Store
}

// place is where questions of the plan are asked now.
func (a *asker) place() (*ask.Place, error) {
	day, err := dayOf(a.cmd)
	ignore := func(string) {}
	return &ask.Place{Path: a.plan.Estate, Named: true, Day: day, Version: version(), Store: a.store, Warn: ignore,
		Note: ignore, Loaded: collectOften}, err
}

// ask asks the question of an item.
func (a *asker) ask(ctx context.Context, item *watch.Item, since time.Time) (*history.Outcome, error) {
	at, err := a.place()
	if err != nil {
		return nil, err
	}
	if item.Kind == watch.KindLog {
		defer debug.SetGCPercent(debug.SetGCPercent(maillog.GCPercent))
	}
	o, err := a.plan.Ask(ctx, item, since, at)
	if err != nil {
		return nil, plainError(err)
	}
	return o, nil
}

// plainError returns an error without the name of the program in front.
func plainError(err error) error {
	text := strings.TrimPrefix(errorText(err), "yorvet: ")
	return errors.New(strings.ReplaceAll(text, "\n", " "))
}

// listen serves the page of a worker at an address, and returns how to end it.
func (a *asker) listen(ctx context.Context, w *watch.Watcher, where string) (end func(), err error) {
	host, port, err := net.SplitHostPort(where)
	if err != nil {
		return nil, ask.Errorf("--listen takes an address such as 127.0.0.1:9180, not %q", where)
	}
	if _, err := strconv.ParseUint(port, 10, 16); err != nil {
		return nil, ask.Errorf("--listen: %q is no port", port)
	}
	if host == "" {
		host = "127.0.0.1" // other machines only where that is said
	}
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", net.JoinHostPort(host, port))
	if err != nil {
		return nil, ask.Network(err)
	}
	page := &watch.Page{Worker: w, Version: version(), Names: a.cmd.StringSlice("known-as")}
	page.Report = func(ctx context.Context, out io.Writer) error {
		at, err := a.place()
		if err != nil {
			return err
		}
		d, err := ask.Open(ctx, at)
		if err != nil {
			return plainError(err)
		}
		q := &ask.Report{Expect: a.plan.Report}
		data, err := q.Collect(ctx, at, d)
		if err != nil {
			return plainError(err)
		}
		return data.Write(out)
	}
	fmt.Fprintf(a.streams.Err, "yorvet: http://%s/ shows the latest results\n", listener.Addr())
	return page.Serve(listener), nil
}
