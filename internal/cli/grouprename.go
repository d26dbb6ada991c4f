package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/propose"
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
			if cmd.Args().Len() != 2 {
				return ask.Errorf("group rename needs two addresses, OLD and NEW")
			}
			return makeChange(ctx, cmd, streams, &propose.GroupRename{
				Old: cmd.Args().First(), New: cmd.Args().Get(1), Groups: groupsOf(cmd), Forget: cmd.Bool("forget"),
			})
		},
	}
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
			if cmd.Args().Len() == 0 && !cmd.IsSet("groups") {
				return ask.Errorf("group remove needs a group")
			}
			return makeChange(ctx, cmd, streams, &propose.GroupRemoval{Groups: groupsOf(cmd, cmd.Args().Slice()...)})
		},
	}
}
