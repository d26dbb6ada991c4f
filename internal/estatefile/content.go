package estatefile

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Content is what an estate holds, as text: it comes from elsewhere, and is to
// become an estate.
type Content struct {
	Name    string
	Domains []string
	Files   []string // that places name
	People  []NewPerson
	Groups  []NewGroup
}

// Build makes an estate of content, in memory. An error is an *Errors.
func (c *Content) Build() (*estate.Estate, error) {
	l := &loader{
		ctx:     context.Background(),
		open:    func(string) (io.ReadCloser, error) { return nil, os.ErrNotExist },
		files:   c.Files,
		lines:   map[int]*sourceLines{},
		rules:   map[ruleKey]selector.Rule{},
		scalars: map[string]scalar{"yorvet": {value: "1"}, "name": {value: c.Name}},
	}
	if len(l.files) == 0 {
		l.files = []string{"nowhere"}
	}
	for _, d := range c.Domains {
		l.settings.Domains = append(l.settings.Domains, estate.Domain{Name: d})
	}
	l.finishSettings()
	l.b = estate.NewBuilder(l.settings)
	for i := range c.Groups {
		g := &c.Groups[i]
		if g.Place == (estate.Place{}) {
			g.Place = estate.Place{Line: 1, Column: 1}
		}
		s := &groupSpec{}
		for _, f := range g.Fields {
			l.setField(s, f, g.Place)
		}
		for _, f := range g.Access {
			if action, ok := estate.WordIndex[estate.Action](estate.ActionWords(), f.Name); ok {
				s.setAccess(l, action, item{f.Text, g.Place})
			}
		}
		s.finish(l, g.Place)
		s.id = l.b.AddGroup(s.group, s.alsoPlaces)
	}
	for i := range c.People {
		l.buildPerson(&c.People[i])
	}
	known := map[string]estate.ID{}
	for i, spec := range l.specs {
		l.addRelations(spec)
		for j := range c.Groups[i].Members {
			l.buildMember(spec.id, &c.Groups[i].Members[j], c.Groups[i].Place, known)
		}
	}
	l.b.SetFiles(l.files)
	e, problems := l.b.Build()
	for _, p := range problems {
		l.failProblem(p)
	}
	if len(l.errs.List) > 0 {
		l.errs.sort()
		return nil, &l.errs
	}
	return e, nil
}

func (l *loader) setField(s *groupSpec, f Field, place estate.Place) {
	for _, known := range groupFields {
		if known.Name != f.Name {
			continue
		}
		s.give(known, place)
		if !known.Form.IsList() {
			known.set(l, s, item{f.Text, place})
		}
		for _, text := range f.List {
			known.set(l, s, item{text, place})
		}
	}
}

func (l *loader) buildPerson(p *NewPerson) {
	if p.Place == (estate.Place{}) {
		p.Place = estate.Place{Line: 1, Column: 1}
	}
	s := personSpec{attributes: p.Attributes}
	for _, f := range p.Fields {
		it := item{f.Text, p.Place}
		switch f.Name {
		case "address":
			s.setAddress(l, it)
		case "also":
			for _, text := range f.List {
				s.addAlso(l, item{text, p.Place})
			}
		default:
			if setting, ok := estate.PersonSetting(f.Name); ok && f.Text != "" {
				s.set(l, setting, it)
			}
		}
	}
	s.finish(l, p.Place)
}

// buildMember adds a member. known keeps who was found, since the same people are
// members of many groups.
func (l *loader) buildMember(group estate.ID, m *Member, place estate.Place, known map[string]estate.ID) {
	if m.Address == "" {
		rule := estate.MemberRule{Membership: m.Membership, Place: place}
		if !m.Everyone {
			var ok bool
			if rule.Filter, ok = l.parseFilter(m.Where, item{m.Where, place}); !ok {
				return
			}
		}
		l.b.AddRule(group, rule)
		return
	}
	id, ok := known[m.Address]
	if !ok {
		a, ok := l.parseAddress(m.Address, place)
		if !ok {
			return
		}
		if id = l.b.Refer(a, group, "member", place); !id.IsNobody() { // each place of those is noted
			known[m.Address] = id
		}
	}
	l.b.AddEntry(group, id, m.Membership, place)
}

// The sizes from which a new estate is written as tables.
const (
	manyPeople      = 500
	manyMemberships = 5000
)

// Prepared is a new estate that is ready to be written.
type Prepared struct {
	path  string
	files map[string][]byte // by name in the folder, or by path
}

// Prepare makes the files of a new estate: one YAML file if path ends in .yaml,
// else a folder, with tables for what is long.
func (c *Content) Prepare(path string) *Prepared {
	if strings.HasSuffix(path, ".yaml") {
		return &Prepared{path, map[string][]byte{path: c.yaml(nil)}}
	}
	files := map[string][]byte{}
	tables := map[string]bool{}
	if len(c.People) >= manyPeople {
		tables["people"] = true
		files["people.csv"] = c.peopleTable()
		if others := c.yamlPeople(); others != nil {
			files["people.yaml"] = others
		}
	}
	memberships := 0
	for _, g := range c.Groups {
		memberships += len(g.Members)
	}
	if memberships >= manyMemberships {
		tables["memberships"] = true
		files["memberships.csv"] = c.membershipTable()
	}
	files["estate.yaml"] = c.yaml(tables)
	return &Prepared{path, files}
}

// Create writes content as a new estate, as Prepare makes it.
func (c *Content) Create(ctx context.Context, path string) error {
	return c.Prepare(path).Create(ctx)
}

// Create writes a new estate, all of it or nothing. A path at which something is
// already is an error.
func (p *Prepared) Create(ctx context.Context) error {
	if _, err := os.Stat(p.path); err == nil {
		return fmt.Errorf("%s is there already", p.path)
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if p.isFile() {
		return writeAll(ctx, filepath.Dir(p.path), map[string]replacement{p.path: {new: p.files[p.path]}})
	}
	// The folder comes up whole, by another name first.
	parent := filepath.Dir(filepath.Clean(p.path))
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return err
	}
	dir, err := os.MkdirTemp(parent, ".new-estate-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for name, data := range p.files {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			return err
		}
	}
	if err := errors.Join(os.Chmod(dir, 0o755), ctx.Err()); err != nil {
		return err
	}
	return os.Rename(dir, p.path)
}

// isFile reports whether the estate is one file, and no folder.
func (p *Prepared) isFile() bool { return strings.HasSuffix(p.path, ".yaml") }

// Files returns the paths of the files of the estate.
func (p *Prepared) Files() []string {
	names := slices.Sorted(maps.Keys(p.files))
	if !p.isFile() {
		for i := range names {
			names[i] = filepath.Join(p.path, names[i])
		}
	}
	return names
}

// inTable reports whether a table of people can hold somebody: lists are
// separated by semicolons there.
func (p *NewPerson) inTable() bool {
	for _, f := range p.Attributes {
		if strings.ContainsAny(f.Value, ";") || f.Value == "" || strings.TrimSpace(f.Value) != f.Value ||
			selector.Fold(f.Name) == "attributes" {
			return false
		}
		if slices.Contains(personColumns(), f.Name) {
			return false
		}
	}
	return true
}

// yaml returns content as YAML. What is in tables is left to them.
func (c *Content) yaml(tables map[string]bool) []byte {
	var b strings.Builder
	style := textStyle{}
	b.WriteString("yorvet: 1\n")
	if c.Name != "" {
		b.WriteString("name: " + style.scalar(c.Name) + "\n")
	}
	b.WriteString(value{list: c.Domains}.lines("", "domains", style, "\n") + "\n")
	section := func(name string, items []value) {
		if len(items) == 0 {
			return
		}
		b.WriteString("\n" + name + ":\n")
		for _, v := range items {
			b.WriteString(v.item("  ", style, "\n") + "\n")
		}
	}
	if tables["people"] {
		b.WriteString("\npeople: {table: people.csv}\n")
	} else {
		var people []value
		for _, p := range c.People {
			people = append(people, p.value())
		}
		section("people", people)
	}
	var groups []value
	for _, g := range c.Groups {
		if tables["memberships"] {
			g.Members = slices.DeleteFunc(slices.Clone(g.Members), func(m Member) bool { return m.Address != "" })
		}
		groups = append(groups, g.value())
	}
	section("groups", groups)
	if tables["memberships"] {
		b.WriteString("\nmemberships: {table: memberships.csv}\n")
	}
	return []byte(b.String())
}

// yamlPeople returns those people as YAML that a table cannot hold, or nil.
func (c *Content) yamlPeople() []byte {
	var b strings.Builder
	for _, p := range c.People {
		if !p.inTable() {
			b.WriteString(p.value().item("  ", textStyle{}, "\n") + "\n")
		}
	}
	if b.Len() == 0 {
		return nil
	}
	return []byte("# Whom the table cannot hold: an attribute has a semicolon in it.\nyorvet: 1\npeople:\n" + b.String())
}

// value returns a person as an item of a list.
func (p NewPerson) value() value {
	v := value{block: true}
	for _, f := range p.Fields {
		if one := f.value(); one != nil && !f.isDefault() {
			v.pairs = append(v.pairs, pair{f.Name, *one})
		}
	}
	if attributes := pairsOf(attributeFields(estate.AttributesByName(p.Attributes))); attributes != nil {
		v.pairs = append(v.pairs, pair{"attributes", *attributes})
	}
	return v
}

// isDefault reports whether a field of a person says the default.
func (f Field) isDefault() bool {
	setting, ok := estate.PersonSetting(f.Name)
	return ok && f.Text == setting.Default
}

// peopleTable returns people as a table.
func (c *Content) peopleTable() []byte {
	columns := personColumns()
	at := map[string]int{}
	for _, p := range c.People {
		for _, f := range p.Attributes {
			if folded := selector.Fold(f.Name); at[folded] == 0 {
				at[folded] = len(columns)
				columns = append(columns, f.Name)
			}
		}
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	_ = w.Write(columns)
	for _, p := range c.People {
		if !p.inTable() {
			continue
		}
		row := make([]string, len(columns))
		for _, f := range p.Fields {
			if f.isDefault() {
				continue
			}
			row[slices.Index(columns, f.Name)] = f.cell()
		}
		for _, f := range p.Attributes {
			cell := &row[at[selector.Fold(f.Name)]]
			if *cell != "" {
				*cell += ";"
			}
			*cell += f.Value
		}
		_ = w.Write(row)
	}
	w.Flush()
	return b.Bytes()
}

// membershipTable returns the memberships that name their member as a table.
func (c *Content) membershipTable() []byte {
	var b bytes.Buffer
	b.WriteString(strings.Join(membershipFields, ",") + "\n")
	w := csv.NewWriter(&b)
	for _, g := range c.Groups {
		group := g.Fields[0].Text
		plain := isPlainCell(group)
		for _, m := range g.Members {
			if m.Address == "" {
				continue
			}
			if plain && m.Membership == (estate.Membership{}) && isPlainCell(m.Address) {
				b.WriteString(group)
				b.WriteByte(',')
				b.WriteString(m.Address)
				b.WriteString(",,,,\n")
				continue
			}
			row := []string{group, m.Address}
			for _, f := range membershipTexts(m.Membership) {
				row = append(row, f.Text)
			}
			_ = w.Write(row)
			w.Flush()
		}
	}
	return b.Bytes()
}

// isPlainCell reports whether a cell stands in a table without quotes (RFC 4180).
func isPlainCell(text string) bool { return text != "" && !strings.ContainsAny(text, ",\"\r\n ") }
