package cli

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/directory/handout"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
)

func newExport(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "export",
		Usage: "write the estate, or a change to it, for another system",
		Description: "Without --since it is the whole estate. With --since it is the change that takes the groups of one\n" +
			"system from the estate OLD to this one: LDIF change records, a SCIM bulk request of PATCH bodies, or\n" +
			"steps as a table or lines of JSON, which --template renders into what other tools take.\n" +
			"OLD may be a source, such as the directory itself: then the change is what brings it to the estate,\n" +
			"and entries go by the names that they have there. Groups that are managed elsewhere are refused by\n" +
			"name. What the format cannot hold is listed.\n\n" +
			"Example: yorvet --estate changed export --as ldif --since estate --for hq-directory",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "as", Usage: "the `FORMAT`: " + ask.OrList(handout.Formats())},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write to a `FILE`; a whole estate as csv " +
				"to a folder"},
			&cli.StringFlag{Name: "template", Usage: "a `FILE` that renders each step of the change (Go text/template)"},
			&cli.BoolFlag{Name: "force", Usage: "overwrite files that are there"},
			&cli.StringFlag{Name: "since", Usage: "only what has changed since the estate or source `OLD`"},
			&cli.StringFlag{
				Name:  "for",
				Usage: "the `SYSTEM` to change (default: the name of the source OLD)",
			},
			&cli.StringFlag{
				Name:  "ids",
				Usage: "a `SOURCE` for the names of entries (default: OLD, if that is a source)",
			},
			&cli.StringFlag{Name: "map", Usage: "a `FILE` that says which attributes are what"},
			&cli.IntFlag{
				Name:        "bulk",
				Usage:       "put at most `N` operations in a SCIM request; 0: the service takes no bulk requests",
				DefaultText: "what the service says",
			},
			allowRemoval(),
			&cli.StringFlag{
				Name:  "base",
				Usage: "the `DN` below which new LDAP entries are (default: made of the first domain)",
			},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error { return runExport(ctx, cmd, streams) },
	}
}

func runExport(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.Args().Len() > 0 {
		return ask.Errorf("export takes flags only, not %q", cmd.Args().First())
	}
	if cmd.IsSet("template") && cmd.String("as") != "" {
		return ask.Errorf("--template renders a change, so it goes with --since and without --as")
	}
	_, at, err := prepare(ctx, cmd, streams)
	if err != nil {
		return err
	}
	q := &ask.Export{
		As: cmd.String("as"), Template: cmd.String("template"), Since: cmd.String("since"), For: cmd.String("for"),
		IDs: cmd.String("ids"), Map: cmd.String("map"), Base: cmd.String("base"), AllowRemoval: cmd.Int("allow-removal"),
	}
	if bulk := cmd.Int("bulk"); cmd.IsSet("bulk") {
		q.Bulk = &bulk
	}
	out := output{path: cmd.String("output"), force: cmd.Bool("force"), streams: streams}
	if err := q.Check(); err != nil {
		return err
	}
	if q.InTables() && out.path == "" {
		return ask.Errorf("csv is three tables, say in which folder: -o FOLDER")
	}
	if !q.InTables() {
		if err := out.mayWrite(out.path); err != nil {
			return err // before anything is listed
		}
	}
	x, err := q.Make(ctx, at)
	if err != nil {
		return err
	}
	if x.Tables != nil {
		err = out.writeTables(x.Tables)
	} else {
		err = out.write(x.Data)
	}
	for _, line := range x.Notes(cmd.Bool("all")) {
		fmt.Fprintln(streams.Err, present.Clean(line))
	}
	switch {
	case err != nil:
		return err
	case len(x.Refused) > 0:
		return errWrong
	}
	return nil
}

// output is where files are written.
type output struct {
	path    string // "": standard output
	force   bool   // what is there is overwritten
	streams Streams
}

// write writes what comes out to standard output or a file.
func (o *output) write(data []byte) error {
	path := o.path
	if path == "" {
		_, err := o.streams.Out.Write(data)
		return err
	}
	if err := o.mayWrite(path); err != nil {
		return err
	}
	if info, err := os.Stat(path); err == nil && info.Mode()&fs.ModeDevice != 0 {
		if err := os.WriteFile(path, data, 0o644); err != nil { // a device is not replaced
			return ask.Errorf("%w", err)
		}
		return nil
	}
	if err := localfile.Write(path, data, 0o644); err != nil {
		return ask.Errorf("%w", err)
	}
	return nil
}

// mayWrite refuses a path at which a file is, unless it is to be overwritten.
func (o *output) mayWrite(path string) error {
	if path == "" {
		return nil
	}
	info, err := os.Lstat(path)
	if err != nil || info.Mode()&fs.ModeDevice != 0 || info.Mode().IsRegular() && o.force {
		return nil
	}
	return ask.Errorf("%s exists; use --force", path)
}

// writeTables writes the files of a folder.
func (o *output) writeTables(files map[string][]byte) error {
	dir := o.path
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := o.mayWrite(filepath.Join(dir, name)); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return ask.Errorf("%w", err)
	}
	for name, data := range files {
		if err := localfile.Write(filepath.Join(dir, name), data, 0o644); err != nil {
			return ask.Errorf("%w", err)
		}
	}
	return nil
}
