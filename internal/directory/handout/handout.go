// Package handout writes estates, and changes of them, in the formats that directories
// and other systems read.
package handout

import (
	"bytes"
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/aliases"
	"yorvet.example/yorvet/internal/directory/ldif"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/directory/vcard"
)

// A format is one that can be handed out in.
type format struct {
	name    string
	called  string // in sentences
	mapping string // the built-in map by which it is written
	changes bool   // it can hold a change
}

var formats = []format{
	{"ldif", "LDIF", "ldap", true},
	{"scim", "SCIM", "scim", true},
	{"aliases", "An alias file", "table", false},
	{"csv", "A table", "table", false},
	{"vcard", "A vCard", "vcard", false},
}

// Formats returns the names of all formats.
func Formats() []string {
	names := make([]string, len(formats))
	for i, f := range formats {
		names[i] = f.name
	}
	return names
}

func find(name string) format {
	return formats[slices.IndexFunc(formats, func(f format) bool { return f.name == name })]
}

// Called returns what a format is called in a sentence.
func Called(name string) string { return find(name).called }

// HoldsChanges reports whether a format can hold what is to be changed in a system,
// rather than all that is to be there.
func HoldsChanges(name string) bool { return find(name).changes }

// A Writer writes in one format.
type Writer struct {
	Format string         // one of Formats
	Map    *directory.Map // nil: the one of the format
	Base   string         // the DN below which LDIF is written, or ""
	IDs    *directory.Identifiers
}

func (w *Writer) mapping() *directory.Map {
	if w.Map != nil {
		return w.Map
	}
	return directory.BuiltIn(find(w.Format).mapping)
}

func (w *Writer) ldif() *ldif.Export { return &ldif.Export{Map: w.mapping(), Base: w.Base, IDs: w.IDs} }

func (w *Writer) scim() *scim.Export { return &scim.Export{Map: w.mapping(), IDs: w.IDs} }

// Whole writes an estate: as one file, of no name, or as several of a folder. It
// returns what of the estate the format cannot hold, too.
func (w *Writer) Whole(e *estate.Estate) (map[string][]byte, []directory.Loss, error) {
	var b bytes.Buffer
	var err error
	var carries directory.Carries
	switch w.Format {
	case "csv":
		return table.Write(e), directory.Losses(e, table.Carries()), nil
	case "ldif":
		carries, err = w.ldif().Carries(), w.ldif().Write(&b, e)
	case "scim":
		carries, err = w.scim().Carries(), w.scim().Write(&b, e)
	case "aliases":
		carries, err = aliases.Carries(), aliases.Write(&b, e)
	case "vcard":
		carries, err = vcard.Carries(w.mapping()), vcard.Write(&b, e, w.mapping())
	}
	if err != nil {
		return nil, nil, err
	}
	return map[string][]byte{"": b.Bytes()}, directory.Losses(e, carries), nil
}

// Change writes what is to be changed in a system, in a format that holds changes.
func (w *Writer) Change(d *directory.Difference) ([]byte, []directory.Loss, error) {
	var b bytes.Buffer
	write := w.ldif().WriteDifference
	if w.Format == "scim" {
		write = w.scim().WriteDifference
	}
	losses, err := write(&b, d)
	return b.Bytes(), losses, err
}
