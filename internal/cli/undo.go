package cli

import (
	"context"
	"errors"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/undo"
)

// keep keeps a change that was written, so that it can be taken back. It returns what to say
// where that is not so.
func (c *changer) keep(files []estatefile.FileChange, says string) (problem string) {
	store, err := undo.Open(c.path)
	if err == nil {
		kept := undo.WrittenChange{Time: clock.Now().UTC().Truncate(time.Second), User: userName(), Command: c.args(), Says: says,
			Undoes: c.undoes}
		for _, f := range files {
			one, failed := undo.NewFile(f.File, f.Before, f.Later)
			err = errors.Join(err, failed)
			kept.Files = append(kept.Files, one)
		}
		if err == nil {
			_, err = store.Keep(kept)
		}
	}
	if err != nil {
		return "This change is not kept, and yorvet undo will not know of it: " + err.Error()
	}
	return ""
}

// args are the arguments of the command line. None of them is a secret: these never stand
// there.
func (c *changer) args() []string { return c.streams.args }

// userName is who runs the program.
func userName() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return os.Getenv("USER")
}

func newChanges(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "changes",
		Usage:     "list the changes that were written, or show one",
		ArgsUsage: "[NUMBER]",
		Description: "Each change of the estate that Yorvet writes is kept in your state folder: who, when, the " +
			"command, and\n" +
			"which lines. Changes by hand are not in it.\n\n" +
			"Example: yorvet changes",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			store, err := undo.Open(estatePath(cmd))
			if err != nil {
				return ask.Errorf("%w", err)
			}
			list, err := store.List()
			if err != nil {
				return ask.Errorf("%w", err)
			}
			answer := present.NewChanges()
			undone := map[int]int{}
			for _, one := range list {
				if one.Undoes > 0 {
					undone[one.Undoes] = one.Number
				}
			}
			number, err := changeNumber(cmd)
			if err != nil {
				return err
			}
			for _, one := range list {
				if number == 0 || one.Number == number {
					answer.Add(keptChange(&one, undone[one.Number], number > 0))
				}
			}
			if number > 0 && answer.IsEmpty() {
				return ask.Errorf("there is no change %d; yorvet changes lists them", number)
			}
			return s.print(answer)
		},
	}
}

// changeNumber returns the number that an argument says, or 0.
func changeNumber(cmd *cli.Command) (int, error) {
	switch cmd.Args().Len() {
	case 0:
		return 0, nil
	case 1:
		if n, err := strconv.Atoi(cmd.Args().First()); err == nil && n > 0 {
			return n, nil
		}
	}
	return 0, ask.Errorf("expected the number of a change, not %q; yorvet changes lists them",
		strings.Join(cmd.Args().Slice(), " "))
}

// keptChange returns a change for an answer.
func keptChange(c *undo.WrittenChange, undoneBy int, lines bool) present.KeptChange {
	out := present.KeptChange{Number: c.Number, Time: c.Time, User: c.User, Command: quotedArgs(c.Command), Says: c.Says,
		Undoes:   c.Undoes,
		UndoneBy: undoneBy}
	for _, f := range c.Files {
		file := present.KeptFile{File: shortPath(f.Path)}
		for _, e := range f.Edits {
			file.Added += strings.Count(e.New, "\n")
			file.Removed += strings.Count(e.Old, "\n")
			if lines {
				file.Edits = append(file.Edits, present.KeptEdit{Line: e.Line, Old: e.Old, New: e.New})
			}
		}
		out.Files = append(out.Files, file)
	}
	return out
}

// shortPath returns a path as seen from the current folder, if it is below it.
func shortPath(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if real, err := filepath.EvalSymlinks(here); err == nil {
		here = real
	}
	if short, err := filepath.Rel(here, path); err == nil && filepath.IsLocal(short) {
		return short
	}
	return path
}

func newUndo(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "undo",
		Usage:     "take the last change back, or the one with a number",
		ArgsUsage: "[NUMBER]",
		Description: "That is a change of its own, and shown first like any other. Where lines have changed since it is " +
			"refused.\n" +
			"yorvet changes lists what can be taken back; an undo can be undone by its number.\n\n" +
			"Example: yorvet undo --preview",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, takeBack)
		},
	}
}

// takeBack puts the lines of a change back.
func takeBack(c *changer) error {
	number, err := changeNumber(c.cmd)
	if err != nil {
		return err
	}
	store, err := undo.Open(c.path)
	if err != nil {
		return ask.Errorf("%w", err)
	}
	var kept *undo.WrittenChange
	if number > 0 {
		kept, err = store.Get(number)
	} else {
		kept, err = store.Last()
	}
	switch {
	case errors.Is(err, undo.ErrNone) && number > 0:
		return ask.Errorf("there is no change %d; yorvet changes lists them", number)
	case errors.Is(err, undo.ErrNone):
		return ask.Errorf("no change of %s is kept that could be taken back", c.path)
	case err != nil:
		return ask.Errorf("%w", err)
	}
	for i := range kept.Files {
		f := &kept.Files[i]
		if err := c.draft.Rewrite(f.Path, f.Revert); err != nil {
			if conflict, ok := errors.AsType[*undo.Conflict](err); ok {
				return ask.Errorf("%s:%d: these lines have changed since change %d; nothing is written. Take back what came later "+
					"first, or change them by hand", shortPath(conflict.Path), conflict.Line, kept.Number)
			}
			return ask.Errorf("%w", err)
		}
	}
	c.undoes = kept.Number
	c.about = "Takes back change " + strconv.Itoa(kept.Number) + ": yorvet " + strings.Join(quotedArgs(kept.Command), " ")
	return nil
}

// plainArg is an argument that a shell takes as it is.
var plainArg = regexp.MustCompile(`^[A-Za-z0-9@%+=:,./_-]+$`)

// quotedArgs returns arguments as a shell wants them.
func quotedArgs(args []string) []string {
	var list []string
	for _, arg := range args {
		if !plainArg.MatchString(arg) {
			arg = "'" + strings.ReplaceAll(arg, "'", `'\''`) + "'"
		}
		list = append(list, arg)
	}
	return list
}
