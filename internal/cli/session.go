package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/present"
)

// session is one run of a command that asks about an estate.
type session struct {
	ask.Desk
	ctx     context.Context // of the run
	cmd     *cli.Command
	streams Streams
	format  present.Format
}

// open checks the flags that all commands share, then loads the estate.
// formats are those that the command knows apart from the usual ones.
func open(ctx context.Context, cmd *cli.Command, streams Streams, formats ...present.Format) (*session, error) {
	s, at, err := prepare(ctx, cmd, streams, formats...)
	if err != nil {
		return nil, err
	}
	d, err := ask.Open(ctx, at)
	if err != nil {
		return nil, err
	}
	s.Desk = *d
	return s, nil
}

// prepare checks the flags that all commands share, and returns the place of a question with a session that has no
// estate yet.
func prepare(ctx context.Context, cmd *cli.Command, streams Streams, formats ...present.Format) (*session, *ask.Place,
	error) {
	format, err := formatOf(cmd, formats...)
	if err != nil {
		return nil, nil, err
	}
	if err := noneEmpty(cmd); err != nil {
		return nil, nil, err
	}
	day, err := dayOf(cmd)
	if err != nil {
		return nil, nil, err
	}
	at := &ask.Place{Path: estatePath(cmd), Named: cmd.IsSet("estate"), Day: day, Version: version(),
		Warn: func(text string) { warn(streams, text) },
		Note: func(line string) { fmt.Fprintln(streams.Err, present.Clean(line)) }}
	if askable(streams) {
		at.Agree = func(question, otherwise string) bool { return agreed(ctx, streams, question, otherwise) }
	}
	return &session{ctx: ctx, cmd: cmd, streams: streams, format: format}, at, nil
}

// choosing are the flags that say who or what is meant. An empty one is a mistake, such as a variable that is not set:
// without it the command would be about all.
var choosing = []string{"after", "as", "before", "except", "for", "from", "group", "groups", "preset", "rule", "since",
	"successor", "until", "where"}

// noneEmpty refuses flags that say who or what is meant, and are empty.
func noneEmpty(cmd *cli.Command) error {
	for _, name := range choosing {
		if !cmd.IsSet(name) {
			continue
		}
		text, isText := cmd.Value(name).(string)
		list, _ := cmd.Value(name).([]string)
		if isText && strings.TrimSpace(text) == "" || slices.Contains(list, "") {
			return ask.Errorf("--%s is empty", name)
		}
	}
	return nil
}

// ask asks a question and prints the answer, which is kept if answers are; flags are those that say what was asked.
func (s *session) ask(q ask.Question, at *ask.Place, flags ...string) error {
	r, err := q.Ask(s.ctx, at)
	return s.say(r, err, flags...)
}

// say prints what there is to be said, keeps it as answer does, and returns what went wrong.
func (s *session) say(r *ask.Result, err error, flags ...string) error {
	if r == nil {
		return err
	}
	return errors.Join(s.answer(r, flags...), err)
}

// answer prints an answer, and keeps it if answers are kept and flags say what was asked.
func (s *session) answer(r *ask.Result, flags ...string) error {
	if err := s.print(r.Answer); err != nil {
		return err
	}
	if r.Then != nil {
		if err := r.Then(); err != nil {
			return err
		}
	}
	if flags != nil && r.Kept != nil && keepsAnswers(s.cmd) {
		o := r.Kept()
		o.Series = history.NewSeries(o.Series.Kind, o.Series.Path, whatOf(s.cmd, flags...))
		s.record(o)
	}
	switch {
	case r.Partial:
		return ask.ErrPart
	case r.Wrong:
		return errWrong
	}
	return nil
}

// loadNamed loads the estate that is named, or the one that is here.
func loadNamed(ctx context.Context, cmd *cli.Command) (*estate.Estate, error) {
	return (&ask.Place{Path: estatePath(cmd), Named: cmd.IsSet("estate")}).Load(ctx)
}

// dayOf returns the day of evaluation.
func dayOf(cmd *cli.Command) (estate.Day, error) {
	on := cmd.String("on")
	if on == "" {
		return estate.DayOf(clock.Now()), nil
	}
	day, err := estate.ParseDay(on)
	if err != nil {
		return 0, ask.Errorf("--on: %w", err)
	}
	return day, nil
}

func formatOf(cmd *cli.Command, more ...present.Format) (present.Format, error) {
	format := cmd.String("format")
	var known []string
	for _, f := range append([]present.Format{present.Text, present.JSON, present.CSV, present.Markdown}, more...) {
		known = append(known, string(f))
	}
	switch {
	case cmd.Bool("json") && format != "" && format != string(present.JSON):
		return "", ask.Errorf("--json and --format %s exclude each other", format)
	case cmd.Bool("json"):
		return present.JSON, nil
	case format == "":
		return present.Text, nil
	case !slices.Contains(known, format):
		return "", ask.Unknown("format", format, known)
	}
	return present.Format(format), nil
}

// estatePath returns the estate that is named, or the one that is here.
func estatePath(cmd *cli.Command) string {
	if path := cmd.String("estate"); path != "" {
		return path
	}
	if _, err := os.Stat("estate.yaml"); err == nil {
		return "estate.yaml"
	}
	return "estate"
}

// print writes an answer, all of it or nothing.
func (s *session) print(a present.Answer) error {
	const room = 1 << 16 // bytes: an answer may be very long
	w := bufio.NewWriterSize(s.streams.Out, room)
	options := pageOptions(s.streams.Out)
	options.All = s.cmd.Bool("all")
	if err := present.Print(w, a, s.format, options); err != nil {
		return err
	}
	return w.Flush()
}

// pageOptions returns how wide a page is and whether it has colour. That hangs
// on whether people read it on a terminal.
func pageOptions(w io.Writer) present.Options {
	const usual, least, most = 80, 40, 200
	options := present.Options{Width: usual}
	if columns, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil {
		options.Width = columns
	}
	if file, ok := w.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		options.Colour = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		if width, _, err := term.GetSize(int(file.Fd())); err == nil && width > 0 {
			options.Width = width
		}
	}
	options.Width = min(max(options.Width, least), most)
	return options
}

// oneArgument returns the only argument of a command.
func oneArgument(cmd *cli.Command, what string) (string, error) {
	switch args := cmd.Args(); args.Len() {
	case 1:
		return args.First(), nil
	case 0:
		return "", ask.Errorf("%s needs %s", name(cmd), what)
	default:
		return "", ask.Errorf(
			"%s takes one argument, not %d: %s",
			name(cmd),
			args.Len(),
			strings.Join(args.Slice(), " "),
		)
	}
}

// messageFlags are the switches that say what a message is like.
func messageFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "invitation", Usage: "the message is a calendar request"},
		&cli.BoolFlag{Name: "suspect", Usage: "upstream filtering flagged the message"},
		&cli.BoolFlag{Name: "unproven", Usage: "nothing shows that the message is from the address it claims"},
		&cli.BoolFlag{Name: "automatic", Usage: "a program sent the message"},
		&cli.StringFlag{Name: "size", Usage: "the `SIZE` of the message, such as 200kB or 12MB"},
	}
}

// message returns the message that the switches describe.
func message(cmd *cli.Command) (resolve.Message, error) {
	m := resolve.Message{
		Invitation: cmd.Bool("invitation"),
		Suspect:    cmd.Bool("suspect"),
		Unproven:   cmd.Bool("unproven"),
		Automatic:  cmd.Bool("automatic"),
	}
	if size := cmd.String("size"); size != "" {
		var err error
		if m.Size, err = selector.ParseSize(size); err != nil {
			return m, ask.Errorf("--size: %w", err)
		}
	}
	return m, nil
}
