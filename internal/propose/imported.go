package propose

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
)

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
