package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
)

// personCommands are the commands that list and change people.
func personCommands(streams Streams) []*cli.Command {
	return []*cli.Command{
		newPersonList(streams),
		newPersonAdd(streams),
		newPersonSet(streams),
		newPersonRename(streams),
		newPersonClose(streams),
		newPersonLeaves(streams),
		newPersonRemove(streams),
	}
}

func newPersonList(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list people, one line each",
		ArgsUsage: "[PERSON...]",
		Description: "A PERSON may hold * for anything. --where keeps those that a selector picks.\n\n" +
			"Example: yorvet person list --where '(base=north-pier)'",
		Flags: []cli.Flag{&cli.StringFlag{Name: "where", Usage: "those that a `SELECTOR` picks"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			people, err := s.PeopleOrAll(cmd.Args().Slice())
			if err != nil {
				return err
			}
			by := strings.Join(cmd.Args().Slice(), " ")
			if text := cmd.String("where"); text != "" {
				picked, err := s.PickedBy(text)
				if err != nil {
					return err
				}
				people = slices.DeleteFunc(people, func(id estate.ID) bool { return !picked[id] })
				by = strings.TrimSpace(by + " " + text)
			}
			return s.print(present.NewPeople(s.Resolver, people, by))
		},
	}
}

func newPersonAdd(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "add",
		Usage:     "write down a person",
		ArgsUsage: "ADDRESS [FIELD=VALUE...]",
		Description: "The fields are name, also, mailbox and attributes.NAME. Many people at once come from a table or a\n" +
			"directory: yorvet import people.csv.\n\n" +
			"Example: yorvet person add pia.strand@kelpmere.example name='Pia Strand' attributes.base=south-pier",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 {
				return ask.Errorf("person add needs an address")
			}
			return makeChange(ctx, cmd, streams, &propose.NewPerson{Address: cmd.Args().First(), Fields: cmd.Args().Slice()[1:]})
		},
	}
}

func newPersonSet(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "set",
		Usage:     "change what is said of people",
		ArgsUsage: "PERSON FIELD=VALUE...",
		Description: "The fields are name, also, mailbox and attributes.NAME; nothing behind = takes a field away. " +
			"+= adds to\n" +
			"a list and -= takes from it. A PERSON may hold * for anything.\n\n" +
			"Example: yorvet person set tam.weld@kelpmere.example mailbox=full attributes.base=south-pier",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() < 2 {
				return ask.Errorf("person set needs a person and what to set, as in mailbox=closed")
			}
			return makeChange(ctx, cmd, streams, &propose.PersonSettings{
				People: cmd.Args().Slice()[:1], Fields: cmd.Args().Slice()[1:],
			})
		},
	}
}

func newPersonRename(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "rename",
		Usage:     "give a person another address",
		ArgsUsage: "PERSON NEW",
		Description: "The old address stays as an alias, unless --forget says otherwise. Where groups list the person and\n" +
			"rules name them, the new address is written.\n\n" +
			"Example: yorvet person rename tam.weld@kelpmere.example tam.weld-oake@kelpmere.example",
		Flags: append([]cli.Flag{&cli.BoolFlag{Name: "forget", Usage: "the old address is given up"}}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return ask.Errorf("person rename needs a person and their new address")
			}
			return makeChange(ctx, cmd, streams, &propose.PersonRename{
				Person: cmd.Args().First(), New: cmd.Args().Get(1), Forget: cmd.Bool("forget"),
			})
		},
	}
}
