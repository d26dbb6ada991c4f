package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
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
	options := source.Options{
		Map:        cmd.String("map"),
		Domains:    cmd.StringSlice("domain"),
		AllowFiles: cmd.Bool("allow-files"),
		AllowEmpty: cmd.Bool("allow-empty"),
	}
	for _, domain := range options.Domains {
		if _, err := address.ParseDomain(domain); err != nil {
			return ask.Errorf("--domain: %w", err)
		}
	}
	_, err := os.Stat(path)
	isNew := errors.Is(err, os.ErrNotExist)
	var known func(string) bool
	if !isNew {
		before, err := estatefile.Load(ctx, path)
		if err != nil {
			return ask.LoadError(path, err)
		}
		known = ask.Has(before)
		for _, domain := range ask.DomainsOf(before) {
			if !slices.Contains(options.Domains, domain) {
				options.Domains = append(options.Domains, domain)
			}
		}
	}
	merging := directory.MergeOptions{Name: cmd.String("name"), Domains: options.Domains, Known: known,
		Prefer: cmd.StringSlice("prefer")}
	merged, err := ask.ReadSources(ctx, cmd.Args().Slice(), options, merging)
	if err != nil {
		return err
	}
	if len(options.Domains) == 0 && merged.NeedsDomain && len(merged.Domains) > 0 && !slices.Contains(cmd.Args().Slice(), "-") {
		// The domains that were found name groups, now rather than at the next import.
		options.Domains = merged.Domains
		if merged, err = ask.ReadSources(ctx, cmd.Args().Slice(), options, merging); err != nil {
			return err
		}
	}
	remember, err := ask.Forget(ctx, cmd.String("known"), merged)
	if err != nil {
		return err
	}
	if isNew {
		err = createEstate(ctx, cmd, streams, path, merged)
	} else {
		err = updateEstate(ctx, cmd, streams, path, merged)
	}
	if failed := remember(); failed != nil && (err == nil || errors.Is(err, errWrong)) {
		return failed
	}
	return err
}

// ungated returns how many groups no source has a gate for, and arguments of group set that name
// just these.
func ungated(groups []estatefile.NewGroup) (n int, by string) {
	var names []string
	rosters, alike := false, false
	for _, g := range groups {
		kind, gate, written := "", []string(nil), false
		for _, f := range g.Fields {
			switch f.Name {
			case "kind":
				kind = f.Text
			case "gate":
				gate, written = f.List, true
			}
		}
		switch {
		case kind == "roster":
			rosters = true
		case !written:
			names = append(names, g.Fields[0].Text)
		default:
			alike = alike || slices.ContainsFunc(gate, func(rule string) bool { return strings.EqualFold(rule, defaultGate) })
		}
	}
	switch {
	case len(names) == len(groups):
		by = "'*'"
	case len(names) <= 3 || alike:
		by = strings.Join(names, " ")
	case rosters:
		by = "'*' --groups '(&(gate=" + defaultGate + ")(!(kind=roster)))'"
	default:
		by = "'*' --groups '(gate=" + defaultGate + ")'"
	}
	return len(names), by
}

// defaultGate is the gate of a group that has none written.
const defaultGate = "admit inside"

// newImportAnswer tells what sources come to.
func newImportAnswer(path string, m *directory.Merged, inFull bool) *present.Import {
	a := &present.Import{
		InFull:    inFull,
		Coverage:  []present.ImportCoverage{},
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
	a.Ungated, a.UngatedBy = ungated(m.Groups)
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
	for _, c := range m.Coverage {
		a.Coverage = append(a.Coverage, newCoverage(c))
	}
	return a
}

// newCoverage returns what of a source was taken as a part of an answer.
func newCoverage(c *directory.Coverage) present.ImportCoverage {
	out := present.ImportCoverage{
		Source: c.Source, Records: c.Records, Skipped: c.Skipped,
		Parts: []present.ImportPart{}, Columns: []present.ImportColumn{}, Words: []present.ImportWord{},
		Absent: append([]string{}, c.Absent...), Lost: []string{},
	}
	for _, one := range c.Lost {
		out.Lost = append(out.Lost, one.String())
	}
	for _, one := range c.Parts {
		out.Parts = append(out.Parts, present.ImportPart(one))
	}
	for _, one := range c.Columns {
		if strings.EqualFold(one.Name, "objectClass") { // it says what an entry is
			one.Taken = one.Records
		}
		out.Columns = append(out.Columns, present.ImportColumn(one))
	}
	for _, one := range c.Words {
		out.Words = append(out.Words, present.ImportWord(one))
	}
	return out
}

func createEstate(ctx context.Context, cmd *cli.Command, streams Streams, path string, m *directory.Merged) error {
	format, err := formatOf(cmd)
	if err != nil {
		return err
	}
	if len(m.Domains) == 0 {
		return ask.Errorf("the sources name no domain that is yours, say --domain")
	}
	// The files are made while it is tried whether they are an estate.
	files := make(chan *estatefile.Prepared, 1)
	go func() { files <- m.Prepare(path) }()
	_, err = m.Build()
	prepared := <-files
	if err != nil {
		return ask.LoadError(path, err)
	}
	a := newImportAnswer(path, m, cmd.Bool("coverage"))
	a.Files = prepared.Files()
	if !cmd.Bool("preview") {
		if err := prepared.Create(ctx); err != nil {
			return ask.Errorf("%w", err)
		}
		// It is an estate if it can be loaded as one.
		if _, err := estatefile.Load(ctx, path); err != nil {
			return fmt.Errorf("yorvet: %s was written, and is no estate\n%w", path, ask.LoadError(path, err))
		}
		a.Written = true
	}
	s := &session{ctx: ctx, cmd: cmd, streams: streams, format: format}
	return errors.Join(s.print(a), ask.Whole(m))
}

// guarded is of how many removals there have to be more, and more than a part in so many,
// for a change to be refused.
const (
	guarded     = 10
	guardedPart = 20
	// fewestGroups is from how many groups on a source that shows none any more is not believed.
	fewestGroups = 3
)

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

// guard refuses a change that removes a good part of an estate, unless --allow-removal says
// that so many may go.
func guard(cmd *cli.Command, e *estate.Estate, groups, memberships, people int) error {
	for _, one := range []struct {
		what      string
		gone, all int
	}{
		{"groups", groups, e.Groups()},
		{"memberships", memberships, e.Memberships()},
		{"people", people, e.People()},
	} {
		if one.gone <= guarded || one.gone*guardedPart <= one.all || one.gone <= cmd.Int("allow-removal") {
			continue
		}
		return ask.Errorf("the change would remove %d of %d %s; nothing is written. If that is intended: --allow-removal %d",
			one.gone, one.all, one.what, one.gone)
	}
	return nil
}

// guardSources refuses a change in which a source, even one that does not manage its groups, has lost half of
// what it had, or all: it may have been cut off, or have lost a column.
func guardSources(cmd *cli.Command, gone directory.Gone) error {
	for _, name := range slices.Sorted(maps.Keys(gone.Shrunk)) {
		n, all := gone.Shrunk[name][0], gone.Shrunk[name][1]
		if n < fewestGroups || n <= cmd.Int("allow-removal") {
			continue
		}
		shows := "does not show " + strconv.Itoa(n) + " of its groups any more"
		if n == all {
			shows = "shows no group any more"
		}
		return ask.Errorf("%s %s, and the change would remove %d of its %d groups; nothing is written. If that is "+
			"intended: --allow-removal %d", name, shows, n, all, n)
	}
	for _, name := range slices.Sorted(maps.Keys(gone.Reset)) {
		if n, all := gone.Reset[name][0], gone.Reset[name][1]; n >= fewestGroups && 2*n >= all &&
			n > cmd.Int("allow-removal") {
			return ask.Errorf("the sources say no %s any more of %d of the %d groups that have one; nothing is written. "+
				"If that is intended: --allow-removal %d", name, n, all, n)
		}
	}
	return nil
}

// guardOpening refuses a change by which strangers from outside may write to more groups than
// --allow-opening says, where they were held or refused: a source may have lost a column.
func guardOpening(cmd *cli.Command, c *changer) error {
	later, err := c.draft.Estate()
	if err != nil {
		return nil // which is reported when it is written
	}
	now := resolve.New(later, c.Resolver.Today())
	admits := func(r *resolve.Resolver, g estate.ID) bool {
		return r.Gate(g).Post(r.Strangers().Outside, resolve.Message{}).Verdict == estate.Admit
	}
	var opened []string
	for g := range estate.ID(c.Estate.Groups()) {
		id, ok := later.Exact(c.Estate.Address(g))
		if ok && later.IsGroup(id) && !admits(c.Resolver, g) && admits(now, id) {
			opened = append(opened, c.Estate.Address(g).String())
		}
	}
	if n := len(opened); n >= fewestGroups && n > cmd.Int("allow-opening") {
		return ask.Errorf("the change would open %d groups to anyone outside: %s; nothing is written. If that is "+
			"intended: --allow-opening %d", n, severalOf(opened), n)
	}
	return nil
}

// updateEstate brings an estate to where its sources are.
func updateEstate(ctx context.Context, cmd *cli.Command, streams Streams, path string, m *directory.Merged) error {
	remarks, conflicts := m.Remarks, m.Conflicts
	return changeEstateAt(ctx, cmd, streams, path, func(c *changer) error {
		m.Remarks, m.Conflicts = slices.Clone(remarks), slices.Clone(conflicts) // of an attempt before, none
		for _, domain := range cmd.StringSlice("domain") {
			if a, err := address.ParseDomain(domain); err == nil && !c.Estate.InsideDomain(a) {
				c.draft.Apply(change.AddDomain{Name: domain})
			}
		}
		gone := m.Update(c.draft, directory.Options{Today: c.Resolver.Today(), Prune: cmd.Bool("prune")})
		people := 0
		if cmd.Bool("prune") {
			people = len(gone.People)
		}
		c.after = ask.Whole(m)
		c.refused = guard(cmd, c.Estate, len(gone.Groups), gone.Memberships, people)
		if c.refused == nil {
			c.refused = guardSources(cmd, gone)
		}
		if c.refused == nil {
			c.refused = guardOpening(cmd, c)
		}
		if c.refused != nil && cmd.Bool("preview") {
			c.note("%s", strings.TrimPrefix(c.refused.Error(), "yorvet: "))
		}
		c.wrap = func(change *present.EstateChange) present.Answer {
			a := newImportAnswer(path, m, cmd.Bool("coverage"))
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

// tellRemarks tells what of a source was not taken, in short.
func tellRemarks(w io.Writer, remarks []directory.Remark) {
	for _, line := range ask.RemarkLines(remarks) {
		fmt.Fprintln(w, present.Clean(line))
	}
}
