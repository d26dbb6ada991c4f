package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/present"
)

func newGroupList(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list groups, one line each",
		ArgsUsage: "[GROUP...] [SETTING=VALUE...]",
		Description: "A GROUP may hold * for anything. SETTING=VALUE keeps the groups for which the setting is that, by\n" +
			"default or because they say so; of a list, one item has to be. Nothing behind = keeps those for\n" +
			"which nothing holds.\n\n" +
			"Example: yorvet group list '*@kelpmere.example' kind=forum managed-in=",
		Flags: []cli.Flag{groupsFlag(), exceptFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			named, conditions := splitConditions(cmd.Args().Slice())
			settings, err := ask.ParseSettings(conditions)
			if err != nil {
				return err
			}
			groups, err := s.Groups(groupsOf(cmd, named...))
			if err != nil {
				return err
			}
			for _, one := range settings {
				if one.Operator != '=' {
					return ask.Errorf("group list takes SETTING=VALUE, not %s%c=", one.Setting, one.Operator)
				}
				groups = slices.DeleteFunc(groups, func(g estate.ID) bool { return !s.Fulfils(g, one) })
			}
			by := strings.TrimSpace(strings.Join(cmd.Args().Slice(), " ") + " " + cmd.String("groups"))
			return s.print(present.NewGroups(s.Resolver, groups, by))
		},
	}
}

// splitConditions tells arguments that name groups from those that say SETTING=VALUE. An
// address may hold an equals sign, a setting no at sign.
func splitConditions(args []string) (groups, conditions []string) {
	for _, arg := range args {
		if name, _, ok := strings.Cut(arg, "="); ok && !strings.Contains(name, "@") {
			conditions = append(conditions, arg)
		} else {
			groups = append(groups, arg)
		}
	}
	return groups, conditions
}

func newGroupShow(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "show all settings of a group, and where they stand",
		ArgsUsage: "GROUP",
		Description: "yorvet member list shows its members.\n\n" +
			"Example: yorvet group show lost-property@kelpmere.example",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return ask.Errorf("group show needs one group")
			}
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			group, err := s.Group(cmd.Args().First())
			if err != nil {
				return err
			}
			return s.print(present.NewGroupSettings(s.Resolver, group))
		},
	}
}
