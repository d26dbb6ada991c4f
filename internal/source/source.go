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
	"yorvet.example/yorvet/internal/directory/ldap"
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
