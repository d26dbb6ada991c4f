package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/propose"
)

func newGroupSet(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "set",
		Usage:     "change settings of groups",
		ArgsUsage: "GROUP... SETTING=VALUE...",
		Description: "The settings are those of the estate: title, kind, copy, gate, send-as, access.find and so on. " +
			"SETTING=\n" +
			"without a value makes it the default again. Lists are separated by semicolons; += adds to one, -= takes\n" +
			"from it. Of rules += puts one last and ^= first; with --before and --after it goes next to another,\n" +
			"which is named by its number or its text. A GROUP may hold * for anything; with --groups or --except\n" +
			"it may be left out. attributes.NAME=VALUE sets one attribute.\n\n" +
			"Example: yorvet group set lost-property@kelpmere.example notify-sender=inside owners+=tam.weld@kelpmere.example",
		Flags: append(
			[]cli.Flag{
				&cli.StringFlag{Name: "preset", Usage: "the ready set of settings of this `NAME`"},
				heldFlag(),
				&cli.StringFlag{Name: "before", Usage: "put what += adds before this `RULE`"},
				&cli.StringFlag{Name: "after", Usage: "put what += adds behind this `RULE`"},
				groupsFlag(), exceptFlag(),
			},
			changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			named, said := splitConditions(cmd.Args().Slice())
			return makeChange(ctx, cmd, streams, &propose.GroupSettings{
				Groups: groupsOf(cmd, named...), Settings: said, Preset: cmd.String("preset"), Held: cmd.Bool("held"),
				Before: cmd.String("before"), After: cmd.String("after"),
			})
		},
	}
}
