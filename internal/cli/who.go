package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/present"
)

func newWho(streams Streams) *cli.Command {
	return &cli.Command{
		Name:        "who",
		Usage:       "who may do what with a group, or gets what of it",
		Description: "Example: yorvet who receives lost-property@kelpmere.example",
		Commands: []*cli.Command{
			{
				Name:      "posts",
				Usage:     "who may post to a group, and what happens to everyone else's message",
				ArgsUsage: "GROUP",
				Description: "The gate of the group is asked about everyone in the estate, and about three strangers:\n" +
					"one from outside, an unknown one from inside, and one who only claims to be inside.\n\n" +
					"Example: yorvet who posts lost-property@kelpmere.example",
				Flags:  messageFlags(),
				Action: func(_ context.Context, cmd *cli.Command) error { return whoPosts(cmd, streams) },
			},
			{
				Name:      "receives",
				Usage:     "who receives the mail of a group, how, and if not, why not",
				ArgsUsage: "GROUP",
				Description: "Without --from, every nested group is taken to let the message in.\n\n" +
					"Example: yorvet who receives sailing-notices@kelpmere.example --from odile.renn@kelpmere.example",
				Flags:  append([]cli.Flag{&cli.StringFlag{Name: "from", Usage: "the `ADDRESS` that the message claims to be from"}}, messageFlags()...),
				Action: func(_ context.Context, cmd *cli.Command) error { return whoReceives(cmd, streams) },
			},
		},
	}
}

func whoPosts(cmd *cli.Command, streams Streams) error {
	name, err := oneArgument(cmd, "the address of a group")
	if err != nil {
		return err
	}
	m, err := message(cmd)
	if err != nil {
		return err
	}
	s, err := open(cmd, streams)
	if err != nil {
		return err
	}
	group, err := s.group(name)
	if err != nil {
		return err
	}
	return s.print(present.NewPosts(s.r, group, m))
}

func whoReceives(cmd *cli.Command, streams Streams) error {
	name, err := oneArgument(cmd, "the address of a group")
	if err != nil {
		return err
	}
	m, err := message(cmd)
	if err != nil {
		return err
	}
	s, err := open(cmd, streams)
	if err != nil {
		return err
	}
	group, err := s.group(name)
	if err != nil {
		return err
	}
	var sender *resolve.Sender
	if cmd.IsSet("from") {
		a, err := s.address("from", cmd.String("from"))
		if err != nil {
			return err
		}
		found := s.r.Sender(a)
		sender = &found
	}
	return s.print(present.NewReceives(s.r, group, sender, m))
}
