package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/present"
)

func newWho(streams Streams) *cli.Command {
	return &cli.Command{
		Name:        "who",
		Usage:       "show who may do what with a group",
		Description: "Example: yorvet who receives lost-property@kelpmere.example",
		Commands: []*cli.Command{
			{
				Name:      "posts",
				Usage:     "show who may post to a group, and who may not",
				ArgsUsage: "GROUP",
				Description: "The gate of the group is asked about everyone in the estate, about anyone outside, an unknown\n" +
					"inside address, and forged mail that claims an unknown or a known address.\n\n" +
					"Example: yorvet who posts lost-property@kelpmere.example",
				Flags: messageFlags(),
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return askOfGroup(ctx, cmd, streams, func(group string, m resolve.Message) ask.Question {
						return &ask.OfGroup{Group: group, Look: postersOf(m)}
					})
				},
			},
			{
				Name:      "receives",
				Usage:     "show who receives the mail of a group, and who does not",
				ArgsUsage: "GROUP",
				Description: "Without --from, every nested group is taken to admit the sender.\n\n" +
					"Example: yorvet who receives sailing-notices@kelpmere.example --from odile.renn@kelpmere.example",
				Flags: append(
					[]cli.Flag{
						&cli.StringFlag{Name: "from", Usage: "the `ADDRESS` that the message claims to be from"},
					},
					messageFlags()...),
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return askOfGroup(ctx, cmd, streams, func(group string, m resolve.Message) ask.Question {
						return &ask.Receives{Group: group, From: cmd.String("from"), Message: m}
					})
				},
			},
			newWhoGroup(streams, "sends-as", "show who may send as a group, and can prove it",
				"If the group asks for a mailed code, the code is followed like any message: the gate has to admit\n"+
					"it, and it has to reach the person.\n\n"+
					"Example: yorvet who sends-as charter@kelpmere.example", delegatesOf),
			newWhoGroup(streams, "approves", "show who can release held mail",
				"Example: yorvet who approves lost-property@kelpmere.example", func(r *resolve.Resolver, group estate.ID) present.Answer { return present.NewApproves(r, group) }),
			newWhoMay(streams, "reads", estate.Read, "show who may read the archive of a group", "volunteers@kelpmere.example"),
			newWhoMay(streams, "joins", estate.Join, "show who may join a group", "volunteers@kelpmere.example"),
			newWhoMay(streams, "finds", estate.Find, "show who may find a group", "works-council@kelpmere.example"),
			newWhoMay(streams, "manages", estate.Manage, "show who may manage a group", "galley@kelpmere.example"),
		},
	}
}

// postersOf looks at who may post a message.
func postersOf(m resolve.Message) func(*resolve.Resolver, estate.ID) present.Answer {
	return func(r *resolve.Resolver, group estate.ID) present.Answer { return present.NewPosts(r, group, m) }
}

// delegatesOf looks at who may send as a group.
func delegatesOf(r *resolve.Resolver, group estate.ID) present.Answer {
	return present.NewSendsAs(r, group)
}

// askOfGroup asks about the group that is the argument, and perhaps about a message.
func askOfGroup(
	ctx context.Context, cmd *cli.Command, streams Streams, question func(group string, m resolve.Message) ask.Question,
) error {
	group, err := oneArgument(cmd, "the address of a group")
	if err != nil {
		return err
	}
	m, err := message(cmd)
	if err != nil {
		return err
	}
	s, at, err := prepare(ctx, cmd, streams)
	if err != nil {
		return err
	}
	return s.ask(question(group, m), at)
}

// newWhoGroup returns a command that asks one thing about one group.
func newWhoGroup(
	streams Streams, verb, usage, description string, look func(*resolve.Resolver, estate.ID) present.Answer,
) *cli.Command {
	return &cli.Command{
		Name:        verb,
		Usage:       usage,
		ArgsUsage:   "GROUP",
		Description: description,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return askOfGroup(ctx, cmd, streams, func(group string, _ resolve.Message) ask.Question {
				return &ask.OfGroup{Group: group, Look: look}
			})
		},
	}
}

// newWhoMay returns a command about one action of the access setting.
func newWhoMay(streams Streams, verb string, action estate.Action, usage, example string) *cli.Command {
	return newWhoGroup(streams, verb, usage, "Example: yorvet who "+verb+" "+example,
		func(r *resolve.Resolver, group estate.ID) present.Answer {
			return present.NewMay(r, group, action, verb)
		})
}
