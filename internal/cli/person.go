package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/present"
)

func newPerson(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "person",
		Usage:     "show everything about one person, and list, add and change people",
		ArgsUsage: "ADDRESS|NAME",
		Description: "Whose mail reaches them and by which ways, whose does not and why, where they may post, send as,\n" +
			"approve and own, and what breaks without them. They are named by an address, by a local part that\n" +
			"nobody else has, or by their name or a part of it.\n\n" +
			"Example: yorvet person nora.teale@kelpmere.example, or yorvet person Nora",
		Commands: personCommands(streams),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			text, err := oneArgument(cmd, "the address or name of a person")
			if err != nil {
				return err
			}
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			id, err := s.person(text)
			if err != nil {
				return err
			}
			return s.print(present.NewPerson(s.r, id))
		},
	}
}

// person returns the person whom an argument names.
func (s *session) person(text string) (estate.ID, error) {
	if id, ok, err := s.byLocalPart(text, ofPeople); ok || err != nil {
		return id, err
	}
	if id, ok, err := s.byName(text); ok || err != nil {
		return id, err
	}
	if id, ok, _ := s.byLocalPart(text, ofGroups); ok {
		text = s.e.Address(id).String()
	}
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, usageError("no person %q", text)
	}
	id, ok := s.e.Find(a)
	switch {
	case !ok:
		return estate.None, usageError("no person %q%s", text, meant(nearest.Words(text, s.e.Addresses, 3)...))
	case s.e.IsGroup(id):
		return estate.None, usageError("%s is a group; try yorvet who receives %s", text, text)
	}
	return id, nil
}
