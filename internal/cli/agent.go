package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/store"
)

func newAgent(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "agent",
		Usage: "work on the runs of a store with the connections of this machine",
		Description: "Messages that others plan are sent over the connections that this machine has, and the mailboxes\n" +
			"that it can open are looked into. It needs no estate; its secrets stay here. It goes on until it is\n" +
			"interrupted. Another agent takes over in seconds what one that died was at.\n\n" +
			"Example: yorvet agent --connections outside.yaml --store postgres://probes@db.example/yorvet",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "connections", Usage: "the connections `FILE`", Value: "connections.yaml"},
			storeFlag(),
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 0 {
				return ask.Errorf("agent takes flags only, not %q", cmd.Args().First())
			}
			l, err := connections.Load(ctx, cmd.String("connections"))
			if err != nil {
				return ask.ConnectionsError(cmd.IsSet("connections"), err)
			}
			if err := l.Unlock(ctx, cmd.IsSet("connections"), func(text string) { warn(streams, text) }); err != nil {
				return err
			}
			st, err := awaitStore(ctx, cmd, streams)
			if err != nil {
				return err
			}
			defer st.Close()
			fmt.Fprintf(streams.Out, "Working on the runs of %s until interrupted\n", present.Clean(st.Where()))
			states := map[string]string{}
			a := &agent.Agent{Store: st, Connections: l, State: ask.StateFolder(), OnError: func(text string) { warn(streams, text) },
				OnProgress: func(t store.Progress) {
					if states[t.Name] != t.State {
						states[t.Name] = t.State
						fmt.Fprintf(streams.Out, "Run %s: %s\n", present.Clean(t.Name), progressOf(t))
					}
				}}
			if err := a.Work(ctx); err != nil && !errors.Is(err, context.Canceled) {
				return ask.Network(err)
			}
			return nil
		},
	}
}

// awaitStore opens the store for an agent. One that is away, or that no estate has used yet, is waited for.
func awaitStore(ctx context.Context, cmd *cli.Command, streams Streams) (*store.Store, error) {
	told := ""
	for {
		st, err := openAgentStore(ctx, cmd)
		if err == nil || !ask.IsNetwork(err) && !errors.Is(err, errNobodyYet) {
			return st, err
		}
		if text := plainError(err).Error(); text != told {
			told = text
			warn(streams, text+"; it is waited for")
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(awaitEvery):
		}
	}
}

// awaitEvery is how often a store is asked that is waited for.
const awaitEvery = 2 * time.Second

// progressOf says in words how far a run is.
func progressOf(t store.Progress) string {
	switch t.State {
	case store.StateOpen:
		return fmt.Sprintf("%d of %d messages to send, %d mailboxes to look into", t.Waiting, t.Cases, t.Mailboxes)
	case store.StateClosing:
		return "all mailboxes are gone through once more"
	}
	return t.State
}

// warn reports trouble that does not end a command.
func warn(streams Streams, text string) {
	fmt.Fprintln(streams.Err, "yorvet: "+present.Clean(secret.Hide(text)))
}
