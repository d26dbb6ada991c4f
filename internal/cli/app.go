// Package cli is the command line: one file a command. A command parses its
// flags, asks the core, and hands the answer to package present.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/secret"
)

// The exit codes.
const (
	exitAnswered = 0 // and nothing is wrong
	exitWrong    = 1 // something asked about is wrong
	exitInput    = 2 // the command line or an input file is wrong
	exitNetwork  = 3 // a server or the network failed
)

// Streams are where a command writes.
type Streams struct {
	Out io.Writer // answers
	Err io.Writer // everything else

	args []string // of the command line
}

// How long a command may go on when ctx has ended: one that thinks, and one that
// still has something to end with servers or on disk.
const (
	graceToThink  = 300 * time.Millisecond
	graceToFinish = 10 * time.Second
)

// finishers are the commands that have something to end.
var finishers = []string{"probe", "agent", "rollcall", "held", "report", "standin", "demo", "watch"}

// Run runs the command line args, the first of which is the program, and
// returns the exit code. When ctx ends, it returns soon, whatever the command does.
func Run(ctx context.Context, args []string, streams Streams) int {
	if len(args) > 1 && args[1] == "help" && (len(args) == 2 || isCommand(args[2])) {
		args = append(append([]string{args[0]}, args[2:]...), "--help")
	}
	streams.args = args[min(1, len(args)):]
	if os.Getenv("GOGC") == "" {
		collectLate()
	}
	var grace atomic.Int64
	var service atomic.Bool // the command is one that runs until it is interrupted
	grace.Store(int64(graceToThink))
	root := newRoot(args, streams)
	for _, cmd := range root.Commands {
		if slices.Contains(finishers, cmd.Name) {
			cmd.Before = func(ctx context.Context, _ *cli.Command) (context.Context, error) {
				grace.Store(int64(graceToFinish))
				service.Store(cmd.Name == "standin" || cmd.Name == "agent" || cmd.Name == "watch")
				return ctx, nil
			}
		}
		if cmd.Name == "log" {
			cmd.Before = func(ctx context.Context, cmd *cli.Command) (context.Context, error) {
				service.Store(cmd.Bool("follow"))
				return ctx, nil
			}
		}
	}
	cache := cacheOfUser()
	root.Before = func(ctx context.Context, cmd *cli.Command) (context.Context, error) {
		if cmd.Bool("no-cache") {
			cache.TurnOff()
		}
		return ctx, nil
	}
	ended := make(chan error, 1)
	go func() {
		err := root.Run(estatefile.WithCache(ctx, cache), args)
		cache.Keep(ctx)
		ended <- err
	}()
	var err error
	select {
	case err = <-ended:
	case <-ctx.Done():
		select {
		case err = <-ended:
		case <-time.After(time.Duration(grace.Load())):
			err = ctx.Err()
		}
	}
	if err == nil && !service.Load() {
		err = ctx.Err() // an answer that was cut short is none
	}
	return tell(ctx, err, streams.Err)
}

// cacheOfUser returns the cache of estates in the user's folder for such things. Where there is
// none, it is off.
func cacheOfUser() *estatefile.Cache {
	folder, err := os.UserCacheDir()
	cache := estatefile.NewCache(filepath.Join(folder, "yorvet"), version())
	if err != nil {
		cache.TurnOff()
	}
	return cache
}

// tell reports the error of a command, and returns the exit code.
func tell(ctx context.Context, err error, w io.Writer) int {
	switch {
	case err == nil:
		return exitAnswered
	case errors.Is(err, errWrong):
		return exitWrong
	case ctx.Err() != nil && (errors.Is(err, ctx.Err()) || ask.IsNetwork(err)): // which a connection that is ended comes to
		fmt.Fprintln(w, "yorvet: interrupted")
		return exitWrong
	}
	for line := range strings.SplitSeq(secret.Hide(errorText(err)), "\n") {
		if file, ok := w.(*os.File); ok && term.IsTerminal(int(file.Fd())) && !strings.HasPrefix(line, " ") {
			present.Paragraph(w, line, pageOptions(w))
		} else {
			fmt.Fprintln(w, present.Clean(line)) // an excerpt with its caret, or for programs
		}
	}
	return exitCode(err)
}

// errorText words an error; what the system says of a file in plain words.
func errorText(err error) string {
	said := err.Error()
	var file *fs.PathError
	if !errors.As(err, &file) {
		return said
	}
	verb, missing := "write", "no such folder"
	if slices.Contains([]string{"open", "read", "readdirent", "stat", "lstat", "readlink", "seek"}, file.Op) {
		verb, missing = "read", "no such file"
	}
	reason := file.Err.Error()
	switch {
	case errors.Is(err, fs.ErrNotExist):
		reason = missing
	case errors.Is(err, fs.ErrPermission):
		reason = "permission denied"
	}
	return strings.Replace(said, file.Error(), "cannot "+verb+" "+file.Path+": "+reason, 1)
}

// exitCode returns the exit code for an error.
func exitCode(err error) int {
	switch {
	case errors.Is(err, context.Canceled):
		return exitWrong
	case ask.IsNetwork(err), errors.Is(err, ask.ErrPart):
		return exitNetwork
	}
	return exitInput
}

// gcPercent is the garbage collection target percentage (runtime/debug): large estates take a
// third to a half less memory than by default, and hardly more time.
const gcPercent = 35

// collectLate sets when garbage is collected: first when the heap has the size that most
// questions never need, then as gcPercent says.
func collectLate() {
	const first = 32 << 20   // bytes
	const smallest = 4 << 20 // bytes: of a heap that is collected, at a percentage of 100
	debug.SetGCPercent(first / smallest * 100)
	lastPercent.Store(gcPercent)
	mark := new([64]byte) // is garbage at once
	runtime.AddCleanup(mark, func(int) { debug.SetGCPercent(int(lastPercent.Load())) }, 0)
}

// lastPercent is the percentage from the first collection on.
var lastPercent atomic.Int64

// collectOften sets when garbage is collected where hundreds of thousands of findings are kept, or
// two estates.
func collectOften() {
	if os.Getenv("GOGC") != "" {
		return
	}
	lastPercent.Store(gcPercentMany)
	debug.SetGCPercent(gcPercentMany)
}

// gcPercentMany is that where a large estate has hundreds of thousands of findings, which are
// kept: a quarter less memory, for a tenth more time.
const gcPercentMany = 20

// errWrong says that the answer has been given, and that something is wrong.
var errWrong = ask.ErrWrong

// globalFlags are the flags of every command.
func globalFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:    "estate",
			Usage:   "the estate: a YAML `FILE` or a folder of them (default: estate.yaml, else the folder estate)",
			Sources: cli.EnvVars("YORVET_ESTATE"),
		},
		&cli.StringFlag{Name: "on", Usage: "the `DATE` to answer for, as YYYY-MM-DD (default: today in UTC)"},
		&cli.StringFlag{Name: "format", Usage: "text, json, csv or markdown", DefaultText: "text"},
		&cli.BoolFlag{Name: "json", Usage: "short for --format json"},
		&cli.BoolFlag{Name: "all", Usage: "show long lists in full"},
		&cli.BoolFlag{
			Name:    "no-cache",
			Usage:   "read large estates again, and keep none in compiled form",
			Sources: cli.EnvVars("YORVET_NO_CACHE"),
		},
	}
}

// newRoot returns a new command tree; one can run only once.
func newRoot(args []string, streams Streams) *cli.Command {
	root := &cli.Command{
		Name:  "yorvet",
		Usage: "who may post to each mail group, and who receives it",
		Description: "Yorvet reads the estate (your domains, people and groups, as files). It says who may post to a\n" +
			"group, who receives it, and why.\n\n" +
			"Begin with: yorvet demo\n\n" +
			"Help with a topic: yorvet help " + strings.Join(topicNames(), "|"),
		Version: version(),
		Flags:   globalFlags(),
		Commands: []*cli.Command{
			newDemo(streams),
			newWho(streams),
			newExplain(streams),
			newPerson(streams),
			newMatrix(streams),
			newCheck(streams),
			newAccept(streams),
			newExpect(streams),
			newCompare(streams),
			newProbe(streams),
			newAgent(streams),
			newRuns(streams),
			newHistory(streams),
			newStore(streams),
			newWatch(streams),
			newRollcall(streams),
			newHeld(streams),
			newLog(streams),
			newReport(streams),
			newStandin(streams),
			newImport(streams),
			newExport(streams),
			newGroup(streams),
			newMember(streams),
			newChanges(streams),
			newUndo(streams),
			newManual(streams),
			newVersion(streams),
			newHelp(streams),
		},
		EnableShellCompletion:           true,
		ConfigureShellCompletionCommand: offerCommand,
		Writer:                          streams.Out,
		ErrWriter:                       streams.Err,
		ExitErrHandler:                  func(context.Context, *cli.Command, error) {},
	}
	finish(root, completer{args, streams.Out})
	return root
}

// finish gives every command what package cli does not hand down.
func finish(cmd *cli.Command, c completer) {
	cmd.HideHelpCommand = true
	cmd.ShellComplete = c.complete
	cmd.DisableSliceFlagSeparator = true
	cmd.Suggest = true
	cmd.OnUsageError = func(_ context.Context, cmd *cli.Command, err error, _ bool) error {
		return flagError(cmd, err)
	}
	if cmd.Action == nil {
		cmd.Action = func(_ context.Context, cmd *cli.Command) error { return missingCommand(cmd) }
	}
	for _, flag := range cmd.Flags { // of two values the last one would count, and nobody be told
		switch f := flag.(type) {
		case *cli.StringFlag:
			f.OnlyOnce = true
		case *cli.IntFlag:
			f.OnlyOnce = true
		case *cli.DurationFlag:
			f.OnlyOnce = true
		}
	}
	for _, sub := range cmd.Commands {
		finish(sub, c)
	}
}

// flagError says what is wrong with a flag, and which one may have been meant.
func flagError(cmd *cli.Command, err error) error {
	message := err.Error()
	const undefined = "flag provided but not defined: "
	if _, text, twice := strings.Cut(message, " for flag -"); twice {
		if flag, ok := strings.CutSuffix(text, ": can't duplicate this flag"); ok {
			return ask.Errorf("--%s stands twice, and takes one value", strings.TrimLeft(flag, "-"))
		}
	}
	unknown, ok := strings.CutPrefix(message, undefined)
	if !ok {
		return ask.Errorf("%s", message)
	}
	var known []string
	for _, c := range cmd.Lineage() {
		for _, flag := range c.Flags {
			for _, n := range flag.Names() {
				if len(n) > 1 {
					known = append(known, "--"+n)
				}
			}
		}
	}
	unknown = "--" + strings.TrimLeft(unknown, "-")
	return ask.Errorf("unknown flag %s%s", unknown, ask.Meant(nearest.Word(unknown, known)))
}

// missingCommand says that a command of a group of them was not given or is
// unknown.
func missingCommand(cmd *cli.Command) error {
	var known []string
	for _, sub := range cmd.Commands {
		known = append(known, sub.Name)
	}
	word := cmd.Args().First()
	switch {
	case word != "":
		path := ""
		if cmd.Root() != cmd {
			path = name(cmd) + " "
		}
		if near := nearest.Word(word, known); near != "" {
			return ask.Errorf("unknown command %q; did you mean %q?", path+word, path+near)
		}
		return ask.Errorf("unknown command %q, expected %s", path+word, ask.OrList(known))
	case cmd.Root() == cmd:
		return cli.ShowRootCommandHelp(cmd)
	}
	return ask.Errorf("%s needs one of %s", name(cmd), ask.OrList(known))
}

// name returns the full name of a command without the program's.
func name(cmd *cli.Command) string {
	return strings.TrimPrefix(cmd.FullName(), cmd.Root().Name+" ")
}

// release is the version of a release, which the linker sets; "": the program was built
// otherwise.
var release string

// version returns the version of the program from what the build noted.
func version() string {
	info, ok := debug.ReadBuildInfo()
	switch {
	case !ok:
		return "unknown"
	case release != "":
		return release + " " + info.GoVersion
	}
	v := info.Main.Version
	for _, setting := range info.Settings {
		if setting.Key == "vcs.revision" && len(setting.Value) >= 12 && !strings.Contains(v, setting.Value[:12]) {
			v += " " + setting.Value[:12]
		}
	}
	return v + " " + info.GoVersion
}
