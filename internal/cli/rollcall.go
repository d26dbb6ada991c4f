package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/store"
)

// connectionFlags are the flags of commands that send and look.
func connectionFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "connections", Usage: "the connections `FILE`", Value: "connections.yaml"},
		&cli.StringFlag{Name: "as", Usage: "your own `ADDRESS`"},
	}
}

// caller opens the estate and the connections, but for their secrets, and returns who asks.
func caller(
	ctx context.Context, cmd *cli.Command, streams Streams,
) (*session, *connections.Connections, address.Address, error) {
	var me address.Address
	s, err := open(ctx, cmd, streams)
	if err != nil {
		return nil, nil, me, err
	}
	l, err := connections.Load(ctx, cmd.String("connections"))
	if err != nil {
		return nil, nil, me, ask.ConnectionsError(cmd.IsSet("connections"), err)
	}
	if cmd.String("as") == "" {
		return nil, nil, me, ask.Errorf("%s needs --as with your own address", name(cmd))
	}
	me, err = s.Address("as", cmd.String("as"))
	return s, l, me, err
}

// unlock fetches the secrets of the connections. Commands for them are run only where the
// file is named.
func unlock(ctx context.Context, cmd *cli.Command, streams Streams, l *connections.Connections) error {
	return l.Unlock(ctx, cmd.IsSet("connections"), func(text string) { warn(streams, text) })
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
			if run != "" && !cmd.Bool("send") {
				return lookAgain(ctx, cmd, streams, run)
			}
			s, l, me, err := caller(ctx, cmd, streams)
			if err != nil {
				return err
			}
			text, err := oneArgument(cmd, "a group")
			if err != nil {
				return err
			}
			group, err := s.Group(text)
			if err != nil {
				return err
			}
			if !cmd.Bool("send") {
				return s.print(present.NewRollCall(s.Resolver, probe.PlanCall(s.Resolver, group, me)))
			}
			if err := unlock(ctx, cmd, streams, l); err != nil {
				return err
			}
			return s.startCall(l, group, me, run)
		},
	}
}

// startCall asks the members of a group to answer.
func (s *session) startCall(l *connections.Connections, group estate.ID, me address.Address, run string) error {
	st, err := openStore(s.ctx, s.cmd, s.streams, estatePath(s.cmd), false)
	if err != nil {
		return err
	}
	defer st.Close()
	_, at, err := prepare(s.ctx, s.cmd, s.streams)
	if err != nil {
		return err
	}
	options := probe.Options{Store: st, State: ask.StateFolder(), Version: version(), OnError: at.Warn}
	if options.Estate, err = s.Evaluated(s.ctx, at); err != nil {
		return err
	}
	call, err := probe.StartCall(s.ctx, s.Resolver, l, group, me, options, run)
	switch {
	case errors.Is(err, store.ErrExists):
		return ask.Errorf("there is a run %s already; name another", run)
	case err != nil:
		return ask.Network(err)
	}
	return s.print(present.NewRollCall(s.Resolver, call))
}

// lookAgain looks who has answered a roll call.
func lookAgain(ctx context.Context, cmd *cli.Command, streams Streams, run string) error {
	s, err := open(ctx, cmd, streams)
	if err != nil {
		return err
	}
	l, err := connections.Load(ctx, cmd.String("connections"))
	if err != nil {
		return ask.ConnectionsError(cmd.IsSet("connections"), err)
	}
	if err := unlock(ctx, cmd, streams, l); err != nil {
		return err
	}
	st, err := openStore(ctx, cmd, streams, estatePath(cmd), true)
	if err != nil {
		return err
	}
	defer st.Close()
	_, at, err := prepare(ctx, cmd, streams)
	if err != nil {
		return err
	}
	at.Store = st
	k, err := s.Kept(ctx, at, run, l)
	if err != nil {
		return err
	}
	call, err := k.LookCall(ctx)
	if err != nil {
		return ask.Network(err)
	}
	return s.print(present.NewRollCall(s.Resolver, call))
}

// newDecide returns the command by which an approver decides about held messages; done is
// what is said of each that is decided.
func newDecide(streams Streams, word, usage, done string, admit bool) *cli.Command {
	return &cli.Command{
		Name: word, Usage: usage, ArgsUsage: "NUMBER...", Flags: connectionFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, l, me, err := caller(ctx, cmd, streams)
			if err != nil {
				return err
			}
			if cmd.Args().Len() == 0 {
				return ask.Errorf("held %s needs the numbers that held list shows", word)
			}
			if err := unlock(ctx, cmd, streams, l); err != nil {
				return err
			}
			requests, err := probe.Requests(ctx, s.Resolver, l, me)
			if err != nil {
				return ask.Network(err)
			}
			var chosen []*probe.Request
			for _, text := range cmd.Args().Slice() {
				n, err := strconv.Atoi(text)
				i := slices.IndexFunc(requests, func(q probe.Request) bool { return q.Number == n })
				if err != nil || i < 0 {
					return ask.Errorf("%q is no number that held list shows: there are %d", text, len(requests))
				}
				chosen = append(chosen, &requests[i])
			}
			for _, q := range chosen {
				if err := q.Decide(ctx, s.Resolver, l, admit); err != nil {
					return ask.Network(err)
				}
				held := present.NewHeldQueue(s.Resolver, me, []probe.Request{*q}).Held[0]
				fmt.Fprintf(streams.Out, "%s: %s\n", done, present.Clean(held.Line()))
			}
			return nil
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
					s, l, me, err := caller(ctx, cmd, streams)
					if err != nil {
						return err
					}
					if err := unlock(ctx, cmd, streams, l); err != nil {
						return err
					}
					requests, err := probe.Requests(ctx, s.Resolver, l, me)
					if err != nil {
						return ask.Network(err)
					}
					return s.print(present.NewHeldQueue(s.Resolver, me, requests))
				},
			},
			newDecide(streams, "admit", "admit messages", "Admitted", true),
			newDecide(streams, "refuse", "refuse messages", "Refused", false),
		},
	}
}
