package cli

import (
	"bufio"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/source"
)

// session is one run of a command that asks about an estate.
type session struct {
	ctx     context.Context // of the run
	cmd     *cli.Command
	streams Streams
	e       *estate.Estate
	r       *resolve.Resolver
	format  present.Format
	picks   map[string][]estate.ID // people, by a selector that asks nothing about a group
	byWord  map[string][]estate.ID // people by a word of their name; nil: not asked yet
}

// open checks the flags that all commands share, then loads the estate.
// formats are those that the command knows besides the usual ones.
func open(ctx context.Context, cmd *cli.Command, streams Streams, formats ...present.Format) (*session, error) {
	s := &session{ctx: ctx, cmd: cmd, streams: streams}
	var err error
	if s.format, err = formatOf(cmd, formats...); err != nil {
		return nil, err
	}
	today, err := dayOf(cmd)
	if err != nil {
		return nil, err
	}
	if s.e, err = loadNamed(ctx, cmd); err != nil {
		return nil, err
	}
	s.r = resolve.New(s.e, today)
	return s, nil
}

// use has the command ask about another estate.
func (s *session) use(e *estate.Estate) {
	s.e = e
	if s.r != nil {
		s.r = resolve.New(e, s.r.Today())
	}
	s.picks = nil
}

// loadNamed loads the estate that is named, or the one that is here. One that is
// named may be a source.
func loadNamed(ctx context.Context, cmd *cli.Command) (*estate.Estate, error) {
	path := estatePath(cmd)
	if cmd.IsSet("estate") {
		return loadEstate(ctx, path)
	}
	if err := noSource(path); err != nil {
		return nil, err
	}
	e, err := estatefile.Load(ctx, path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, errNoEstate
	case err != nil:
		return nil, loadError(path, err)
	}
	return e, nil
}

// noSource refuses an estate that is a source where none was named: looking into a
// folder neither runs nor reaches what a file there names.
func noSource(path string) error {
	if source.Is(path) {
		return usageError(
			"%s, which is here, is a source rather than an estate; a source is used only where it is named: --estate %s",
			path,
			path,
		)
	}
	return nil
}

var errNoEstate = usageError("there is no estate here: neither estate.yaml nor a folder estate; name one with " +
	"--estate, or try yorvet demo")

// dayOf returns the day of evaluation.
func dayOf(cmd *cli.Command) (estate.Day, error) {
	on := cmd.String("on")
	if on == "" {
		return estate.DayOf(clock.Now()), nil
	}
	day, err := estate.ParseDay(on)
	if err != nil {
		return 0, usageError("--on: %w", err)
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
		return "", usageError("--json and --format %s exclude each other", format)
	case cmd.Bool("json"):
		return present.JSON, nil
	case format == "":
		return present.Text, nil
	case !slices.Contains(known, format):
		return "", unknown("format", format, known)
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
	if s.streams.answer != nil {
		s.streams.answer(a)
		return nil
	}
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
	if later, ok := w.(*captured); ok {
		return later.options
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

// group returns the group that an argument names: by an address, or by a local part
// that no other group has.
func (s *session) group(text string) (estate.ID, error) {
	if id, ok, err := s.byLocalPart(text, ofGroups); ok || err != nil {
		return id, err
	}
	a, err := address.Parse(text)
	if err != nil {
		if near := s.nearGroups(text); !strings.Contains(text, "@") {
			return estate.None, usageError("no group %q%s", text, meant(near...))
		}
		return estate.None, usageError("%v%s", err, meant(s.nearGroups(text)...))
	}
	id, ok := s.e.Find(a)
	switch {
	case !ok:
		return estate.None, usageError("no group %q%s", text, meant(s.nearGroups(text)...))
	case !s.e.IsGroup(id):
		return estate.None, usageError("%s is a person, expected a group", text)
	}
	return id, nil
}

// nearGroups returns the addresses of groups that a text may have meant: near
// misses, or those whose local part it is.
func (s *session) nearGroups(text string) []string {
	groups := func(yield func(string) bool) {
		for id := range estate.ID(s.e.Groups()) {
			g := s.e.Group(id)
			for _, a := range append([]address.Address{g.Address}, g.Also...) {
				if !yield(a.String()) {
					return
				}
			}
		}
	}
	const most = 3
	if !strings.Contains(text, "@") {
		return s.nearLocalParts(text, most)
	}
	if near := nearest.Words(text, groups, most); len(near) > 0 {
		return near
	}
	local, _, _ := strings.Cut(strings.ToLower(text), "@")
	var near []string
	for a := range groups {
		if name, _, _ := strings.Cut(strings.ToLower(a), "@"); len(near) < most && name == local {
			near = append(near, a)
		}
	}
	return near
}

// nearLocalParts returns the addresses of groups whose local part a text may have meant.
func (s *session) nearLocalParts(text string, most int) []string {
	var list []string
	locals := func(yield func(string) bool) {
		for _, a := range s.addressesOf(ofGroups) {
			if !yield(a.Local()) {
				return
			}
		}
	}
	for _, local := range nearest.Words(text, locals, most) {
		for _, a := range s.addressesOf(ofGroups) {
			if a.Local() == local && len(list) < most {
				list = append(list, a.String())
			}
		}
	}
	return list
}

// address returns the address that a flag names, in full or by a local part that nobody
// else has.
func (s *session) address(flag, text string) (address.Address, error) {
	if id, ok, err := s.byLocalPart(text, ofAnybody); err != nil {
		return address.Address{}, err
	} else if ok {
		return s.e.Address(id), nil
	}
	a, err := address.Parse(text)
	switch {
	case err != nil && !strings.Contains(text, "@"):
		return a, usageError("--%s: no address %q in the estate", flag, text)
	case err != nil:
		return a, usageError("--%s: %w", flag, err)
	}
	return a, nil
}

// oneArgument returns the only argument of a command.
func oneArgument(cmd *cli.Command, what string) (string, error) {
	switch args := cmd.Args(); args.Len() {
	case 1:
		return args.First(), nil
	case 0:
		return "", usageError("%s needs %s", name(cmd), what)
	default:
		return "", usageError(
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
			return m, usageError("--size: %w", err)
		}
	}
	return m, nil
}
