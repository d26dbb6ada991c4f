package cli

import (
	"slices"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
)

// whoFlags are the flags that say who is meant.
func whoFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "group", Usage: "a further `GROUP`; may be repeated"},
		groupsFlag(), exceptFlag(),
		&cli.StringFlag{
			Name:  "from",
			Usage: "take addresses from a `FILE`, or from - for standard input, as they are pasted",
		},
		&cli.StringFlag{Name: "where", Usage: "those that a `SELECTOR` picks"},
		&cli.BoolFlag{Name: "nest", Usage: "a group that is pasted becomes a member"},
		&cli.BoolFlag{Name: "as-pasted", Usage: "take pasted addresses that look mistyped"},
	}
}

// groupsFlag picks groups by a filter.
func groupsFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "groups",
		Usage: "only groups that a `FILTER` matches, as in '(&(kind=list)(outside=admit))'",
	}
}

// groupsOf returns the groups that names and --group mean, or all, of those that --groups and --except leave.
func groupsOf(cmd *cli.Command, names ...string) ask.Groups {
	return ask.Groups{Names: slices.Concat(names, cmd.StringSlice("group")), Filter: cmd.String("groups"),
		Except: cmd.StringSlice("except")}
}

// whoOf returns who addresses and flags mean.
func whoOf(cmd *cli.Command, addresses []string) propose.Who {
	return propose.Who{Addresses: addresses, From: cmd.String("from"), Where: cmd.String("where"), Nest: cmd.Bool("nest"),
		AsPasted: cmd.Bool("as-pasted")}
}

// exceptFlag names groups that are not meant.
func exceptFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "except", Usage: "not this `GROUP`, which may hold *; may be repeated"}
}

func roleFlag() cli.Flag {
	return &cli.StringFlag{Name: "as", Usage: "in this `ROLE`: member, owner or moderator", Value: "member"}
}

// roleOf returns the list of a group that --as means, or "" for its members.
func roleOf(cmd *cli.Command) (string, error) {
	switch as := cmd.String("as"); as {
	case "member":
		return "", nil
	case "owner", "moderator":
		return as + "s", nil
	default:
		return "", ask.Unknown("role", as, present.Roles())
	}
}
