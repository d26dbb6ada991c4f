package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

func newGroupRename(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "rename",
		Usage:     "give a group another address",
		ArgsUsage: "OLD NEW",
		Description: "The old address stays as an alias, so that mail to it still arrives, unless --forget says\n" +
			"otherwise. Where other groups list it, the new address is written. OLD and NEW may hold one * for\n" +
			"the same text: '*@kelpmere-cargo.example' '*@kelpmere.example'.\n\n" +
			"Example: yorvet group rename charter@kelpmere.example whole-ships@kelpmere.example",
		Flags: append(
			[]cli.Flag{&cli.BoolFlag{Name: "forget", Usage: "the old address is given up"}, groupsFlag(), exceptFlag()},
			changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() != 2 {
					return ask.Errorf("group rename needs two addresses, OLD and NEW")
				}
				return c.renameAll(cmd.Args().First(), cmd.Args().Get(1))
			})
		},
	}
}

// renameAll renames a group, or all that a pattern matches, to what the star stands for in
// another one.
func (c *changer) renameAll(old, now string) error {
	if !strings.Contains(old, "*") {
		g, err := c.Group(old)
		if err != nil {
			return err
		}
		return c.rename(g, now)
	}
	if strings.Count(old, "*") != 1 || strings.Count(now, "*") != 1 || !strings.Contains(old, "@") {
		return ask.Errorf("of many groups, OLD and NEW each need one *, as in '*@old.example' '*@new.example'")
	}
	groups, err := c.changed(old)
	if err != nil {
		return err
	}
	head, tail, _ := strings.Cut(strings.ToLower(old), "*")
	renamed := 0
	for _, g := range groups {
		text := strings.ToLower(c.Estate.Address(g).String())
		if !strings.HasPrefix(text, head) || !strings.HasSuffix(text, tail) || len(text) < len(head)+len(tail) {
			continue // an alias matches
		}
		middle := c.Estate.Address(g).String()[len(head) : len(text)-len(tail)]
		if err := c.rename(g, strings.Replace(now, "*", middle, 1)); err != nil {
			return err
		}
		renamed++
	}
	if renamed == 0 {
		return ask.Errorf("no group has a main address like %s", old)
	}
	return nil
}

func (c *changer) rename(g estate.ID, text string) error {
	old := c.Estate.Address(g).String()
	a, err := address.Parse(text)
	if err != nil {
		return ask.Errorf("%w", err)
	}
	if id, known := c.Estate.Find(a); known && id == g {
		isAlso := func(also address.Address) bool { return also.Key() == a.Key() }
		if !slices.ContainsFunc(c.Estate.Group(g).Also, isAlso) {
			return ask.Errorf("%s has the address %s already", old, text)
		}
	} else if a, err = c.freeAddress(text); err != nil {
		return err
	}
	c.draft.Apply(change.RenameGroup{Group: g, To: a, Forget: c.cmd.Bool("forget")})
	c.warnManaged(g)
	return nil
}

// unused returns an error where rules of other groups name one of those that go.
func (c *changer) unused(gone []estate.ID) error {
	for _, id := range gone {
		var used []string
		for _, use := range c.Estate.Uses(id) {
			if !slices.Contains(gone, use.Group) {
				place := c.Estate.Settings().Position(use.Place)
				used = append(used, fmt.Sprintf("  %s: %s, %s", place, c.Estate.Address(use.Group), use.Rule))
			}
		}
		if len(used) > 0 {
			return ask.Errorf("%s is still named by \"in\" in these rules; change them first\n%s", c.Estate.Address(id),
				strings.Join(used, "\n"))
		}
	}
	return nil
}

func newGroupRemove(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "remove",
		Usage:     "remove groups",
		ArgsUsage: "GROUP...",
		Description: "If other groups list it as a member, owner or moderator, it is removed there, too.\n\nExample: " +
			"yorvet group remove old-regatta@kelpmere.example",
		Flags: append([]cli.Flag{groupsFlag(), exceptFlag()}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() == 0 && !cmd.IsSet("groups") {
					return ask.Errorf("group remove needs a group")
				}
				gone, err := c.changed(cmd.Args().Slice()...)
				if err != nil {
					return err
				}
				if err := c.unused(gone); err != nil {
					return err
				}
				for _, g := range gone {
					c.draft.Apply(change.RemoveGroup{Group: g})
				}
				c.draft.Apply(change.Cascade(c.Estate, gone, nil)...)
				c.warnManaged(gone...)
				return nil
			})
		},
	}
}
