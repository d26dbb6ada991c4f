package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
)

func newGroup(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "group",
		Usage: "list, show, create, change, rename and remove groups",
		Description: "What a change does is shown first: who starts and stops receiving, who may post, which hazards\n" +
			"appear, which welcome notices would go out. Then it is written into the files of the estate, in\n" +
			"place: comments, order and all other lines stay as they are.",
		Commands: []*cli.Command{
			newGroupList(streams),
			newGroupShow(streams),
			newGroupLike(streams),
			newGroupAdvise(streams),
			newGroupNew(streams),
			newGroupSet(streams),
			newGroupRename(streams),
			newGroupRemove(streams),
			newPresets(streams),
		},
	}
}

func newPresets(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "presets",
		Usage: "show the ready sets of settings",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			format, err := formatOf(cmd)
			if err != nil {
				return err
			}
			s := &session{cmd: cmd, streams: streams, format: format}
			return s.print(present.NewPresets(preset.All()...))
		},
	}
}

func newGroupNew(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "new",
		Usage:     "create a group",
		ArgsUsage: "ADDRESS [SETTING=VALUE...]",
		Description: "A preset is a ready set of settings: " + strings.Join(
			preset.Names(),
			", ",
		) + ". yorvet group presets tells what each\n" +
			"means. With a preset whose groups accept mail, the owners are members, too.\n" +
			"More settings, or others, are those of the estate, as in: notify-sender=inside\n\n" +
			"Example: yorvet group new storm-desk@kelpmere.example --preset desk --title 'Storm desk' --owner " +
			"ines.maro@kelpmere.example",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "preset", Usage: "the ready set of settings of this `NAME`"},
			heldFlag(),
			&cli.StringFlag{Name: "title", Usage: "what people call it"},
			&cli.StringFlag{Name: "about", Usage: "what it is for"},
			&cli.StringSliceFlag{Name: "also", Usage: "an alias `ADDRESS`; may be repeated"},
			&cli.StringSliceFlag{Name: "owner", Usage: "the `ADDRESS` of an owner; may be repeated"},
			&cli.StringSliceFlag{Name: "moderator", Usage: "the `ADDRESS` of a moderator; may be repeated"},
			&cli.StringSliceFlag{Name: "member", Usage: "the `ADDRESS` of a member; may be repeated"},
			&cli.StringFlag{
				Name:  "from",
				Usage: "take members from a `FILE`, or from - for standard input, as they are pasted",
			},
			&cli.StringFlag{Name: "where", Usage: "take those as members that a `SELECTOR` picks"},
			&cli.StringSliceFlag{
				Name:  "rule",
				Usage: "a rule for members: everybody inside whose attributes a `FILTER` matches; may be repeated",
			},
			&cli.BoolFlag{Name: "everyone", Usage: "a rule for members: everybody inside"},
			&cli.StringFlag{Name: "managed-in", Usage: "the `SYSTEM` where it is managed"},
		}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			said := map[string]string{}
			for _, name := range []string{"title", "about", "managed-in"} {
				if cmd.IsSet(name) {
					said[name] = cmd.String(name)
				}
			}
			who := whoOf(cmd, cmd.StringSlice("member"))
			return makeChange(ctx, cmd, streams, &propose.NewGroup{
				Address: cmd.Args().First(), Preset: cmd.String("preset"), Held: cmd.Bool("held"), Said: said,
				Also: cmd.StringSlice("also"), Owners: cmd.StringSlice("owner"), Moderators: cmd.StringSlice("moderator"),
				Who: who, Rules: cmd.StringSlice("rule"), Everyone: cmd.Bool("everyone"),
				Settings: cmd.Args().Slice()[min(1, cmd.Args().Len()):],
			})
		},
	}
}

// heldFlag is the choice that some presets have.
func heldFlag() cli.Flag {
	return &cli.BoolFlag{Name: "held", Usage: "with a preset that has this choice: hold others' posts for approval"}
}
