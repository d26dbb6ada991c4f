package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

func newPersonClose(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "close",
		Usage:     "say that a mailbox is closed",
		ArgsUsage: "PERSON...",
		Description: "The person stays in all groups, and gets nothing: what breaks by that is shown.\n\n" +
			"Example: yorvet person close tam.weld@kelpmere.example",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() == 0 {
					return ask.Errorf("person close needs a person")
				}
				people, err := c.peopleOrAll(cmd.Args().Slice())
				if err != nil {
					return err
				}
				closed, err := personFields([]string{"mailbox=" + estate.MailboxClosed.String()})
				if err != nil {
					return err
				}
				for _, id := range people {
					if err := c.setPerson(id, closed); err != nil {
						return err
					}
				}
				return nil
			})
		},
	}
}

func newPersonLeaves(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "leaves",
		Usage:     "take somebody who leaves out of everything, and put a successor in their place",
		ArgsUsage: "PERSON",
		Description: "Memberships, owners, moderators, and the rules of gates, send-as and access that name the person\n" +
			"become those of the successor; without one the person is taken out of all. Then the person goes; with\n" +
			"--keep they stay, with a closed mailbox.\n\n" +
			"Example: yorvet person leaves tam.weld@kelpmere.example --successor ines.maro@kelpmere.example",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "successor", Usage: "the `PERSON` who takes their place"},
			&cli.BoolFlag{Name: "keep", Usage: "they stay in the estate, with a closed mailbox"},
			&cli.BoolFlag{Name: "hand-over-address", Usage: "their addresses become aliases of the successor"},
		}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error { return changeEstate(ctx, cmd, streams, leave) },
	}
}

// leave takes somebody out of everything.
func leave(c *changer) error {
	if c.cmd.Args().Len() != 1 {
		return ask.Errorf("person leaves needs one person")
	}
	id, err := c.Person(c.cmd.Args().First())
	if err != nil {
		return err
	}
	heir := estate.None
	if c.cmd.IsSet("successor") {
		if heir, err = c.Person(c.cmd.String("successor")); err != nil {
			return err
		}
	}
	p := c.Estate.Person(id)
	switch handsOver := c.cmd.Bool("hand-over-address"); {
	case heir == id:
		return ask.Errorf("the successor is the person who leaves")
	case handsOver && (heir == estate.None || c.Estate.Person(heir).Implied):
		return ask.Errorf("--hand-over-address needs --successor with a person who is written down")
	case handsOver && c.cmd.Bool("keep"):
		return ask.Errorf("--keep and --hand-over-address exclude each other")
	case p.Implied:
	case !c.cmd.Bool("keep"):
		c.draft.Apply(change.RemovePerson{Person: id})
		if handsOver {
			also := slices.Concat(c.Estate.Person(heir).Also, []address.Address{p.Address}, p.Also)
			c.draft.Apply(change.SetPersonAlso{Person: heir, Also: also})
		}
	case p.Mailbox == estate.MailboxOpen:
		c.draft.Apply(change.SetPerson{Person: id, Field: "mailbox", Text: "closed"})
	}
	changes := slices.Concat(change.Cascade(c.Estate, []estate.ID{id}, nil), change.Unnamed(c.Estate, id))
	c.about = fmt.Sprintf("%s leaves, and is taken out of everything", c.Estate.Address(id))
	if heir != estate.None {
		changes = change.HandOver(c.Estate, id, heir, c.Resolver.Today())
		c.about = fmt.Sprintf("%s leaves, and %s takes their place", c.Estate.Address(id), c.Estate.Address(heir))
	}
	c.draft.Apply(changes...)
	c.noteTouched(changes)
	c.noteEdge(id)
	return nil
}

// noteTouched reports groups that changes touch and that are managed elsewhere.
func (c *changer) noteTouched(changes []change.Change) {
	var groups []estate.ID
	for _, one := range changes {
		if g := one.About(c.Estate).Group; g != estate.None && !slices.Contains(groups, g) {
			groups = append(groups, g)
		}
	}
	if len(groups) > 0 {
		c.warnManaged(groups...)
	}
}

func newPersonRemove(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "remove",
		Usage:     "take people out of the estate",
		ArgsUsage: "PERSON...",
		Description: "They are taken out of all groups and rules, too. Somebody who leaves and has a successor: " +
			"yorvet person\n" +
			"leaves.\n\n" +
			"Example: yorvet person remove tam.weld@kelpmere.example",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() == 0 {
					return ask.Errorf("person remove needs a person")
				}
				people, err := c.peopleOrAll(cmd.Args().Slice())
				if err != nil {
					return err
				}
				changes := change.Cascade(c.Estate, people, nil)
				for _, id := range people {
					if !c.Estate.Person(id).Implied {
						c.draft.Apply(change.RemovePerson{Person: id})
					}
					changes = append(changes, change.Unnamed(c.Estate, id)...)
					c.noteEdge(id)
				}
				if err := sameRuleTwice(changes); err != nil {
					return err
				}
				c.draft.Apply(changes...)
				c.noteTouched(changes)
				return nil
			})
		},
	}
}

// sameRuleTwice returns an error where two of several changes are about the rules of one
// group: each knows nothing of the other.
func sameRuleTwice(changes []change.Change) error {
	seen := map[string]bool{}
	for _, one := range changes {
		key := ""
		switch one := one.(type) {
		case change.SetSetting:
			key = fmt.Sprint(one.Group, one.Setting)
		default:
			continue
		}
		if seen[key] {
			return errors.New("yorvet: two of these people are named in the rules of one group; remove them one after the other")
		}
		seen[key] = true
	}
	return nil
}
