package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"regexp"
	"slices"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/mail/watch"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/store"
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
func networkError(err error) error { return fmt.Errorf("%w: %w", errNetwork, store.Reason(err)) }

func runProbe(ctx context.Context, cmd *cli.Command, streams Streams) error {
	existing := cmd.String("tidy") + cmd.String("resume") + cmd.String("show")
	s, err := openFor(ctx, cmd, streams, existing != "")
	if err != nil {
		return err
	}
	l, err := connections.Load(ctx, cmd.String("connections"))
	var bare error // what is wrong if no agent has connections either
	if errors.Is(err, fs.ErrNotExist) && !cmd.IsSet("connections") {
		l, bare, err = connections.None(), connectionError(cmd, err), nil
	}
	if err != nil {
		return connectionError(cmd, err)
	}
	if cmd.IsSet("pace") {
		if l.Limits.Pace = cmd.Float("pace"); !(l.Limits.Pace > 0 && l.Limits.Pace <= 1000) {
			return usageError("--pace takes a number above 0, up to 1000")
		}
	}
	for _, name := range []string{"run", "resume", "show", "tidy"} {
		if run := cmd.String(name); run != "" && !runName.MatchString(run) {
			return usageError("--%s: %q is no name of a run, expected letters, digits and hyphens", name, run)
		}
	}
	if existing == "" && !cmd.Bool("send") && !cmd.Bool("check-connections") {
		return s.showPlan(l, bare)
	}
	if cmd.String("show") == "" || cmd.String("evidence") != "" {
		if err := unlock(ctx, cmd, streams, l); err != nil {
			return err
		}
	}
	if cmd.Bool("check-connections") {
		if bare != nil {
			return bare
		}
		return s.checkConnections(l)
	}
	st, err := openStore(ctx, cmd, streams, estatePath(cmd), existing != "")
	if err != nil {
		return err
	}
	defer st.Close()
	switch {
	case cmd.String("tidy") != "":
		return s.tidy(st, cmd.String("tidy"), l)
	case cmd.String("show") != "":
		return s.show(st, cmd.String("show"), l)
	case cmd.String("resume") != "":
		return s.resume(st, cmd.String("resume"), l)
	}
	return s.begin(st, l, bare)
}

// openFor opens the estate for a new run. One that is there was planned with its own, which the store
// keeps.
func openFor(ctx context.Context, cmd *cli.Command, streams Streams, existing bool) (*session, error) {
	if !existing {
		return open(ctx, cmd, streams, present.JUnit)
	}
	format, err := formatOf(cmd, present.JUnit)
	return &session{ctx: ctx, cmd: cmd, streams: streams, format: format}, err
}

// options returns how a run of the command goes.
func (s *session) options(st *store.Store, shown *progress) probe.Options {
	return probe.Options{
		Store:    st,
		State:    stateFolder(),
		Version:  version(),
		Approve:  s.cmd.Bool("approve"),
		Progress: shown.set,
		Trouble:  func(text string) { warn(s.streams, text) },
		Blind:    s.sendsBlind,
	}
}

// sendsBlind reports whether messages are sent though no mailbox opens.
func (s *session) sendsBlind() bool {
	switch {
	case s.cmd.Bool("send-anyway"):
		return true
	case askable(s.streams):
		return agreed(s.ctx, s.streams, "None of the mailboxes that were tried opens. Send anyway?", "Nothing is sent.")
	}
	warn(s.streams, "none of the mailboxes that were tried opens; to send all the same: --send-anyway")
	return false
}

// show prints what a run saw, as far as it went.
func (s *session) show(st *store.Store, name string, l *connections.Connections) error {
	k, err := s.kept(st, name, l)
	if err != nil {
		return err
	}
	run, err := k.Run()
	if err != nil {
		return err
	}
	return s.judge(st, run)
}

// resume goes on with a run.
func (s *session) resume(st *store.Store, name string, l *connections.Connections) error {
	k, err := s.kept(st, name, l)
	if err != nil {
		return err
	}
	if n := k.Unsent(); n > 0 && !s.cmd.Bool("send") {
		return usageError("%d messages of run %s are still to be sent: add --send to send them", n, name)
	}
	shown := s.progress()
	run, err := k.Resume(s.ctx, s.options(st, shown))
	shown.end()
	if run == nil {
		return networkError(err)
	}
	return s.judge(st, run)
}

// checkConnections tries the logins that a plan needs.
func (s *session) checkConnections(l *connections.Connections) error {
	plan, err := s.plan(l)
	if err != nil {
		return err
	}
	checked := probe.Check(s.ctx, plan)
	if err := s.ctx.Err(); err != nil {
		return err
	}
	if err := s.print(present.NewChecked(checked)); err != nil {
		return err
	}
	switch {
	case len(checked.Problems) == 0:
		return nil
	case checked.Senders+checked.Mailboxes == 0:
		return networkError(errors.New("no connection works"))
	}
	return errWrong
}

// showPlan shows what would be sent, by this machine and the agents of the store that are alive.
func (s *session) showPlan(l *connections.Connections, bare error) error {
	machines := []present.RunAgent{machineOf(l)}
	switch st, err := peek(s.ctx, s.cmd); {
	case err != nil:
		warn(s.streams, "agents are not counted: "+plainError(err).Error())
	case st != nil:
		defer st.Close()
		others, err := s.join(st, l)
		if err != nil {
			return err
		}
		machines = append(machines, others...)
	}
	if bare != nil && len(machines) == 1 {
		return bare
	}
	return s.printPlan(l, machines)
}

func (s *session) printPlan(l *connections.Connections, machines []present.RunAgent) error {
	plan, err := s.plan(l)
	if err != nil {
		return err
	}
	return s.print(present.NewProbePlan(s.r, plan, l.Limits.People, machines))
}

// begin makes a plan and sends it.
func (s *session) begin(st *store.Store, l *connections.Connections, bare error) error {
	cmd := s.cmd
	machines := []present.RunAgent{machineOf(l)}
	others, err := s.join(st, l)
	switch {
	case err != nil:
		return err
	case bare != nil && len(others) == 0:
		return bare
	}
	machines = append(machines, others...)
	estate, err := s.evaluated()
	if err != nil {
		return err
	}
	plan, err := s.plan(l)
	if err != nil {
		return err
	}
	if len(plan.Cases) == 0 {
		return usageError("there is nothing to send: the connections have no way for any of the messages")
	}
	if len(plan.Touched) > l.Limits.People {
		if err := s.printPlan(l, machines); err != nil {
			return err
		}
		const text = "nothing is sent: %d people would find a test message, and the connections allow %d"
		return usageError(text, len(plan.Touched), l.Limits.People)
	}
	if !s.sendsUnwatched(present.NewProbePlan(s.r, plan, l.Limits.People, machines)) {
		return errWrong
	}
	if name := cmd.String("run"); name != "" {
		if _, err := st.RunNamed(s.ctx, name); err == nil {
			return usageError("there is a run %s already; name another, or go on with it by --resume", name)
		}
	}
	shown := s.progress()
	options := s.options(st, shown)
	options.Estate = estate
	run, err := probe.Start(s.ctx, plan, options)
	shown.end()
	switch {
	case errors.Is(err, store.ErrExists):
		return usageError("there is a run %s already; name another, or go on with it by --resume", plan.Run)
	case run == nil || err != nil && !errors.Is(err, context.Canceled):
		return networkError(err)
	}
	return s.judge(st, run)
}

// sendsUnwatched tells who sends and who looks, and what nobody can look at: with somebody to ask, that is
// asked about. It reports whether the messages are sent.
func (s *session) sendsUnwatched(plan *present.ProbePlan) bool {
	if len(plan.Machines) > 1 {
		for _, line := range plan.Work() {
			warn(s.streams, line)
		}
	}
	if len(plan.Unwatched) == 0 {
		return true
	}
	warn(s.streams, plan.Blind())
	return s.cmd.Bool("send-anyway") || !askable(s.streams) ||
		agreed(s.ctx, s.streams, "Send all the same?", "Nothing is sent.")
}

// join adds what the agents of a store can do that are alive, and returns them.
func (s *session) join(st *store.Store, l *connections.Connections) ([]present.RunAgent, error) {
	agents, err := st.Agents(s.ctx)
	if err != nil {
		return nil, networkError(err)
	}
	var list []present.RunAgent
	for _, a := range agents {
		var offer connections.Offer
		if err := json.Unmarshal(a.Offers, &offer); err != nil {
			return nil, fmt.Errorf("what agent %s can do: %w", a.Name, err)
		}
		l.Join(offer)
		list = append(list, agentOf(&a, offer))
	}
	return list, nil
}

// machineOf tells what this machine can do.
func machineOf(l *connections.Connections) present.RunAgent {
	return agentOf(&store.Agent{Host: "this machine"}, l.Offer())
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
		var err error
		if c.From, err = s.picked(text, c.Groups); err != nil {
			return c, err
		}
	}
	return c, nil
}

// picked returns what picks the people of a selector, who may differ by the group that it is
// about.
func (s *session) picked(text string, groups []estate.ID) (func(estate.ID) []address.Address, error) {
	x, err := parsePeople(s, "--from", text)
	if err != nil {
		return nil, err
	}
	people := func(group estate.ID) (list []address.Address) {
		var picked []estate.ID
		s.eachPicked(group, x, func(id estate.ID) { picked = append(picked, id) })
		slices.SortFunc(picked, func(a, b estate.ID) int { return s.e.Rank(a) - s.e.Rank(b) })
		for _, id := range picked {
			list = append(list, s.e.Address(id))
		}
		return list
	}
	if !slices.ContainsFunc(groups, func(group estate.ID) bool { return len(people(group)) > 0 }) {
		return nil, usageError("--from: %q picks nobody", text)
	}
	return people, nil
}

// judge prints what a run saw, and keeps what it came to.
func (s *session) judge(st *store.Store, run *probe.Run) error {
	j := probe.Judge(run)
	ending := context.WithoutCancel(s.ctx)
	as, not, unlooked := j.Counts()
	if !run.UnderWay { // else its last word is not spoken
		if err := st.Judge(ending, run.Plan.ID, j.Checks(), as, not, unlooked); err != nil {
			warn(s.streams, store.Reason(err).Error())
		}
	}
	if dir := s.cmd.String("evidence"); dir != "" {
		kept, missing, err := probe.KeepEvidence(ending, j, dir)
		if err != nil {
			warn(s.streams, "evidence: "+err.Error())
		}
		if missing > 0 {
			warn(s.streams, fmt.Sprintf("evidence: %d messages are kept, %d cannot be had from here", kept, missing))
		}
	}
	a := present.NewProbe(s.r, j)
	if run.UnderWay {
		var err error
		if a.UnderWay, err = runUnderWay(ending, st, run.Plan.Run); err != nil {
			return networkError(err)
		}
	}
	if err := s.print(a); err != nil {
		return err
	}
	switch {
	case run.UnderWay:
		return errWrong
	case j.Nothing():
		return networkError(errors.New("nothing could be sent, or nothing could be looked at"))
	case not > 0 || unlooked > 0 || run.Broken:
		return errWrong
	}
	return nil
}

func (s *session) tidy(st *store.Store, name string, l *connections.Connections) error {
	k, err := s.kept(st, name, l)
	if err != nil {
		return err
	}
	run, err := k.Run()
	if err != nil {
		return err
	}
	removed, err := probe.Tidy(s.ctx, run, func(accounts []string) bool {
		const way = "The servers of %d mailboxes remove no single messages (UIDPLUS): mark the messages of this run as deleted, " +
			"and remove what is marked, where nothing else is?"
		return s.cmd.Bool("expunge") || askable(s.streams) && agreed(s.ctx, s.streams, fmt.Sprintf(way, len(accounts)), "They stay.")
	})
	fmt.Fprintf(s.streams.Out, "%d messages of run %s removed\n", removed, run.Plan.Run)
	if errors.Is(err, watch.ErrSingly) {
		warn(s.streams, "--expunge marks the messages of the run as deleted, and removes what is marked, where nothing else is")
	}
	if err != nil {
		return networkError(err)
	}
	return nil
}

// isNetwork reports whether an error is that a server or the network failed.
func isNetwork(err error) bool {
	var network *net.OpError
	return errors.Is(err, errNetwork) || errors.As(err, &network)
}

// errNetwork says that a server or the network failed.
var errNetwork = errors.New("yorvet: the network or a server failed")
