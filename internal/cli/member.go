package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
)

func newMember(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "member",
		Usage: "add, remove, change and list members of groups",
		Description: "A GROUP may hold * for anything, so that one command is about many. What a change does is shown\n" +
			"first; then it is written into the files of the estate, in place.",
		Commands: []*cli.Command{
			newMemberAdd(streams),
			newMemberRemove(streams),
			newMemberSet(streams),
			newMemberList(streams),
		},
	}
}

// membershipFlags are the flags that say what a membership is to be like.
func membershipFlags() (flags []cli.Flag) {
	for _, s := range estate.MembershipSettings() {
		switch s.Form {
		case estate.FormWord:
			usage := ask.OrList(s.Words[1:]) + "; group: as the group says"
			flags = append(flags, &cli.StringFlag{Name: s.Name, Usage: usage})
		case estate.FormFlag:
			usage := "the membership is " + s.Name + "; --" + s.Name + "=false: it is not"
			flags = append(flags, &cli.BoolFlag{Name: s.Name, Usage: usage})
		default:
			usage := "a member " + s.Name + " this `DATE` (YYYY-MM-DD), or none"
			flags = append(flags, &cli.StringFlag{Name: s.Name, Usage: usage})
		}
	}
	return flags
}

func newMemberAdd(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "add",
		Usage:     "add members, owners or moderators to groups",
		ArgsUsage: "GROUP [ADDRESS...]",
		Description: "New members get what the group says its joiners get, and are members since today. Somebody outside\n" +
			"may be added by any address, and is written down where a name is pasted along. --rule and --everyone\n" +
			"add a rule instead.\n\n" +
			"Example: yorvet member add volunteers@kelpmere.example --from volunteers.txt",
		Flags: slices.Concat(
			[]cli.Flag{
				roleFlag(),
				&cli.StringFlag{
					Name:  "rule",
					Usage: "add a rule: everybody inside whose attributes a `FILTER` matches, as (base=north-pier)",
				},
				&cli.BoolFlag{
					Name:  "everyone",
					Usage: "add a rule: everybody inside",
				},
			},
			whoFlags(),
			membershipFlags(),
			changeFlags(),
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			role, groups, err := roleAndGroups(cmd)
			if err != nil {
				return err
			}
			return makeChange(ctx, cmd, streams, &propose.NewMembers{
				Groups: groups, Role: role, Who: whoOf(cmd, cmd.Args().Slice()[1:]), Rule: cmd.String("rule"),
				Everyone: cmd.Bool("everyone"), Membership: membershipOf(cmd),
			})
		},
	}
}

// membershipOf returns what the flags say of memberships.
func membershipOf(cmd *cli.Command) propose.Membership {
	m := propose.Membership{}
	for _, s := range estate.MembershipSettings() {
		if cmd.IsSet(s.Name) {
			m[s.Name] = fmt.Sprint(cmd.Value(s.Name))
		}
	}
	return m
}

// roleAndGroups returns the list of --as, and the groups that are meant.
func roleAndGroups(cmd *cli.Command) (string, ask.Groups, error) {
	if cmd.Args().Len() == 0 {
		return "", ask.Groups{}, ask.Errorf("%s needs a group", name(cmd))
	}
	role, err := roleOf(cmd)
	return role, groupsOf(cmd, cmd.Args().First()), err
}

func newMemberRemove(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "remove",
		Usage:     "remove members, owners or moderators from groups",
		ArgsUsage: "GROUP [ADDRESS...]",
		Description: "Somebody that a rule or a nested group brings in stays, and that is said.\n\n" +
			"Example: yorvet member remove '*@kelpmere.example' nora.teale@kelpmere.example",
		Flags: slices.Concat([]cli.Flag{roleFlag()}, whoFlags(), changeFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			role, groups, err := roleAndGroups(cmd)
			if err != nil {
				return err
			}
			return makeChange(ctx, cmd, streams, &propose.MemberRemoval{
				Groups: groups, Role: role, Who: whoOf(cmd, cmd.Args().Slice()[1:]),
			})
		},
	}
}

func newMemberSet(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "set",
		Usage:     "change what members get",
		ArgsUsage: "GROUP [ADDRESS...]",
		Description: "Without addresses, --from and --where it is about every named member.\n\n" +
			"Example: yorvet member set '*-crew@kelpmere.example' --where members --copy every",
		Flags: slices.Concat(whoFlags(), membershipFlags(), changeFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 {
				return ask.Errorf("member set needs a group")
			}
			m := membershipOf(cmd)
			if len(m) == 0 {
				return ask.Errorf("member set needs something to set: --copy, --invitations, --paused or --since")
			}
			return makeChange(ctx, cmd, streams, &propose.MemberSettings{
				Groups: groupsOf(cmd, cmd.Args().First()), Who: whoOf(cmd, cmd.Args().Slice()[1:]), Membership: m,
			})
		},
	}
}

func newMemberList(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list the members of groups as written, with what they get",
		ArgsUsage: "GROUP",
		Description: "Owners and moderators, too, unless --as says otherwise. As CSV it is a table for a " +
			"spreadsheet; cells\n" +
			"that a spreadsheet would take for a formula begin with an apostrophe.\n\n" +
			"Example: yorvet member list lost-property@kelpmere.example --format csv > desk.csv",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "as", Usage: "those of a `ROLE` only: member, owner or moderator"},
			&cli.StringSliceFlag{Name: "group", Usage: "a further `GROUP`; may be repeated"},
			groupsFlag(), exceptFlag(),
			&cli.StringFlag{Name: "where", Usage: "those that a `SELECTOR` picks"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			if cmd.Args().Len() == 0 && !cmd.IsSet("groups") {
				return ask.Errorf("member list needs a group")
			}
			groups, err := s.Groups(groupsOf(cmd, cmd.Args().Slice()...))
			if err != nil {
				return err
			}
			if cmd.IsSet("as") {
				if _, err := roleOf(cmd); err != nil {
					return err
				}
			}
			var wanted func(group, id estate.ID) bool
			if where := cmd.String("where"); where != "" {
				x, err := s.ParsePeople("--where", where)
				if err != nil {
					return err
				}
				wanted = func(group, id estate.ID) bool {
					return s.Estate.IsPerson(id) && s.Resolver.Eval(group, x, s.Resolver.Sender(s.Estate.Address(id)), resolve.Message{})
				}
			}
			return s.print(present.NewMemberList(s.Resolver, groups, cmd.String("as"), wanted))
		},
	}
}
