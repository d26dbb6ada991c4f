package cli

import (
	"context"

	"github.com/urfave/cli/v3"

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
				Flags:  messageFlags(),
				Action: func(ctx context.Context, cmd *cli.Command) error { return whoPosts(ctx, cmd, streams) },
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
				Action: func(ctx context.Context, cmd *cli.Command) error { return whoReceives(ctx, cmd, streams) },
			},
			newWhoGroup(streams, "sends-as", "show who may send as a group, and can prove it",
				"If the group asks for a mailed code, the code is followed like any message: the gate has to admit\n"+
					"it, and it has to reach the person.\n\n"+
					"Example: yorvet who sends-as charter@kelpmere.example", present.NewSendsAs),
			newWhoGroup(streams, "approves", "show who can release held mail",
				"Example: yorvet who approves lost-property@kelpmere.example", present.NewApproves),
			newWhoMay(streams, "reads", estate.Read, "show who may read the archive of a group", "volunteers@kelpmere.example"),
			newWhoMay(streams, "joins", estate.Join, "show who may join a group", "volunteers@kelpmere.example"),
			newWhoMay(streams, "finds", estate.Find, "show who may find a group", "works-council@kelpmere.example"),
			newWhoMay(streams, "manages", estate.Manage, "show who may manage a group", "galley@kelpmere.example"),
		},
	}
}

func whoPosts(ctx context.Context, cmd *cli.Command, streams Streams) error {
	s, group, m, err := openGroup(ctx, cmd, streams)
	if err != nil {
		return err
	}
	return s.print(present.NewPosts(s.Resolver, group, m))
}

func whoReceives(ctx context.Context, cmd *cli.Command, streams Streams) error {
	s, group, m, err := openGroup(ctx, cmd, streams)
	if err != nil {
		return err
	}
	var sender *resolve.Sender
	if cmd.IsSet("from") {
		a, err := s.Address("from", cmd.String("from"))
		if err != nil {
			return err
		}
		found := s.Resolver.Sender(a)
		sender = &found
	}
	return s.print(present.NewReceives(s.Resolver, group, sender, m))
}

// openGroup opens the estate for a command that is about one group, and perhaps
// about a message.
func openGroup(ctx context.Context, cmd *cli.Command, streams Streams) (*session, estate.ID, resolve.Message, error) {
	text, err := oneArgument(cmd, "the address of a group")
	if err != nil {
		return nil, estate.None, resolve.Message{}, err
	}
	m, err := message(cmd)
	if err != nil {
		return nil, estate.None, m, err
	}
	s, err := open(ctx, cmd, streams)
	if err != nil {
		return nil, estate.None, m, err
	}
	group, err := s.Group(text)
	return s, group, m, err
}

// newWhoGroup returns a command that asks one thing about one group.
func newWhoGroup[A present.Answer](
	streams Streams,
	verb, usage, description string,
	ask func(*resolve.Resolver, estate.ID) A,
) *cli.Command {
	return &cli.Command{
		Name:        verb,
		Usage:       usage,
		ArgsUsage:   "GROUP",
		Description: description,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, group, _, err := openGroup(ctx, cmd, streams)
			if err != nil {
				return err
			}
			return s.print(ask(s.Resolver, group))
		},
	}
}

// newWhoMay returns a command about one action of the access setting.
func newWhoMay(streams Streams, verb string, action estate.Action, usage, example string) *cli.Command {
	return newWhoGroup(streams, verb, usage, "Example: yorvet who "+verb+" "+example,
		func(r *resolve.Resolver, group estate.ID) *present.May { return present.NewMay(r, group, action, verb) })
}
