package ask

import (
	"context"
	"fmt"
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/handout"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/source"
)

// Export asks for an estate, or a change of it, as another system takes it.
type Export struct {
	As           string // the format
	Template     string // a file that renders each step of a change, instead; "": none
	Since        string // only what has changed since this estate or source; "": the whole estate
	For          string // the system to change; "": that of the source Since
	IDs          string // a source for the names of entries; "": Since, if that is one
	Map          string // a file that says which attributes are what; "": none
	Base         string // the DN below which new entries are; "": made of the first domain
	Bulk         *int   // how many operations a request holds at most, 0: one; nil: what the service says
	AllowRemoval int    // how many removals of a kind are made in any case
}

// Exported is what an export comes to.
type Exported struct {
	Data    []byte
	Tables  map[string][]byte   // by file name, instead of Data
	Refused []directory.Refusal // what is not of the system, and left out

	losses []directory.Loss
	system string
	writer *handout.Writer
}

// InTables reports whether the export is several tables, rather than one text.
func (q *Export) InTables() bool { return q.As == "csv" && q.Since == "" }

// Check refuses what cannot be exported.
func (q *Export) Check() error {
	formats := handout.Formats()
	if q.Template != "" {
		q.As = "jsonl"
	}
	switch {
	case q.Template != "" && q.Since == "":
		return Errorf("--template renders a change, so it goes with --since and without --as")
	case q.As == "":
		return Errorf("export needs --as, one of %s", OrList(formats))
	case !slices.Contains(formats, q.As):
		return Unknown("format", q.As, formats)
	case q.Since != "" && !handout.HoldsChanges(q.As):
		return Errorf("--since: a change can be exported as ldif, scim, csv or jsonl, not as %s", q.As)
	case q.Bulk != nil && *q.Bulk < 0:
		return Errorf("--bulk: expected 0 or more operations")
	case q.Since == "" && !handout.HoldsEstates(q.As):
		return Errorf("%s holds a change, so it goes with --since", q.As)
	}
	return nil
}

// Make makes the export.
func (q *Export) Make(ctx context.Context, at *Place) (*Exported, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	x := &Exported{writer: &handout.Writer{Format: q.As, Base: q.Base}}
	if err := q.findMap(ctx, d, x.writer); err != nil {
		return nil, err
	}
	if q.Since != "" {
		return x, q.difference(ctx, at, d, x)
	}
	files, losses, err := x.writer.Whole(d.Estate)
	if err != nil {
		return nil, Errorf("%w", err)
	}
	x.losses = losses
	if data, one := files[""]; one {
		x.Data = data
	} else {
		x.Tables = files
	}
	return x, nil
}

// findMap reads the map, and the names of entries.
func (q *Export) findMap(ctx context.Context, d *Desk, w *handout.Writer) error {
	if q.Map != "" {
		var err error
		if w.Map, err = directory.ReadMap(ctx, q.Map); err != nil {
			return Errorf("%w", err)
		}
	}
	name := q.IDs
	if name == "" && source.Is(q.Since) {
		name = q.Since
	}
	if name != "" {
		read, err := source.Read(ctx, name, source.Options{Map: q.Map, Domains: DomainsOf(d.Estate), Identify: true})
		if err != nil {
			return SourceError(err)
		}
		if w.IDs = directory.IdentifiersOf(read); w.Map == nil {
			w.Map = read.Map
		}
		w.Limits = read.Limits
	}
	if q.Bulk != nil {
		w.Limits.Single, w.Limits.Operations = *q.Bulk == 0, *q.Bulk
	}
	return nil
}

// difference makes an export of what has changed since another estate or source.
func (q *Export) difference(ctx context.Context, at *Place, now *Desk, x *Exported) error {
	var older *estate.Estate
	var err error
	if x.system = q.For; x.system == "" && source.Is(q.Since) {
		if x.system, err = source.Name(ctx, q.Since); err != nil {
			return Errorf("%w", err)
		}
	}
	if source.Is(q.Since) && !source.Is(at.Path) {
		d, err := Overlay(ctx, []string{q.Since}, at.Path, at.Day)
		if err != nil {
			return err
		}
		for _, line := range RemarkLines(d.Merged.Remarks) {
			at.Note(line)
		}
		if err := Whole(d.Merged); err != nil {
			return err
		}
		older = d.Then
	} else if older, err = LoadSide(ctx, q.Since); err != nil {
		return err
	}
	if x.system == "" {
		return Errorf("--since needs --for with the system to change; groups name theirs with managed-in")
	}
	d := directory.Differ(older, now.Estate, x.system)
	groups, memberships := 0, 0
	for _, g := range d.Groups {
		if memberships += len(g.Drop); g.New == estate.None {
			groups++
			memberships += len(older.Entries(g.Old))
		}
	}
	if err := GuardRemoval(q.AllowRemoval, older, groups, memberships, 0); err != nil {
		return err
	}
	x.Refused = d.Refused
	if x.Data, x.losses, err = q.rendered(ctx, d, x.writer); err != nil {
		return Errorf("%w", err)
	}
	return nil
}

// mostTemplate is the size in bytes of a template that is read.
const mostTemplate = 1 << 20

// rendered returns a change in the format that is asked for, or by a template.
func (q *Export) rendered(
	ctx context.Context, d *directory.Difference, w *handout.Writer,
) ([]byte, []directory.Loss, error) {
	if q.Template == "" {
		return w.Change(d)
	}
	text, err := localfile.Read(ctx, q.Template, mostTemplate)
	if err != nil {
		return nil, nil, err
	}
	data, err := handout.Render(q.Template, string(text), handout.Steps(d))
	return data, nil, err
}

// mostLosses bounds the kinds of loss that Notes lists unless all are wanted.
const mostLosses = 40

// Notes tells what is lost, what is made up and what is left out, all of it or the most of it.
func (x *Exported) Notes(all bool) (lines []string) {
	w := x.writer
	switch {
	case w.Requests > 1 && w.Limits.Single:
		lines = append(lines, fmt.Sprintf("%d requests, one a line: the service takes no bulk requests.", w.Requests))
	case w.Requests > 1:
		lines = append(lines, fmt.Sprintf("%d bulk requests, one a line: the service takes no more in one.", w.Requests))
	}
	if n, example := w.Made.Count(); n > 0 {
		lines = append(lines, fmt.Sprintf("Names of entries made up, as no source gives them (--ids SOURCE does): %d, such as %s",
			n, example))
	}
	if len(x.losses) > 0 {
		lines = append(lines, handout.Called(w.Format)+" cannot hold, and it is left out:")
	}
	for i, loss := range x.losses {
		if i == mostLosses && !all {
			lines = append(lines, fmt.Sprintf("  and %d more kinds (--all shows them)", len(x.losses)-i))
			break
		}
		lines = append(lines, "  "+loss.String())
	}
	if len(x.Refused) > 0 {
		lines = append(lines, "Not for "+x.system+", and left out:")
	}
	for _, r := range x.Refused {
		lines = append(lines, "  "+r.String())
	}
	return lines
}

// guarded is of how many removals there have to be more, and more than a part in so many,
// for a change to be refused.
const (
	guarded     = 10
	guardedPart = 20
)

// GuardRemoval refuses a change that removes a good part of an estate, unless so many removals are allowed.
func GuardRemoval(allowed int, e *estate.Estate, groups, memberships, people int) error {
	for _, one := range []struct {
		what      string
		gone, all int
	}{
		{"groups", groups, e.Groups()},
		{"memberships", memberships, e.Memberships()},
		{"people", people, e.People()},
	} {
		if one.gone <= guarded || one.gone*guardedPart <= one.all || one.gone <= allowed {
			continue
		}
		return Errorf("the change would remove %d of %d %s; nothing is written. If that is intended: --allow-removal %d",
			one.gone, one.all, one.what, one.gone)
	}
	return nil
}
