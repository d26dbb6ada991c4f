package cli

import (
	"context"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
	"yorvet.example/yorvet/internal/undo"
)

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
	out := present.KeptChange{Number: c.Number, Time: c.Time, User: c.User, Command: ask.Quoted(c.Command), Says: c.Says,
		Undoes:   c.Undoes,
		UndoneBy: undoneBy}
	for _, f := range c.Files {
		file := present.KeptFile{File: localfile.Short(f.Path)}
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
			number, err := changeNumber(cmd)
			if err != nil {
				return err
			}
			return makeChange(ctx, cmd, streams, &propose.Undo{Number: number})
		},
	}
}
