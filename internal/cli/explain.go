package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/present"
)

func newExplain(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "explain",
		Usage: "follow one message step by step",
		Description: "Shows every rule that was tried and why it did or did not match, the ways into nested\n" +
			"groups, who gets the message and how, and what each side sees.\n\n" +
			"Example: yorvet explain --from odile.renn@kelpmere.example --to sailing-notices@kelpmere.example",
		Flags: append([]cli.Flag{
			&cli.StringSliceFlag{
				Name:  "from",
				Usage: "the `ADDRESS` that the message claims to be from; may be repeated",
			},
			&cli.StringSliceFlag{Name: "to", Usage: "the `ADDRESS` that it is sent to; may be repeated"},
			&cli.StringFlag{Name: "as", Usage: "the `GROUP` in whose name it is written"},
			&cli.StringFlag{Name: "for", Usage: "follow it to one `PERSON`, by every way"},
		}, messageFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error { return explain(ctx, cmd, streams) },
	}
}

func explain(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.Args().Len() > 0 {
		return ask.Errorf("explain takes flags only, not %q", cmd.Args().First())
	}
	for _, flag := range []string{"from", "to"} {
		if len(cmd.StringSlice(flag)) == 0 {
			return ask.Errorf("explain needs --%s ADDRESS", flag)
		}
	}
	m, err := message(cmd)
	if err != nil {
		return err
	}
	s, err := open(ctx, cmd, streams)
	if err != nil {
		return err
	}
	c := present.Case{As: estate.None, For: estate.None, Message: m}
	if cmd.IsSet("for") {
		if c.For, err = s.Person(cmd.String("for")); err != nil {
			return err
		}
	}
	if cmd.IsSet("as") {
		if c.As, err = s.Group(cmd.String("as")); err != nil {
			return err
		}
	}
	senders, err := s.addresses("from")
	if err != nil {
		return err
	}
	targets, err := s.addresses("to")
	if err != nil {
		return err
	}
	var answer present.Explanations
	for _, c.From = range senders {
		for _, c.To = range targets {
			one := present.NewExplanation(s.Resolver, c)
			if one == nil {
				return ask.Errorf(
					"%s is neither in the estate nor in one of its domains%s",
					c.To,
					ask.Meant(s.NearGroups(c.To.String())...),
				)
			}
			answer.Explanations = append(answer.Explanations, one)
		}
	}
	return s.print(&answer)
}

// addresses returns the addresses that a repeated flag names.
func (s *session) addresses(flag string) ([]address.Address, error) {
	var list []address.Address
	for _, text := range s.cmd.StringSlice(flag) {
		a, err := s.Address(flag, text)
		if err != nil {
			return nil, err
		}
		list = append(list, a)
	}
	return list, nil
}
