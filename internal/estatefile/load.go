// Package estatefile reads an estate from YAML files and tables.
//
// docs/estate.md describes the format. A load finds all errors in one go; each
// has its file, line and column.
package estatefile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/localfile"
)

// Limits that no honest input meets; they keep a broken one from taking hours.
const (
	maxYAML  = 32 << 20 // bytes of a YAML file
	maxTable = 4 << 30  // bytes of a table
	maxLine  = 4 << 20  // bytes of a line, and of a row
)

// Load reads the estate at path: a YAML file, or a folder whose *.yaml files
// are read together. What is wrong with the content is an *Errors; a file that
// cannot be read is an error of package fs.
func Load(ctx context.Context, path string) (*estate.Estate, error) {
	d, err := Open(ctx, path)
	if err != nil {
		return nil, err
	}
	return d.before, nil
}

// A Tree is where the files of an estate are, if not on disk. Paths are as those
// of the system.
type Tree interface {
	// Files returns the path itself if it is a file, or those of the *.yaml files in
	// the folder that it is.
	Files(ctx context.Context, path string) ([]string, error)
	Open(ctx context.Context, path string) (io.ReadCloser, error)
}

// LoadFrom is Load for an estate in a tree. name is what its files are called in
// places and errors.
func LoadFrom(ctx context.Context, tree Tree, path string, name func(file string) string) (*estate.Estate, error) {
	main, err := tree.Files(ctx, path)
	if err != nil {
		return nil, err
	}
	l := &loader{ctx: ctx, name: name, open: func(file string) (io.ReadCloser, error) { return tree.Open(ctx, file) }}
	return l.load(main)
}

// load reads the estate whose YAML files are main.
func (l *loader) load(main []string) (*estate.Estate, error) {
	l.lines, l.rules = map[int]*sourceLines{}, map[ruleKey]selector.Rule{}
	for _, file := range main {
		if err := l.readFile(file); err != nil {
			return nil, err
		}
	}
	e := l.build()
	if err := l.ctx.Err(); err != nil {
		return nil, err
	}
	if len(l.errs.List) > 0 {
		l.errs.sort()
		return nil, &l.errs
	}
	return e, nil
}

// find returns the YAML files of an estate.
func find(path string) ([]string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return []string{path}, nil
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	var files []string
	for _, entry := range entries {
		if !entry.IsDir() && strings.HasSuffix(entry.Name(), ".yaml") {
			files = append(files, filepath.Join(path, entry.Name()))
		}
	}
	if len(files) == 0 {
		return nil, &fs.PathError{Op: "read", Path: path, Err: errors.New("the folder holds no *.yaml file")}
	}
	slices.Sort(files)
	return files, nil
}

// loader reads one estate. First all YAML files are parsed, then groups, people
// and what refers to them are built, in this order.
type loader struct {
	ctx   context.Context // of the one load that it is for
	errs  Errors
	open  func(name string) (io.ReadCloser, error)
	name  func(file string) string // what a file is called in places and errors; nil: as it is
	files []string                 // all files read, for places
	lines map[int]*sourceLines     // of the YAML files among them

	settings    estate.Settings
	scalars     map[string]scalar // of the settings that are one value
	groups      []section
	people      []section
	memberships []section
	accepted    []section

	b     *estate.Builder
	specs []*groupSpec
	rules map[ruleKey]selector.Rule // every text is parsed once
}

// scalar is a setting of the estate, and where it is first given.
type scalar struct {
	value string
	place estate.Place
}

// section is one list of people, groups or memberships.
type section struct {
	d    *document
	node *yaml.Node
}

// sourceLines gives access to the lines of a file.
type sourceLines struct {
	data  string
	start []int
}

// at returns a line, counted from 1, without its end.
func (s *sourceLines) at(line int) string {
	if s.start == nil {
		s.start = append(s.start, 0)
		for i := range len(s.data) {
			if s.data[i] == '\n' {
				s.start = append(s.start, i+1)
			}
		}
	}
	if line < 1 || line > len(s.start) {
		return ""
	}
	text, _, _ := strings.Cut(s.data[s.start[line-1]:], "\n")
	return text
}

func (l *loader) addFile(name string) uint16 {
	l.files = append(l.files, name)
	return uint16(min(len(l.files)-1, 1<<16-1))
}

// called returns what a file is called in places and errors.
func (l *loader) called(file string) string {
	if l.name == nil {
		return file
	}
	return l.name(file)
}

// names returns what all files are called.
func (l *loader) names() []string {
	names := make([]string, len(l.files))
	for i, file := range l.files {
		names[i] = l.called(file)
	}
	return names
}

// readFile parses one YAML file and notes what its sections hold.
func (l *loader) readFile(name string) error {
	file := l.addFile(name)
	start := estate.Place{File: file, Line: 1, Column: 1}
	f, err := l.open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	data, err := localfile.ReadAll(l.ctx, f, name, maxYAML)
	if errors.Is(err, localfile.ErrTooLarge) {
		l.fail(start, fmt.Sprintf("the file is larger than %d MiB, expected long lists in tables", maxYAML>>20), "")
		return nil
	}
	if err != nil {
		return err
	}
	data = bytes.TrimPrefix(data, []byte("\ufeff"))
	l.lines[int(file)] = &sourceLines{data: string(data)}
	if place, text := checkText(data); text != "" {
		place.File = file
		l.fail(place, text, "")
		return nil
	}
	d := &document{loader: l, file: file, budget: len(data) + 1<<20}
	if root := d.parse(data); root != nil {
		d.readTop(root)
	}
	return nil
}

// checkText returns where data is no text that can be parsed in sane time, and
// what is wrong there.
func checkText(data []byte) (estate.Place, string) {
	line := uint32(0)
	for rest := data; len(rest) > 0; {
		text := rest
		if end := bytes.IndexByte(rest, '\n'); end >= 0 {
			text, rest = rest[:end], rest[end+1:]
		} else {
			rest = nil
		}
		line++
		if len(text) > maxLine {
			return estate.Place{Line: line, Column: 1}, fmt.Sprintf("the line is longer than %d MiB", maxLine>>20)
		}
		if !utf8.Valid(text) {
			valid := 0
			for len(text) > 0 {
				r, size := utf8.DecodeRune(text)
				if r == utf8.RuneError && size == 1 {
					break
				}
				text = text[size:]
				valid++
			}
			return estate.Place{Line: line, Column: capColumn(valid + 1)}, "this is not UTF-8, expected text in UTF-8"
		}
	}
	return estate.Place{}, ""
}

// build makes the estate of all that was read.
func (l *loader) build() *estate.Estate {
	l.finishSettings()
	for _, s := range l.accepted {
		s.d.each(s.node, "accepted hazards", s.d.readWideAcceptance, l.readAcceptTable)
	}
	l.b = estate.NewBuilder(l.settings)
	for _, s := range l.groups {
		s.d.each(s.node, "groups", s.d.readGroup, l.readGroupTable)
	}
	for _, spec := range l.specs {
		spec.id = l.b.AddGroup(spec.group, spec.alsoPlaces)
	}
	for _, s := range l.people {
		s.d.each(s.node, "people", s.d.readPerson, l.readPeopleTable)
	}
	for _, spec := range l.specs {
		l.addRelations(spec)
	}
	l.specs = nil
	for _, s := range l.memberships {
		s.d.each(s.node, "memberships", s.d.readMembership, l.readMembershipTable)
	}
	l.b.SetFiles(l.names()) // tables have added files since
	e, problems := l.b.Build()
	for _, p := range problems {
		l.failProblem(p)
	}
	if len(problems) == 0 {
		l.checkNestings(e)
	}
	return e
}

// How many nested groups all groups may hold together, directly and through others: far more than
// organisations have, and few enough to answer about in seconds.
const leastNestings, nestingsRatio = 100_000, 10 // for any estate, and times the number of its groups

// checkNestings notes if groups are nested in one another too often to be evaluated.
func (l *loader) checkNestings(e *estate.Estate) {
	most := leastNestings + nestingsRatio*e.Groups()
	if e.Groups()*e.Groups() <= most {
		return
	}
	number, widest := resolve.Nestings(e, most)
	if number <= most {
		return
	}
	l.fail(e.Group(widest).Place, fmt.Sprintf("the groups of the estate hold one another too often: together more than %d nested groups, "+
		"directly and through others, many of them in %s", most, e.Address(widest)), "")
}

// finishSettings takes the settings from the scalars of all files.
func (l *loader) finishSettings() {
	start := estate.Place{Line: 1, Column: 1}
	if _, given := l.scalars["yorvet"]; !given && len(l.errs.List) == 0 {
		l.fail(start, `the format version is missing, expected "yorvet: 1"`, "")
	}
	if len(l.settings.Domains) == 0 && len(l.errs.List) == 0 {
		l.fail(start, `there are no domains, expected at least one, such as "domains: [kelpmere.example]"`, "")
	}
	l.settings.Name = l.scalars["name"].value
	l.settings.Subaddress = l.scalars["subaddress"].value
	l.settings.OpenNestedGates = l.scalars["nested-gates"].value == "open"
	if codes := l.scalars["code-sender"]; codes.value != "" {
		l.settings.CodeSender, _ = l.parseAddress(codes.value, codes.place)
	}
}

// parseAddress reads an address that stands at a place.
func (l *loader) parseAddress(text string, place estate.Place) (address.Address, bool) {
	a, err := address.Parse(text)
	if err != nil {
		l.fail(place, err.Error(), "")
	}
	return a, err == nil
}

// ruleKey is what a parsed rule depends on.
type ruleKey struct {
	text string
	head string // the first of the words that it may begin with, or ""
}

// parseRule reads a rule that stands at a place. Without heads it is a
// selector alone.
func (l *loader) parseRule(
	text string,
	heads []string,
	scope selector.Scope,
	place estate.Place,
) (selector.Rule, bool) {
	key := ruleKey{text: text}
	if heads != nil {
		key.head = heads[0]
	}
	if rule, ok := l.rules[key]; ok {
		return rule, true
	}
	var rule selector.Rule
	var err error
	if heads == nil {
		rule.Text = text
		rule.Selector, err = selector.Parse(text, scope)
	} else {
		rule, err = selector.ParseRule(text, heads, scope)
	}
	if err != nil {
		l.failSyntax(err, place)
		return rule, false
	}
	l.rules[key] = rule
	return rule, true
}

// parseFilter reads a filter that stands at the end of an item.
func (l *loader) parseFilter(text string, it item) (selector.Filter, bool) {
	f, err := selector.ParseFilter(text)
	if err != nil {
		it.place.Column = capColumn(int(it.place.Column) + utf8.RuneCountInString(it.text[:len(it.text)-len(text)]))
		l.failSyntax(err, it.place)
	}
	return f, err == nil
}

// failSyntax notes an error of package selector.
func (l *loader) failSyntax(err error, place estate.Place) {
	var bad *selector.SyntaxError
	if errors.As(err, &bad) {
		l.failWithin(place, bad.Text, bad.Offset, bad.Length, bad.Reason, bad.Nearest)
	} else {
		l.fail(place, err.Error(), "")
	}
}

// groupSpec is a group as read, with what refers to others.
type groupSpec struct {
	id         estate.ID
	group      estate.Group
	alsoPlaces []estate.Place
	relations  []relation // in the order of the file
}

// relation is an owner, moderator or member of a group.
type relation struct {
	role       string
	address    address.Address
	membership estate.Membership
	rule       *estate.MemberRule // instead of address
	place      estate.Place
}

func (l *loader) addRelations(spec *groupSpec) {
	for _, r := range spec.relations {
		switch {
		case r.rule != nil:
			l.b.AddRule(spec.id, *r.rule)
		case r.role == "owner":
			l.b.AddOwner(spec.id, r.address, r.place)
		case r.role == "moderator":
			l.b.AddModerator(spec.id, r.address, r.place)
		default:
			l.b.AddEntry(spec.id, l.b.Refer(r.address, spec.id, r.role, r.place), r.membership, r.place)
		}
	}
	spec.relations = nil
}
