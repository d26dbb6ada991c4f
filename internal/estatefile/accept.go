package estatefile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/nearest"
)

// The fields of an accepted hazard, in a group and in the estate.
var (
	groupAcceptFields = []string{"hazard", "address", "because", "until"}
	acceptFields      = []string{"hazard", "groups", "where", "address", "because", "until"}
)

// readAcceptance reads a hazard that is intended.
func (d *document) readAcceptance(n *yaml.Node, names []string) estate.Acceptance {
	a := estate.Acceptance{Place: d.place(n)}
	fields := map[string]field{}
	for _, name := range names {
		fields[name] = func(_, value *yaml.Node) {
			if name == "groups" && value.Kind == yaml.SequenceNode {
				d.list(value, "a list of groups", func(n *yaml.Node) {
					if text, ok := d.text(n); ok {
						a.Groups = append(a.Groups, text)
					}
				})
				return
			}
			if text, ok := d.text(value); ok {
				d.setAcceptance(&a, name, item{text, d.place(value)})
			}
		}
	}
	if d.mapping(n, "an accepted hazard", names, fields) {
		d.checkAcceptance(&a)
	}
	return a
}

func (d *document) readWideAcceptance(n *yaml.Node) {
	a := d.readAcceptance(n, acceptFields)
	d.loader.settings.Accepted = append(d.loader.settings.Accepted, a)
}

// checkAcceptance notes what an acceptance lacks.
func (l *loader) checkAcceptance(a *estate.Acceptance) {
	if a.Hazard == "" || a.Because == "" {
		l.fail(a.Place, "expected hazard and because in an accepted hazard", "")
	}
}

// setAcceptance sets one field of an acceptance.
func (l *loader) setAcceptance(a *estate.Acceptance, name string, it item) {
	switch name {
	case "hazard":
		a.Hazard = it.text
		l.checkHazard(it)
	case "groups":
		a.Groups = append(a.Groups, SplitList(it.text)...)
	case "where":
		if f, ok := l.parseFilter(it.text, it); ok {
			a.Filter = f
			if err := estate.CheckAcceptFilter(f); err != nil {
				l.fail(it.place, err.Error(), "")
			}
		}
	case "address":
		a.Address = it.text
	case "because":
		a.Because = it.text
	case "until":
		day, err := estate.ParseDay(it.text)
		if err != nil {
			l.fail(it.place, err.Error(), "")
		}
		a.Until = day
	}
}

// checkHazard notes a name that is none of a hazard.
func (l *loader) checkHazard(it item) {
	var known []string
	for _, check := range hazard.All() {
		known = append(known, check.Name)
	}
	if now, old := estate.Former(it.text); old && slices.Contains(known, now) {
		l.fail(it.place, quote(it.text)+" is "+quote(now)+" now", "")
	} else if it.text != "" && !slices.Contains(known, it.text) {
		text, near := "unknown hazard "+quote(it.text), nearest.Word(it.text, known)
		if near == "" {
			text += ", expected one of those of yorvet check"
		}
		l.fail(it.place, text, near)
	}
}

// readAcceptTable reads accepted hazards from a table.
func (l *loader) readAcceptTable(t *table) {
	columns, ok := t.readHeader("accepted hazards", acceptFields, []string{"hazard", "because"}, false)
	if !ok {
		return
	}
	for t.read() {
		if !t.validText() {
			continue
		}
		a := estate.Acceptance{Place: t.place(0)}
		for _, name := range acceptFields {
			if column := columns[name]; column >= 0 && strings.TrimSpace(t.text(column)) != "" {
				l.setAcceptance(&a, name, t.cell(column))
			}
		}
		l.checkAcceptance(&a)
		l.settings.Accepted = append(l.settings.Accepted, a)
	}
}

// accept adds a hazard that is intended to those of the estate.
func (d *Draft) accept(a estate.Acceptance) {
	fields := []Field{{Name: "hazard", Text: a.Hazard}}
	if len(a.Groups) > 0 {
		fields = append(fields, Field{Name: "groups", List: a.Groups})
	}
	if a.Filter != nil {
		fields = append(fields, Field{Name: "where", Text: a.Filter.String()})
	}
	if a.Address != "" {
		fields = append(fields, Field{Name: "address", Text: a.Address})
	}
	fields = append(fields, Field{Name: "because", Text: a.Because})
	if a.Until != 0 {
		fields = append(fields, Field{Name: "until", Text: a.Until.String()})
	}
	t, section := d.section("accept")
	if section != nil && section.Kind == yaml.MappingNode {
		row := map[string]string{}
		for _, f := range fields {
			row[f.Name] = f.cell()
		}
		d.tableOf(t, section).add(row)
		return
	}
	c := d.list(t, t.root, "accept", topFields)
	c.add = append(c.add, *pairsOf(fields))
}
