package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/probe"
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
			&cli.StringSliceFlag{Name: "kind", Usage: "only cases of a `KIND`; may be repeated: " + kindList()},
			&cli.StringFlag{Name: "from", Usage: "from everyone that a `SELECTOR` picks, rather than the usual cases"},
			&cli.StringSliceFlag{
				Name:  "expect",
				Usage: "the messages that a `FILE` of expectations speaks of, rather than the usual cases; may be repeated",
			},
			&cli.IntFlag{Name: "sample", Usage: "`N` cases at most, spread over all"},
			&cli.BoolFlag{Name: "send", Usage: "send the messages"},
			&cli.BoolFlag{Name: "approve", Usage: "answer the requests to approvers, and go on watching"},
			&cli.StringFlag{Name: "evidence", Usage: "copy the raw messages of what differed to a `FOLDER`"},
			&cli.StringFlag{Name: "runs", Usage: "the `FOLDER` where runs are recorded", Value: "yorvet-runs"},
			&cli.StringFlag{Name: "run", Usage: "the `NAME` of the new run"},
			&cli.StringFlag{Name: "resume", Usage: "go on with a `RUN`"},
			&cli.StringFlag{Name: "show", Usage: "show a `RUN` again, as far as it went"},
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

// runName is what a run may be called: it is part of Message-IDs and file names.
var runName = regexp.MustCompile(`^[A-Za-z0-9-]{1,40}$`)

func kindList() string {
	var words []string
	for _, kind := range probe.Kinds() {
		words = append(words, string(kind))
	}
	return orList(words)
}

// networkError says that a server or the network failed.
func networkError(err error) error { return fmt.Errorf("%w: %w", errNetwork, err) }

func runProbe(ctx context.Context, cmd *cli.Command, streams Streams) error {
	s, err := open(ctx, cmd, streams, present.JUnit)
	if err != nil {
		return err
	}
	l, err := connections.Load(ctx, cmd.String("connections"))
	if err != nil {
		return connectionError(cmd, err)
	}
	runs := cmd.String("runs")
	for _, name := range []string{"run", "resume", "show", "tidy"} {
		if run := cmd.String(name); run != "" && !runName.MatchString(run) {
			return usageError("--%s: %q is no name of a run, expected letters, digits and hyphens", name, run)
		}
	}
	plansOnly := cmd.String("tidy") == "" && cmd.String("resume") == "" && !cmd.Bool("send")
	if !plansOnly {
		if err := unlock(ctx, cmd, l); err != nil {
			return err
		}
	}
	switch {
	case cmd.String("tidy") != "":
		return s.tidy(ctx, filepath.Join(runs, cmd.String("tidy")), l)
	case cmd.String("show") != "":
		run, err := probe.Read(ctx, filepath.Join(runs, cmd.String("show")), s.r, l)
		if err != nil {
			return runError(err, runs, cmd.String("show"))
		}
		return s.judge(run)
	}
	bar := s.progress()
	options := probe.Options{
		Dir:      runs,
		Approve:  cmd.Bool("approve"),
		Evidence: cmd.String("evidence") != "",
		Progress: bar.set,
	}
	if name := cmd.String("resume"); name != "" {
		run, err := probe.Resume(ctx, filepath.Join(runs, name), s.r, l, options)
		bar.end()
		if run == nil {
			return runError(err, runs, name)
		}
		return s.judge(run)
	}
	return s.begin(ctx, l, options, bar)
}

// begin makes a plan, and sends it if that is asked for.
func (s *session) begin(ctx context.Context, l *connections.Connections, options probe.Options, shown *bar) error {
	cmd := s.cmd
	plan, err := s.plan(l)
	if err != nil {
		return err
	}
	if cmd.Bool("send") && len(plan.Cases) == 0 {
		return usageError("there is nothing to send: the connections have no way for any of the messages")
	}
	tooMany := len(plan.Touched) > l.Limits.People
	if !cmd.Bool("send") || tooMany {
		if err := s.print(present.NewProbePlan(s.r, plan, l.Limits.People)); err != nil {
			return err
		}
		if cmd.Bool("send") {
			const text = "nothing is sent: %d people would find a test message, and the connections allow %d"
			return usageError(text, len(plan.Touched), l.Limits.People)
		}
		return nil
	}
	run, err := probe.Start(ctx, plan, options)
	shown.end()
	switch {
	case errors.Is(err, os.ErrExist):
		const text = "there is a run %s in %s already; name another, or go on with it by --resume"
		return usageError(text, plan.Run, options.Dir)
	case run == nil || err != nil && !errors.Is(err, context.Canceled):
		return networkError(err)
	}
	return s.judge(run)
}

// plan plans a run: of the usual cases, or of everyone who writes in a group's name.
func (s *session) plan(l *connections.Connections) (*probe.Plan, error) {
	if s.cmd.Name == "send-as" {
		text, err := oneArgument(s.cmd, "a group")
		if err != nil {
			return nil, err
		}
		group, err := s.group(text)
		if err != nil {
			return nil, err
		}
		return probe.NewSendAsPlan(s.r, l, group, s.cmd.String("run")), nil
	}
	choice, err := s.choice()
	if err != nil {
		return nil, err
	}
	lists, err := s.expectations(s.cmd.StringSlice("expect"))
	if err != nil {
		return nil, err
	}
	choice.Expected = slices.Concat(lists...)
	return probe.NewPlan(s.r, l, choice), nil
}

// connectionError says why a connections file could not be read.
func connectionError(cmd *cli.Command, err error) error {
	var file *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist) && !cmd.IsSet("connections"):
		return usageError("there is no connections.yaml here; name the connections file with --connections. " +
			"To rehearse without a mail server: yorvet standin --connections connections.yaml")
	case errors.As(err, &file):
		return usageError("%w", err)
	}
	return err
}

// choice returns which cases are wanted.
func (s *session) choice() (probe.Choice, error) {
	c := probe.Choice{Sample: s.cmd.Int("sample"), Run: s.cmd.String("run"), Approve: s.cmd.Bool("approve")}
	var err error
	if c.Groups, err = s.groupsOrAll(s.cmd.Args().Slice()...); err != nil {
		return c, err
	}
	if len(c.Groups) == 0 {
		return c, usageError("--groups leaves no group to probe")
	}
	for _, text := range s.cmd.StringSlice("kind") {
		kind := probe.Kind(text)
		known := false
		var words []string
		for _, k := range probe.Kinds() {
			known = known || k == kind
			words = append(words, string(k))
		}
		if !known {
			return c, unknown("kind", text, words)
		}
		c.Kinds = append(c.Kinds, kind)
	}
	if text := s.cmd.String("from"); text != "" {
		people, err := s.picked(text)
		if err != nil {
			return c, err
		}
		c.From = people
	}
	return c, nil
}

// picked returns the people whom a selector picks.
func (s *session) picked(text string) ([]address.Address, error) {
	x, err := selector.Parse(text, selector.ForPeople)
	if err != nil {
		return nil, usageError("--from: %w", err)
	}
	if problems := s.e.CheckSelector(x, text); len(problems) > 0 {
		return nil, usageError("--from: %s", problems[0].Text)
	}
	var people []address.Address
	group := estate.ID(0)
	if s.cmd.Args().Len() > 0 {
		if group, err = s.group(s.cmd.Args().First()); err != nil {
			return nil, err
		}
	}
	for _, id := range s.e.PeopleByAddress() {
		if a := s.e.Address(id); s.r.Eval(group, x, s.r.Sender(a), resolve.Message{}) {
			people = append(people, a)
		}
	}
	if len(people) == 0 {
		return nil, usageError("--from: %q picks nobody", text)
	}
	return people, nil
}

// judge prints what a run saw.
func (s *session) judge(run *probe.Run) error {
	j := probe.Judge(run)
	if dir := s.cmd.String("evidence"); dir != "" {
		if err := probe.KeepEvidence(context.WithoutCancel(s.ctx), j, dir); err != nil {
			return usageError("%w", err)
		}
	}
	if err := s.print(present.NewProbe(s.r, j)); err != nil {
		return err
	}
	_, not := j.Counts()
	switch {
	case unreachable(run):
		return networkError(errors.New("no server could be reached"))
	case not > 0 || run.Broken:
		return errWrong
	}
	return nil
}

// runError says why a run cannot be read.
func runError(err error, runs, name string) error {
	if errors.Is(err, fs.ErrNotExist) {
		return usageError("there is no run %s in %s", name, runs)
	}
	return usageError("%w", err)
}

// unreachable reports whether no message reached any server.
func unreachable(run *probe.Run) bool {
	for _, reply := range run.Replies {
		if reply.Code != 0 {
			return false
		}
	}
	return len(run.Replies) > 0
}

func (s *session) tidy(ctx context.Context, dir string, l *connections.Connections) error {
	run, err := probe.Read(ctx, dir, s.r, l)
	if err != nil {
		return runError(err, filepath.Dir(dir), filepath.Base(dir))
	}
	removed, err := probe.Tidy(ctx, run)
	fmt.Fprintf(s.streams.Out, "%d messages of run %s removed\n", removed, run.Plan.Run)
	if err != nil {
		return networkError(err)
	}
	return nil
}

// bar shows on a terminal how far a run is.
type bar struct{ bar *progressbar.ProgressBar }

func (s *session) progress() *bar {
	f, ok := s.streams.Err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return &bar{}
	}
	return &bar{
		progressbar.NewOptions(
			1,
			progressbar.OptionSetWriter(f),
			progressbar.OptionSetDescription("seen"),
			progressbar.OptionShowCount(),
			progressbar.OptionClearOnFinish(),
			progressbar.OptionSetWidth(30),
		),
	}
}

func (b *bar) set(done, all int) {
	if b.bar != nil {
		b.bar.ChangeMax(all)
		_ = b.bar.Set(done)
	}
}

func (b *bar) end() {
	if b.bar != nil {
		_ = b.bar.Finish()
	}
}

// isNetwork reports whether an error is that a server or the network failed.
func isNetwork(err error) bool {
	var network *net.OpError
	return errors.Is(err, errNetwork) || errors.As(err, &network)
}

// errNetwork says that a server or the network failed.
var errNetwork = errors.New("yorvet: the network or a server failed")
