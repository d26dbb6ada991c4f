package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/aliases"
	"yorvet.example/yorvet/internal/directory/ldif"
	"yorvet.example/yorvet/internal/directory/paste"
	"yorvet.example/yorvet/internal/directory/records"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/directory/vcard"
	"yorvet.example/yorvet/internal/localfile"
)

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
