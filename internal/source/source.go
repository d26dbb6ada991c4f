// Package source opens what people and groups can be read from: files of several
// formats, directories over LDAP, services over SCIM.
//
// A source is named by a path, a URL, FORMAT:PATH, or a source file, a YAML file
// that says where it is, how to log in, and what becomes what; NAME= before it
// says what it is called. docs/import.md describes it.
package source

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/aliases"
	"yorvet.example/yorvet/internal/directory/ldap"
	"yorvet.example/yorvet/internal/directory/ldif"
	"yorvet.example/yorvet/internal/directory/paste"
	"yorvet.example/yorvet/internal/directory/records"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/directory/vcard"
	"yorvet.example/yorvet/internal/localfile"
)

// formats are the formats of sources.
var formats = []string{"ldif", "ldap", "scim", "csv", "xlsx", "json", "aliases", "vcard", "list"}

// Options say how sources are read, in addition to what they say themselves.
type Options struct {
	Map        string   // the file of a map for all sources, or ""
	Domains    []string // those of the estate
	AllowFiles bool     // files that a source names may be read
	Identify   bool     // groups keep what they name as it stands, for directory.IdentifiersOf
	AllowEmpty bool     // a list of a map may be empty in all records
}

// A source is what a name on the command line stands for.
type source struct {
	file
	path   string // of the source file, or ""
	data   []byte // what that holds
	format string
	where  string // a path or URL
	m      *directory.Map
	domain string
	// identify is set where groups keep what they name as it stands.
	identify bool
	// allowEmpty says that a list of the map may be empty in all records.
	allowEmpty bool
}

// Is reports whether a name is that of a source, rather than of an estate.
func Is(name string) bool {
	_, name = cutName(name)
	if format, _, ok := cutFormat(name); ok && format != "" {
		return true
	}
	if isURL(name) || formatOf(name) != "" && formatOf(name) != "list" {
		return true
	}
	info, err := os.Stat(name)
	if err != nil {
		return false
	}
	if info.IsDir() {
		return len(tables(name)) > 0
	}
	head := beginning(name)
	if strings.HasSuffix(name, ".yaml") {
		return isSourceFile(head)
	}
	return strings.HasSuffix(name, ".json") && isResources(head)
}

// beginning returns the first bytes of a file.
func beginning(path string) []byte {
	f, err := localfile.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	head := make([]byte, 4096)
	n, _ := io.ReadFull(f, head)
	return head[:n]
}

func isResources(head []byte) bool {
	return !bytes.Contains(head, []byte(`"yorvet"`)) &&
		(bytes.Contains(head, []byte(`"schemas"`)) || bytes.Contains(head, []byte(`"Resources"`)))
}

func isURL(name string) bool {
	scheme, _, ok := strings.Cut(name, "://")
	return ok && slices.Contains([]string{"ldap", "ldaps", "ldapi", "http", "https"}, scheme)
}

// cutFormat takes FORMAT:PATH apart.
func cutFormat(name string) (format, path string, ok bool) {
	format, path, ok = strings.Cut(name, ":")
	if !ok || !slices.Contains(formats, format) || strings.HasPrefix(path, "//") {
		return "", name, false
	}
	return format, path, true
}

// nameForm is what a source may be called on the command line.
var nameForm = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9._-]*)=(.+)$`)

// cutName takes NAME=SOURCE apart. A file may have such a name, too.
func cutName(text string) (name, rest string) {
	if _, err := os.Stat(text); err == nil {
		return "", text
	}
	if parts := nameForm.FindStringSubmatch(text); parts != nil {
		return parts[1], parts[2]
	}
	return "", text
}

// formatOf returns the format that the name of a file tells, or "".
func formatOf(name string) string {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".ldif":
		return "ldif"
	case ".csv", ".tsv", ".tab":
		return "csv"
	case ".xlsx":
		return "xlsx"
	case ".jsonl", ".ndjson":
		return "json"
	case ".vcf", ".vcard":
		return "vcard"
	case ".scim":
		return "scim"
	case ".txt":
		return "list"
	}
	if base := filepath.Base(name); base == "aliases" || strings.HasSuffix(base, ".aliases") {
		return "aliases"
	}
	return ""
}

// tables returns the tables of a folder that holds no estate.
func tables(dir string) []string {
	if yaml, _ := filepath.Glob(filepath.Join(dir, "*.yaml")); len(yaml) > 0 {
		return nil
	}
	list, _ := filepath.Glob(filepath.Join(dir, "*.csv"))
	return list
}

// Read reads a source.
func Read(ctx context.Context, name string, options Options) (*directory.Directory, error) {
	s, err := find(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := s.prepare(ctx, options); err != nil {
		return nil, err
	}
	d, err := s.read(ctx)
	if err != nil {
		return nil, err
	}
	d.Domains, d.Map = s.Domains, s.m
	return d, nil
}

// find says what a name stands for.
func find(ctx context.Context, name string) (*source, error) {
	called, name := cutName(name)
	s := &source{where: name}
	format, path, named := cutFormat(name)
	if named {
		s.format, s.where = format, path
	} else if isURL(name) {
		if err := checkURL(name); err != nil {
			return nil, err
		}
		s.where = name
	} else if strings.HasSuffix(name, ".yaml") && isSourceFile(beginning(name)) {
		if err := s.load(ctx, name); err != nil {
			return nil, err
		}
	}
	if s.format == "" {
		s.format = s.Format
	}
	if s.format == "" {
		s.format = s.guess()
	}
	if s.format == "" {
		return nil, fmt.Errorf(
			"%s: what format this is cannot be told from its name, say %s:%s or the like",
			name,
			"ldif",
			name,
		)
	}
	if called != "" {
		s.Name = called
	} else if s.Name == "" {
		s.Name = s.defaultName()
	}
	return s, nil
}

// guess returns the format of where a source is.
func (s *source) guess() string {
	if scheme, _, ok := strings.Cut(s.where, "://"); ok {
		switch scheme {
		case "ldap", "ldaps", "ldapi":
			return "ldap"
		case "http", "https":
			return "scim"
		}
	}
	if format := formatOf(s.where); format != "" {
		return format
	}
	if info, err := os.Stat(s.where); err == nil && info.IsDir() {
		return "csv"
	}
	if strings.HasSuffix(s.where, ".json") {
		if isResources(beginning(s.where)) {
			return "scim"
		}
		return "json"
	}
	return ""
}

// defaultName returns what a source is called that does not say.
func (s *source) defaultName() string {
	if s.path != "" {
		return strings.TrimSuffix(filepath.Base(s.path), ".yaml")
	}
	if isURL(s.where) {
		if _, host, _, err := ldap.ParseURL(s.where); err == nil {
			if name, _, err := net.SplitHostPort(host); err == nil {
				return name
			}
			return filepath.Base(host)
		}
	}
	base := filepath.Base(s.where)
	if base == "-" {
		return "pasted"
	}
	return strings.TrimSuffix(base, filepath.Ext(base))
}

// prepare reads the map of a source, and finds what {domain} means.
func (s *source) prepare(ctx context.Context, options Options) error {
	var err error
	switch builtIn := map[string]string{"ldif": "ldap", "ldap": "ldap", "scim": "scim", "csv": "table",
		"xlsx": "table", "vcard": "vcard"}[s.format]; {
	case s.Map.Inline != nil:
		s.m = s.Map.Inline
	case s.Map.File != "":
		s.m, err = directory.ReadMap(ctx, s.beside(s.Map.File))
	case options.Map != "":
		s.m, err = directory.ReadMap(ctx, options.Map)
	case builtIn != "":
		s.m = directory.BuiltIn(builtIn)
	}
	if len(s.Domains) > 0 {
		s.domain = s.Domains[0]
	} else if len(options.Domains) > 0 {
		s.domain = options.Domains[0]
	}
	if s.format == "json" && s.m == nil && err == nil {
		err = fmt.Errorf("%s: JSON needs a map that says what is what: --map FILE, or map: in a source file; "+
			"\"yorvet import draft-map %s\" writes one to start from", s.where, s.where)
	}
	s.AllowFiles = s.AllowFiles || options.AllowFiles
	s.identify, s.allowEmpty = options.Identify, options.AllowEmpty
	return err
}

// read reads a source by its format.
func (s *source) read(ctx context.Context) (*directory.Directory, error) {
	switch s.format {
	case "ldap":
		return s.readLDAP(ctx)
	case "scim", "json":
		switch {
		case !isURL(s.where):
		case s.format == "scim":
			return s.readSCIM(ctx)
		default:
			return s.readService(ctx)
		}
	case "csv", "xlsx":
		return s.readTables(ctx)
	}
	f, err := s.open(ctx, s.where)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	switch s.format {
	case "aliases":
		return aliases.Read(ctx, f, aliases.Options{Name: s.Name, File: s.where, Domain: s.domain,
			Include: s.AllowFiles, Dir: filepath.Dir(s.where)})
	case "list":
		return s.readList(ctx, f)
	case "ldif":
		c := s.collector(ldif.Normal)
		err = ldif.Read(ctx, f, ldif.Options{Name: s.where, Files: s.AllowFiles}, c.Add)
		if err != nil && !errors.Is(err, ldif.ErrCut) {
			return nil, err
		}
		d, problems := s.finish(c)
		if err != nil {
			d.Remark(0, true, ldif.ErrCut.Error())
			d.Partial = true
		}
		return d, problems
	case "scim":
		c := s.collector(nil)
		if err := scim.ReadFile(f, s.where, c.Add); err != nil {
			return nil, err
		}
		return s.finish(c)
	case "json":
		c := s.collector(nil)
		c.Columns()
		if err := records.Read(f, s.where, s.m.Lists(), c.Add); err != nil {
			return nil, err
		}
		return s.finish(c)
	}
	c := s.collector(strings.ToLower)
	if err := vcard.Read(f, s.where, c.Add); err != nil {
		return nil, err
	}
	return s.finish(c)
}

// finish returns what was collected, or what of it the map does not cover.
func (s *source) finish(c *directory.Collector) (*directory.Directory, error) {
	d := c.Finish()
	return d, c.Problems(s.allowEmpty)
}

func (s *source) collector(normal func(string) string) *directory.Collector {
	c := directory.NewCollector(s.Name, s.where, s.m, s.domain, normal)
	if s.identify {
		c.Identify()
	}
	return c
}

// mostSource is the size in bytes of a file that is read as a source.
const mostSource = 16 << 30

// open opens a file, or standard input for "-", which is read until ctx ends.
func (s *source) open(ctx context.Context, path string) (io.ReadCloser, error) {
	var in io.ReadCloser
	var err error
	if path == "-" {
		in = localfile.Standard(ctx)
	} else if in, err = localfile.Open(path); err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{&localfile.Bounded{Ctx: ctx, R: in, Name: path, Most: mostSource}, in}, nil
}

// mostList is the size in bytes of a list of addresses that is read.
const mostList = 64 << 20

// readList reads addresses as they are pasted: people, and no groups.
func (s *source) readList(ctx context.Context, r io.Reader) (*directory.Directory, error) {
	data, err := localfile.ReadAll(ctx, r, s.where, mostList)
	if err != nil {
		return nil, err
	}
	d := &directory.Directory{Name: s.Name, File: s.where}
	people, remarks := paste.Parse(string(data))
	for _, p := range people {
		d.People = append(d.People, directory.Person{Line: p.Line, Address: p.Address.String(), Name: p.Name})
	}
	for _, r := range remarks {
		d.Remark(r.Line, true, r.Text+": "+r.Why)
	}
	return d, nil
}

// readTables reads a table, or all tables of a folder: those of groups, then of
// people, then of memberships.
func (s *source) readTables(ctx context.Context) (*directory.Directory, error) {
	files := []string{s.where}
	if info, err := os.Stat(s.where); err == nil && info.IsDir() {
		if files = tables(s.where); len(files) == 0 {
			return nil, fmt.Errorf("%s: the folder holds no *.csv file", s.where)
		}
	}
	c := s.collector(strings.ToLower)
	var memberships []string
	for _, path := range files {
		later, err := s.readTable(ctx, c, path)
		if err != nil {
			return nil, err
		}
		if later {
			memberships = append(memberships, path)
		}
	}
	d, err := s.finish(c)
	if err != nil {
		return nil, err
	}
	for _, path := range memberships {
		if err := s.withTable(ctx, path, func(t *table.Reader) error { return t.Memberships(d) }); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func (s *source) withTable(ctx context.Context, path string, use func(*table.Reader) error) error {
	var separator rune
	if ext := strings.ToLower(filepath.Ext(path)); ext == ".tsv" || ext == ".tab" {
		separator = '\t'
	}
	f, err := s.open(ctx, path)
	if err != nil {
		return err
	}
	defer f.Close()
	options := table.Options{Separator: separator}
	if s.m != nil {
		options.Encoding, options.Heading, options.Sheet = s.m.Encoding, s.m.Heading, s.m.Sheet
	}
	if strings.EqualFold(filepath.Ext(path), ".xlsx") || s.format == "xlsx" {
		t, closed, err := table.OpenWorkbook(f, path, options)
		if err != nil {
			return err
		}
		return errors.Join(use(t), closed())
	}
	t, err := table.NewReader(f, path, options)
	if err != nil {
		return err
	}
	return use(t)
}

// readTable gives the rows of a table to a collector, unless it is one of
// memberships, which are for later.
func (s *source) readTable(ctx context.Context, c *directory.Collector, path string) (memberships bool, err error) {
	err = s.withTable(ctx, path, func(t *table.Reader) error {
		if !t.IsMemberships() || !s.m.IsBuiltIn() {
			c.Columns(t.Header...)
		}
		if !s.m.IsBuiltIn() {
			return t.Each(c.Add) // a map says what the rows are
		}
		if memberships = t.IsMemberships(); memberships {
			return nil
		}
		isGroups, lacksKind := t.IsGroups(), !slices.ContainsFunc(
			t.Header,
			func(h string) bool { return strings.EqualFold(h, "kind") },
		)
		return t.Each(func(e *directory.Entry) {
			if isGroups &&
				(lacksKind || !slices.ContainsFunc(e.Attributes,
					func(a directory.Attribute) bool { return strings.EqualFold(a.Name, "kind") })) {
				e.Add("kind", "list")
			}
			c.Add(e)
		})
	})
	return memberships, err
}

// beside returns a path that is meant from the folder of the source file.
func (s *source) beside(path string) string {
	if filepath.IsAbs(path) || s.path == "" {
		return path
	}
	return filepath.Join(filepath.Dir(s.path), path)
}

// ErrNetwork is what the errors are of a server that cannot be reached or does
// not do what it should.
var ErrNetwork = errors.New("the source cannot be read")

// Name returns what a source is called: where its groups are managed.
func Name(ctx context.Context, name string) (string, error) {
	s, err := find(ctx, name)
	if err != nil {
		return "", err
	}
	return s.Name, nil
}
