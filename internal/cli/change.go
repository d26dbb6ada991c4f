package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/source"
)

// changeFlags are the flags of all commands that change the estate.
func changeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "yes", Usage: "make the change without asking"},
		&cli.BoolFlag{Name: "preview", Usage: "show what the change does; write nothing"},
		&cli.BoolFlag{Name: "diff", Usage: "show the lines of the files that change"},
		&cli.BoolFlag{Name: "quietly", Usage: "do not welcome new members"},
		throughLinks(),
	}
}

func throughLinks() cli.Flag {
	return &cli.BoolFlag{Name: "through-links", Usage: "with --yes: write files outside that links of the estate lead to"}
}

// A changer is a command that changes the estate: what it does is shown, then
// asked about, then written.
type changer struct {
	*session
	draft       *estatefile.Draft
	path        string       // of the estate
	undoes      int          // the number of the change that this one takes back, or 0
	tally       *pastedTally // of the pasted list, or nil
	about       string       // what is made, in words
	notes       []string
	noted       map[string]bool                            // which of them there are
	suggested   int                                        // how often it was looked who may have been meant
	wrap        func(*present.EstateChange) present.Answer // makes the answer of what changes, where it is more than that
	wrong       bool                                       // something that was asked for could not be done
	written     map[string]bool                            // people outside who are written down, by key
	pastedNames map[string]byName                          // by name: who it was found to be
	input       func() (string, error)                     // what --from names
	refused     error                                      // why the change is not made, though it may be looked at
	after       error                                      // what went wrong as well
}

// note reports something apart from the change.
func (c *changer) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if c.noted == nil {
		c.noted = map[string]bool{}
	}
	if !c.noted[text] {
		c.noted[text] = true
		c.notes = append(c.notes, text)
	}
}

// leaveOut reports something that was asked for and is not done.
func (c *changer) leaveOut(format string, args ...any) {
	c.note(format, args...)
	c.wrong = true
}

// mostAttempts is how often a change is worked out again when others change the
// estate meanwhile.
const mostAttempts = 20

// changeEstate has propose make a change in a draft of the estate, and sees it
// through.
func changeEstate(ctx context.Context, cmd *cli.Command, streams Streams, propose func(*changer) error) error {
	return changeEstateAt(ctx, cmd, streams, estatePath(cmd), propose)
}

// changeEstateAt is changeEstate for the estate at a path.
func changeEstateAt(
	ctx context.Context,
	cmd *cli.Command,
	streams Streams,
	path string,
	propose func(*changer) error,
) error {
	if !cmd.IsSet("estate") && path == estatePath(cmd) {
		if err := ask.NoSource(path); err != nil {
			return err
		}
	}
	if source.Is(path) {
		return ask.Errorf("%s is a source, expected an estate on disk to change", path)
	}
	format, err := formatOf(cmd)
	if err != nil {
		return err
	}
	today, err := dayOf(cmd)
	if err != nil {
		return err
	}
	// Standard input is read once, however often the change is worked out.
	input := sync.OnceValues(func() (string, error) { return readPasted(ctx, cmd.String("from")) })
	for attempt := 1; ; attempt++ {
		draft, err := estatefile.Open(ctx, path)
		if err != nil {
			if !cmd.IsSet("estate") && errors.Is(err, fs.ErrNotExist) {
				return ask.ErrNoEstate
			}
			return ask.LoadError(path, err)
		}
		c := &changer{
			session: &session{
				Desk: ask.Desk{Estate: draft.Before(), Resolver: resolve.New(draft.Before(), today)},
				ctx:  ctx, cmd: cmd, streams: streams, format: format,
			},
			draft: draft,
			path:  path,
			input: input,
		}
		if err := propose(c); err != nil {
			return err
		}
		collectOften() // there are two estates from here on
		again, err := c.finish(ctx, path, today)
		if !again || attempt == mostAttempts {
			return err
		}
	}
}

// finish shows what a change does and writes it. again says that somebody else
// was first, and that it is worth another try.
func (c *changer) finish(ctx context.Context, path string, today estate.Day) (again bool, err error) {
	later, err := c.draft.Estate()
	if errors.Is(err, estatefile.ErrChanged) {
		return c.cmd.Bool("yes"), writeError(err)
	}
	if err != nil {
		return false, fmt.Errorf(
			"yorvet: with this change the estate would have errors; nothing is written\n%w",
			ask.LoadError(path, err),
		)
	}
	answer := present.NewChange(c.Resolver, resolve.New(later, today), c.cmd.Bool("quietly"))
	answer.Lead = c.tally.String()
	answer.About, answer.Notes = c.about, append(answer.Notes, c.notes...)
	files, err := c.draft.Changed()
	if err != nil {
		return false, ask.Errorf("%w", err)
	}
	for _, f := range files {
		change := present.FileChange{File: f.File, Added: f.Added, Removed: f.Removed, Names: f.Names}
		if c.cmd.Bool("diff") {
			change.Diff = present.Unified(f.File, f.Before, f.Later)
		}
		answer.Files = append(answer.Files, change)
	}
	answer.Notes = append(answer.Notes, c.throughLinks(path, files)...)
	show := func() error {
		if c.wrap != nil {
			return c.print(c.wrap(answer))
		}
		return c.print(answer)
	}
	done := c.after
	if preview := c.cmd.Bool("preview"); done == nil && (c.wrong || preview && c.refused != nil) {
		done = errWrong
	}
	switch {
	case c.cmd.Bool("preview"):
		return false, errors.Join(show(), done)
	case len(files) == 0:
		return false, errors.Join(show(), done)
	case c.refused != nil:
		return false, errors.Join(show(), c.refused)
	case !c.cmd.Bool("yes"):
		if err := errors.Join(show(), c.writeIfAgreed(ctx)); err != nil {
			return false, err
		}
		if problem := c.keep(files, present.FirstLine(answer)); problem != "" {
			fmt.Fprintln(c.streams.Out, problem)
		}
		return false, done
	}
	if err := c.draft.Write(); err != nil {
		return errors.Is(err, estatefile.ErrChanged), writeError(err)
	}
	answer.Written = true
	if problem := c.keep(files, present.FirstLine(answer)); problem != "" {
		answer.Notes = append(answer.Notes, problem)
	}
	return false, errors.Join(show(), done)
}

// throughLinks says which files are written outside the folder of the estate, as links in it lead there.
// Without a question that is refused unless it is asked for.
func (c *changer) throughLinks(path string, files []estatefile.FileChange) (notes []string) {
	folder := path
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		folder = filepath.Dir(path)
	}
	for _, f := range files {
		where, leaves := linkOutside(folder, f.File)
		if !leaves {
			continue
		}
		notes = append(notes, fmt.Sprintf("%s is a link out of the estate's folder, to %s", f.File, where))
		if c.refused == nil && c.cmd.Bool("yes") && !c.cmd.Bool("through-links") {
			c.refused = ask.Errorf("%s is a link to %s, outside the estate's folder; nothing is written. "+
				"If that file is to be written: --through-links", f.File, where)
		}
	}
	return notes
}

// linkOutside returns where a file that is named below a folder really is, and whether that is outside
// of where the folder is.
func linkOutside(folder, name string) (where string, leaves bool) {
	below := func(folder, path string) bool {
		rest, err := filepath.Rel(folder, path)
		return err == nil && filepath.IsLocal(rest)
	}
	named, err := filepath.Abs(name)
	within, err2 := filepath.Abs(folder)
	if err != nil || err2 != nil || !below(within, named) {
		return "", false // what is named elsewhere should be there
	}
	where, err = localfile.Real(name)
	real, err2 := localfile.Real(folder)
	return where, err == nil && err2 == nil && !below(real, where)
}

// writeIfAgreed asks whether a change that was shown is to be made, and makes it.
func (c *changer) writeIfAgreed(ctx context.Context) error {
	if !askable(c.streams) {
		return ask.Errorf("not written: no terminal to ask on. Use --yes to apply, --preview to look")
	}
	if !agreed(ctx, c.streams, "\nApply this change?", "Nothing written.") {
		return errWrong
	}
	if err := c.draft.Write(); err != nil {
		return writeError(err)
	}
	fmt.Fprintln(c.streams.Out, "Written.")
	return nil
}

func writeError(err error) error {
	if errors.Is(err, estatefile.ErrChanged) {
		return ask.Errorf("%w; nothing is written, look again", err)
	}
	return ask.Errorf("%w", err)
}

// askable reports whether somebody is there to be asked.
func askable(streams Streams) bool {
	out, ok := streams.Out.(*os.File)
	return ok && term.IsTerminal(int(out.Fd())) && term.IsTerminal(int(os.Stdin.Fd()))
}

// agreed asks whether something is to be done, and says otherwise if not.
func agreed(ctx context.Context, streams Streams, question, otherwise string) bool {
	fmt.Fprint(streams.Out, question, " [y/N] ")
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
		answer <- strings.ToLower(strings.TrimSpace(line))
	}()
	select {
	case text := <-answer:
		if text == "yes" || text == "y" {
			return true
		}
	case <-ctx.Done():
	}
	fmt.Fprintln(streams.Out, otherwise)
	return false
}

// warnManaged reports groups that are managed elsewhere.
func (c *changer) warnManaged(groups ...estate.ID) {
	by := map[string]int{}
	var systems []string
	for _, g := range groups {
		if system := c.Estate.Group(g).ManagedIn; system != "" {
			if by[system] == 0 {
				systems = append(systems, system)
			}
			by[system]++
		}
	}
	for _, system := range systems {
		what := c.Estate.Address(groups[0]).String() + " is"
		if len(groups) > 1 {
			what = fmt.Sprintf("%d of these groups are", by[system])
			if by[system] == 1 {
				what = "1 of these groups is"
			}
		}
		c.note("%s managed in %s. Export this change there (yorvet export), or the next import undoes it.", what, system)
	}
}
