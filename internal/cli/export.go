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
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/handout"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
	"yorvet.example/yorvet/internal/source"
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

// exporter is one run of the command.
type exporter struct {
	*session
	handout.Writer
}

func runExport(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.Args().Len() > 0 {
		return ask.Errorf("export takes flags only, not %q", cmd.Args().First())
	}
	as, formats := cmd.String("as"), handout.Formats()
	switch {
	case cmd.IsSet("template") && (!cmd.IsSet("since") || as != ""):
		return ask.Errorf("--template renders a change, so it goes with --since and without --as")
	case cmd.IsSet("template"):
		as = "jsonl"
	case as == "":
		return ask.Errorf("export needs --as, one of %s", ask.OrList(formats))
	case !slices.Contains(formats, as):
		return ask.Unknown("format", as, formats)
	case cmd.IsSet("since") && !handout.HoldsChanges(as):
		return ask.Errorf("--since: a change can be exported as ldif, scim, csv or jsonl, not as %s", as)
	case cmd.Int("bulk") < 0:
		return ask.Errorf("--bulk: expected 0 or more operations")
	case !cmd.IsSet("since") && !handout.HoldsEstates(as):
		return ask.Errorf("%s holds a change, so it goes with --since", as)
	case as == "csv" && !cmd.IsSet("output") && !cmd.IsSet("since"):
		return ask.Errorf("csv is three tables, say in which folder: -o FOLDER")
	}
	s, err := open(ctx, cmd, streams)
	if err != nil {
		return err
	}
	x := &exporter{s, handout.Writer{Format: as, Base: cmd.String("base")}}
	if path := cmd.String("output"); path != "" && (as != "csv" || cmd.IsSet("since")) {
		if err := x.mayWrite(path); err != nil {
			return err // before anything is listed
		}
	}
	if err := x.findMap(); err != nil {
		return err
	}
	if cmd.IsSet("since") {
		return x.difference()
	}
	return x.whole()
}

// findMap reads the map, and the names of entries, that the command line means.
func (x *exporter) findMap() error {
	if path := x.cmd.String("map"); path != "" {
		var err error
		if x.Map, err = directory.ReadMap(x.ctx, path); err != nil {
			return ask.Errorf("%w", err)
		}
	}
	name := x.cmd.String("ids")
	if name == "" && source.Is(x.cmd.String("since")) {
		name = x.cmd.String("since")
	}
	if name != "" {
		d, err := source.Read(x.ctx, name, source.Options{Map: x.cmd.String("map"), Domains: ask.DomainsOf(x.Estate), Identify: true})
		if err != nil {
			return ask.SourceError(err)
		}
		if x.IDs = directory.IdentifiersOf(d); x.Map == nil {
			x.Map = d.Map
		}
		x.Limits = d.Limits
	}
	if x.cmd.IsSet("bulk") {
		most := x.cmd.Int("bulk")
		x.Limits.Single, x.Limits.Operations = most == 0, most
	}
	return nil
}

// whole exports the whole estate.
func (x *exporter) whole() error {
	files, losses, err := x.Whole(x.Estate)
	if err != nil {
		return ask.Errorf("%w", err)
	}
	if data, one := files[""]; one {
		err = x.write(data)
	} else {
		err = x.writeTables(files)
	}
	x.tell(losses)
	return err
}

// tell lists what is lost and what is made up, on standard error.
func (x *exporter) tell(losses []directory.Loss) {
	switch {
	case x.Requests > 1 && x.Limits.Single:
		fmt.Fprintf(x.streams.Err, "%d requests, one a line: the service takes no bulk requests.\n", x.Requests)
	case x.Requests > 1:
		fmt.Fprintf(x.streams.Err, "%d bulk requests, one a line: the service takes no more in one.\n", x.Requests)
	}
	if n, example := x.Made.Count(); n > 0 {
		fmt.Fprintf(x.streams.Err, "Names of entries made up, as no source gives them (--ids SOURCE does): %d, such as %s\n",
			n, present.Clean(example))
	}
	if len(losses) == 0 {
		return
	}
	fmt.Fprintf(x.streams.Err, "%s cannot hold, and it is left out:\n", handout.Called(x.Format))
	const most = 40
	for i, loss := range losses {
		if i == most && !x.cmd.Bool("all") {
			fmt.Fprintf(x.streams.Err, "  and %d more kinds (--all shows them)\n", len(losses)-i)
			return
		}
		fmt.Fprintf(x.streams.Err, "  %s\n", present.Clean(loss.String()))
	}
}

// write writes what comes out to standard output or a file.
func (x *exporter) write(data []byte) error {
	path := x.cmd.String("output")
	if path == "" {
		_, err := x.streams.Out.Write(data)
		return err
	}
	if err := x.mayWrite(path); err != nil {
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
func (x *exporter) mayWrite(path string) error {
	info, err := os.Lstat(path)
	if err != nil || info.Mode()&fs.ModeDevice != 0 || info.Mode().IsRegular() && x.cmd.Bool("force") {
		return nil
	}
	return ask.Errorf("%s exists; use --force", path)
}

// writeTables writes the files of a folder.
func (x *exporter) writeTables(files map[string][]byte) error {
	dir := x.cmd.String("output")
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := x.mayWrite(filepath.Join(dir, name)); err != nil {
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

// mostTemplate is the size in bytes of a template that is read.
const mostTemplate = 1 << 20

// rendered returns a change in the format that is asked for, or by a template.
func (x *exporter) rendered(d *directory.Difference) ([]byte, []directory.Loss, error) {
	path := x.cmd.String("template")
	if path == "" {
		return x.Change(d)
	}
	text, err := localfile.Read(x.ctx, path, mostTemplate)
	if err != nil {
		return nil, nil, err
	}
	data, err := handout.Render(path, string(text), handout.Steps(d))
	return data, nil, err
}

// difference exports what has changed since another estate or source.
func (x *exporter) difference() error {
	since, system := x.cmd.String("since"), x.cmd.String("for")
	var older *estate.Estate
	var err error
	if source.Is(since) && system == "" {
		if system, err = source.Name(x.ctx, since); err != nil {
			return ask.Errorf("%w", err)
		}
	}
	if source.Is(since) && !source.Is(estatePath(x.cmd)) {
		d, err := ask.Overlay(x.ctx, []string{since}, estatePath(x.cmd), x.Resolver.Today())
		if err != nil {
			return err
		}
		tellRemarks(x.streams.Err, d.Merged.Remarks)
		if err := ask.Whole(d.Merged); err != nil {
			return err
		}
		older = d.Then
	} else if older, err = ask.LoadSide(x.ctx, since); err != nil {
		return err
	}
	if system == "" {
		return ask.Errorf("--since needs --for with the system to change; groups name theirs with managed-in")
	}
	d := directory.Differ(older, x.Estate, system)
	groups, memberships := 0, 0
	for _, g := range d.Groups {
		if memberships += len(g.Drop); g.New == estate.None {
			groups++
			memberships += len(older.Entries(g.Old))
		}
	}
	if err := propose.GuardRemoval(x.cmd.Int("allow-removal"), older, groups, memberships, 0); err != nil {
		return err
	}
	data, losses, err := x.rendered(d)
	if err != nil {
		return ask.Errorf("%w", err)
	}
	err = x.write(data)
	x.tell(losses)
	if err != nil {
		return err
	}
	if len(d.Refused) > 0 {
		fmt.Fprintf(x.streams.Err, "Not for %s, and left out:\n", present.Clean(system))
		for _, r := range d.Refused {
			fmt.Fprintf(x.streams.Err, "  %s\n", present.Clean(r.String()))
		}
		return errWrong
	}
	return nil
}
