package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
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
			"comments, gates, send-as and what members chose; the changes are shown first.\n\n" +
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
		}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error { return runImport(ctx, cmd, streams) },
	}
}

func runImport(ctx context.Context, cmd *cli.Command, streams Streams) error {
	path := cmd.String("output")
	if path == "" {
		path = cmd.String("estate")
	}
	switch {
	case cmd.Args().Len() == 0:
		return usageError("import needs a source: a file, a URL, or a source file")
	case path == "":
		return usageError("import needs -o ESTATE, where the estate is to be")
	case source.Is(path):
		return usageError("%s is a source, expected an estate after -o", path)
	}
	options := source.Options{
		Map:        cmd.String("map"),
		Domains:    cmd.StringSlice("domain"),
		AllowFiles: cmd.Bool("allow-files"),
	}
	_, err := os.Stat(path)
	isNew := errors.Is(err, os.ErrNotExist)
	if !isNew {
		before, err := estatefile.Load(ctx, path)
		if err != nil {
			return loadError(path, err)
		}
		for _, domain := range domainsOf(before) {
			if !slices.Contains(options.Domains, domain) {
				options.Domains = append(options.Domains, domain)
			}
		}
	}
	merged, err := readSources(ctx, cmd.Args().Slice(), cmd.String("name"), options)
	if err != nil {
		return err
	}
	if isNew {
		return createEstate(ctx, cmd, streams, path, merged)
	}
	return updateEstate(ctx, cmd, streams, path, merged)
}

func domainsOf(e *estate.Estate) []string {
	var list []string
	for _, d := range e.Settings().Domains {
		list = append(list, d.Name)
	}
	return list
}

// readSources reads sources, at once, and makes one of them.
func readSources(ctx context.Context, names []string, name string, options source.Options) (*directory.Merged, error) {
	list, errs := make([]*directory.Directory, len(names)), make([]error, len(names))
	var done sync.WaitGroup
	for i, one := range names {
		done.Go(func() { list[i], errs[i] = source.Read(ctx, one, options) })
	}
	done.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, sourceError(err)
		}
	}
	return directory.Merge(list, name, options.Domains), nil
}

func sourceError(err error) error {
	if errors.Is(err, source.ErrNetwork) {
		return networkError(err)
	}
	return usageError("%w", err)
}

// newImportAnswer tells what sources come to.
func newImportAnswer(path string, m *directory.Merged) *present.Import {
	a := &present.Import{
		Estate:    path,
		People:    len(m.People),
		Groups:    len(m.Groups),
		Domains:   m.Domains,
		Conflicts: []present.ImportConflict{},
		Remarks:   []present.ImportRemark{},
		Gone:      present.ImportGone{Groups: []string{}, People: []string{}},
		Files:     []string{},
	}
	for _, g := range m.Groups {
		a.Members += len(g.Members)
	}
	for _, c := range m.Conflicts {
		a.Conflicts = append(
			a.Conflicts,
			present.ImportConflict{
				Who:      c.Who,
				What:     c.What,
				Taken:    c.Taken.Value,
				TakenAt:  c.Taken.Place,
				Left:     c.Left.Value,
				LeftAt:   c.Left.Place,
				Sentence: c.String(),
			},
		)
	}
	for _, r := range m.Remarks {
		a.Remarks = append(a.Remarks, present.ImportRemark{Source: r.Source, Line: r.Line, Text: r.Text, Lost: r.Harm})
	}
	return a
}

func createEstate(ctx context.Context, cmd *cli.Command, streams Streams, path string, m *directory.Merged) error {
	format, err := formatOf(cmd)
	if err != nil {
		return err
	}
	if len(m.Domains) == 0 {
		return usageError("the sources name no domain that is yours, say --domain")
	}
	// The files are made while it is tried whether they are an estate.
	files := make(chan *estatefile.Prepared, 1)
	go func() { files <- m.Prepare(path) }()
	_, err = m.Build()
	prepared := <-files
	if err != nil {
		return loadError(path, err)
	}
	a := newImportAnswer(path, m)
	a.Files = prepared.Files()
	if !cmd.Bool("preview") {
		if err := prepared.Create(ctx); err != nil {
			return usageError("%w", err)
		}
		a.Written = true
	}
	s := &session{ctx: ctx, cmd: cmd, streams: streams, format: format}
	return s.print(a)
}

// updateEstate brings an estate to where its sources are.
func updateEstate(ctx context.Context, cmd *cli.Command, streams Streams, path string, m *directory.Merged) error {
	remarks := m.Remarks
	return changeEstateAt(ctx, cmd, streams, path, func(c *changer) error {
		m.Remarks = slices.Clone(remarks) // of an attempt before, none
		for _, domain := range cmd.StringSlice("domain") {
			if !c.e.InsideDomain(strings.ToLower(domain)) {
				c.draft.Apply(change.AddDomain{Name: domain})
			}
		}
		gone := m.Update(c.draft, directory.Options{Today: c.r.Today(), Prune: cmd.Bool("prune")})
		c.wrap = func(change *present.Change) present.Answer {
			a := newImportAnswer(path, m)
			a.Change, a.Written = change, change.Written
			a.Gone = present.ImportGone{
				Groups: append(a.Gone.Groups, gone.Groups...),
				People: append(a.Gone.People, gone.People...),
				Pruned: cmd.Bool("prune"),
			}
			return a
		}
		return nil
	})
}

// loadEstate loads an estate, or makes one of a source.
func loadEstate(ctx context.Context, path string) (*estate.Estate, error) {
	if !source.Is(path) {
		e, err := estatefile.Load(ctx, path)
		if err != nil {
			return nil, loadError(path, err)
		}
		return e, nil
	}
	m, err := readSources(ctx, []string{path}, "", source.Options{})
	if err != nil {
		return nil, err
	}
	e, err := m.Build()
	if err != nil {
		return nil, loadError(path, err)
	}
	return e, nil
}

// overlaid returns an estate on disk as it would be if it followed a source, and
// as it is. What of the source could not be taken goes to w.
func overlaid(
	ctx context.Context,
	from, path string,
	today estate.Day,
	w io.Writer,
) (then, now *estate.Estate, err error) {
	draft, err := estatefile.Open(ctx, path)
	if err != nil {
		return nil, nil, loadError(path, err)
	}
	m, err := readSources(ctx, []string{from}, "", source.Options{Domains: domainsOf(draft.Before())})
	if err != nil {
		return nil, nil, err
	}
	m.Update(draft, directory.Options{Today: today})
	tellRemarks(w, m.Remarks)
	then, err = draft.Estate()
	if err != nil {
		return nil, nil, loadError(path, err)
	}
	return then, draft.Before(), nil
}

// tellRemarks tells what of a source was not taken, in short.
func tellRemarks(w io.Writer, remarks []directory.Remark) {
	const most = 5
	told := 0
	for _, r := range remarks {
		if !r.Harm {
			continue
		}
		if told++; told <= most {
			fmt.Fprintln(w, present.Clean(r.String()))
		}
	}
	if told > most {
		fmt.Fprintf(
			w,
			"... and %d more of the source that is not taken; yorvet import --preview --all shows it\n",
			told-most,
		)
	}
}

// compareSides returns the resolvers of two estates, either of which may be a
// source. Beside an estate on disk, a source is taken for that estate as it
// would be if it followed the source: what only the estate knows is no
// difference.
func compareSides(
	ctx context.Context,
	older, newer string,
	today estate.Day,
	w io.Writer,
) (sides [2]*resolve.Resolver, err error) {
	names := [2]string{older, newer}
	for i, name := range names {
		other := names[1-i]
		if source.Is(name) && !source.Is(other) && onDisk(other) {
			then, now, err := overlaid(ctx, name, other, today, w)
			if err != nil {
				return sides, err
			}
			sides[i], sides[1-i] = resolve.New(then, today), resolve.New(now, today)
			return sides, nil
		}
	}
	var errs [2]error
	var done sync.WaitGroup
	for i, name := range names {
		done.Go(func() {
			var e *estate.Estate
			if e, errs[i] = loadSide(ctx, name); errs[i] == nil {
				sides[i] = resolve.New(e, today)
			}
		})
	}
	done.Wait()
	return sides, errors.Join(errs[:]...)
}

func onDisk(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}
