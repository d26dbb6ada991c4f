package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/propose"
	"yorvet.example/yorvet/internal/source"
)

func newImport(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "import",
		Usage:     "create or update an estate from directories and files",
		ArgsUsage: "SOURCE...",
		Description: "A SOURCE is a file (LDIF, SCIM resources, CSV, alias file, vCard, a list as pasted), a URL " +
			"(ldap, ldaps,\n" +
			"ldapi, https for SCIM), FORMAT:PATH, or a source file with a login and a map. Of several, what an\n" +
			"earlier one says counts more; where they differ is listed. An estate that is there already keeps its\n" +
			"comments, gates, send-as and what members chose; the changes are shown first (yorvet compare\n" +
			"SOURCE ESTATE tells by its exit code whether there are any). A source that gave only a part takes nothing away; the exit code is 3.\n\n" +
			"Example: yorvet import list:volunteers.txt --domain kelpmere.example -o fair.yaml",
		Flags: append([]cli.Flag{
			&cli.StringFlag{
				Name:    "output",
				Aliases: []string{"o"},
				Usage:   "the `ESTATE`: a folder, or a file that ends in .yaml",
			},
			&cli.StringFlag{Name: "map", Usage: "a `FILE` that says which attributes become what"},
			&cli.StringSliceFlag{
				Name:  "domain",
				Usage: "a `DOMAIN` of the estate; may be repeated (default: those of the groups)",
			},
			&cli.StringFlag{Name: "name", Usage: "what a new estate is called"},
			&cli.BoolFlag{Name: "prune", Usage: "take out people that no source has"},
			&cli.BoolFlag{Name: "allow-files", Usage: "read files that a source names"},
			&cli.BoolFlag{Name: "coverage", Usage: "say of each column or attribute whether it was taken"},
			&cli.BoolFlag{Name: "allow-empty", Usage: "a list of the map may be empty in all records"},
			allowRemoval(),
			allowOpening(),
			&cli.StringSliceFlag{
				Name:  "prefer",
				Usage: "let `ADDRESS`, a main address, have what another person or group claims as an alias, or its aliases",
			},
			knownFlag(),
		}, changeFlags()...),
		Commands: []*cli.Command{newDraftMap(streams)},
		Action:   func(ctx context.Context, cmd *cli.Command) error { return runImport(ctx, cmd, streams) },
	}
}

func runImport(ctx context.Context, cmd *cli.Command, streams Streams) error {
	path := cmd.String("output")
	if path == "" {
		path = cmd.String("estate")
	}
	switch {
	case cmd.Args().Len() == 0:
		return ask.Errorf("import needs a source: a file, a URL, or a source file")
	case path == "":
		return ask.Errorf("import needs -o ESTATE, where the estate is to be")
	case source.Is(path):
		return ask.Errorf("%s is a source, expected an estate after -o", path)
	}
	s, at, err := prepare(ctx, cmd, streams)
	if err != nil {
		return err
	}
	at.Path, at.Named = path, true
	x := &propose.Import{
		Sources: cmd.Args().Slice(),
		Options: source.Options{
			Map: cmd.String("map"), Domains: cmd.StringSlice("domain"), AllowFiles: cmd.Bool("allow-files"),
			AllowEmpty: cmd.Bool("allow-empty"),
		},
		Name: cmd.String("name"), Prefer: cmd.StringSlice("prefer"), Known: cmd.String("known"), Prune: cmd.Bool("prune"),
		Coverage: cmd.Bool("coverage"), AllowRemoval: cmd.Int("allow-removal"), AllowOpening: cmd.Int("allow-opening"),
	}
	r, err := x.Change(ctx, at, s.manner())
	return s.say(r, err)
}

func newDraftMap(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "draft-map",
		Usage:     "write a map to start from for a table, a workbook or JSON",
		ArgsUsage: "FILE",
		Description: "Looks at the columns and their values: addresses, names, days, words with what they may " +
			"mean, lists,\n" +
			"records within records. What it guessed is marked; it imports as it is.\n\n" +
			"Example: yorvet import draft-map volunteers.csv",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write to a `FILE`, which must not be there yet"},
			&cli.StringFlag{Name: "sheet", Usage: "look at the `SHEET` of a workbook that is called so (default: the first)"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return ask.Errorf("draft-map needs one file")
			}
			text, err := source.DraftMap(ctx, cmd.Args().First(), cmd.String("sheet"))
			if err != nil {
				return ask.Errorf("%w", err)
			}
			path := cmd.String("output")
			if path == "" {
				_, err = streams.Out.Write([]byte(text))
				return err
			}
			if _, err := os.Lstat(path); err == nil {
				return ask.Errorf("%s exists", path)
			}
			if err := localfile.Write(path, []byte(text), 0o644); err != nil {
				return ask.Errorf("%w", err)
			}
			fmt.Fprintf(streams.Out, "Wrote %s\nNext: yorvet import %s --map %s -o ESTATE --coverage\n", path,
				cmd.Args().First(), path)
			return nil
		},
	}
}

func allowRemoval() cli.Flag {
	return &cli.IntFlag{
		Name:        "allow-removal",
		Usage:       "let a change remove up to `N` groups, memberships or people, where that is more than 5 %",
		DefaultText: "10",
	}
}

func allowOpening() cli.Flag {
	return &cli.IntFlag{
		Name:        "allow-opening",
		Usage:       "let a change open up to `N` groups to anyone outside",
		DefaultText: "2",
	}
}
