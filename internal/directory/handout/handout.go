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
	{"csv", "A table", "table", true},
	{"jsonl", "Lines of JSON", "table", true},
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
	Limits directory.Limits // of what a service takes in one request

	Made     directory.Made // identifiers that what was written makes up
	Requests int            // that a change was written as, for services
}

func (w *Writer) mapping() *directory.Map {
	if w.Map != nil {
		return w.Map
	}
	return directory.BuiltIn(find(w.Format).mapping)
}

// HoldsEstates reports whether a format can hold a whole estate.
func HoldsEstates(name string) bool { return name != "jsonl" }

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
		x := &ldif.Export{Map: w.mapping(), Base: w.Base, IDs: w.IDs}
		carries, err = x.Carries(e), x.Write(&b, e)
		w.Made = x.Made
	case "scim":
		x := &scim.Export{Map: w.mapping(), IDs: w.IDs}
		carries, err = x.Carries(), x.Write(&b, e)
		w.Made = x.Made
	case "aliases":
		carries, err = aliases.Expanded(), aliases.Expand(&b, e)
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
	var losses []directory.Loss
	var err error
	if w.Format == "csv" || w.Format == "jsonl" {
		err = writeSteps(&b, w.Format, Steps(d))
		return b.Bytes(), nil, err
	}
	if w.Format == "scim" {
		x := &scim.Export{Map: w.mapping(), IDs: w.IDs, Limits: w.Limits}
		w.Requests, losses, err = x.WriteDifference(&b, d)
		w.Made = x.Made
	} else {
		x := &ldif.Export{Map: w.mapping(), Base: w.Base, IDs: w.IDs}
		losses, err = x.WriteDifference(&b, d)
		w.Made = x.Made
	}
	return b.Bytes(), losses, err
}
