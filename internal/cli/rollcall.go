package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/present"
)

// connectionFlags are the flags of commands that send and look.
func connectionFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "connections", Usage: "the connections `FILE`", Value: "connections.yaml"},
		&cli.StringFlag{Name: "as", Usage: "your own `ADDRESS`"},
	}
}

func newRollcall(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "rollcall",
		Usage:     "ask every member of a group to answer, and see who did",
		ArgsUsage: "GROUP",
		Description: "For when mailboxes cannot be opened: one message goes to the group and asks its members to answer.\n" +
			"The answers and bounces are collected from your own mailbox. Without --send nothing is sent, and\n" +
			"it is shown who would be asked. --run takes a roll call up again, as often as you like.\n\n" +
			"Example: yorvet rollcall lost-property@kelpmere.example --as ines.maro@kelpmere.example --send",
		Flags: append(
			connectionFlags(),
			&cli.BoolFlag{Name: "send", Usage: "send the message"},
			storeFlag(),
			&cli.StringFlag{
				Name:  "run",
				Usage: "look again who has answered this `RUN`; with --send: the name of the new one",
			},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			run := cmd.String("run")
			if err := ask.CheckRunName("run", run); err != nil {
				return err
			}
			looks := run != "" && !cmd.Bool("send")
			q := &ask.RollCall{Run: run, Send: cmd.Bool("send")}
			var err error
			if !looks {
				if q.Group, err = oneArgument(cmd, "a group"); err != nil {
					return err
				}
			}
			if q.Caller, err = callerOf(cmd, !looks); err != nil {
				return err
			}
			s, at, err := prepare(ctx, cmd, streams)
			if err != nil {
				return err
			}
			if run != "" || q.Send {
				if at.Store, err = openStore(ctx, cmd, streams, at.Path, looks); err != nil {
					return err
				}
				defer at.Store.Close()
			}
			return s.ask(q, at)
		},
	}
}

// callerOf returns who asks; wanted says that there has to be somebody.
func callerOf(cmd *cli.Command, wanted bool) (ask.Caller, error) {
	if wanted && cmd.String("as") == "" {
		return ask.Caller{}, ask.Errorf("%s needs --as with your own address", name(cmd))
	}
	return ask.Caller{As: cmd.String("as"), File: cmd.String("connections"), Named: cmd.IsSet("connections")}, nil
}

// newDecide returns the command by which an approver decides about held messages; done is
// what is said of each that is decided.
func newDecide(streams Streams, word, usage, done string, admit bool) *cli.Command {
	return &cli.Command{
		Name: word, Usage: usage, ArgsUsage: "NUMBER...", Flags: connectionFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 {
				return ask.Errorf("held %s needs the numbers that held list shows", word)
			}
			caller, err := callerOf(cmd, true)
			if err != nil {
				return err
			}
			_, at, err := prepare(ctx, cmd, streams)
			if err != nil {
				return err
			}
			q := &ask.Held{Caller: caller}
			return q.Decide(ctx, at, cmd.Args().Slice(), admit, func(held present.HeldMessage) {
				fmt.Fprintf(streams.Out, "%s: %s\n", done, present.Clean(held.Line()))
			})
		},
	}
}

func newHeld(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "held",
		Usage: "list, admit or refuse held messages",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the held messages that wait for you", Flags: connectionFlags(),
				Description: "The requests are found in your mailbox, which the connections open.\n\n" +
					"Example: yorvet held list --as " +
					"tam.weld@kelpmere.example",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					caller, err := callerOf(cmd, true)
					if err != nil {
						return err
					}
					s, at, err := prepare(ctx, cmd, streams)
					if err != nil {
						return err
					}
					return s.ask(&ask.Held{Caller: caller}, at)
				},
			},
			newDecide(streams, "admit", "admit messages", "Admitted", true),
			newDecide(streams, "refuse", "refuse messages", "Refused", false),
		},
	}
}
