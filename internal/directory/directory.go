// Package directory turns what directories and tables hold into an estate.
//
// A source of any format gives entries: an identifier and attributes. A Map says
// which attributes become which addresses, attributes, memberships and settings; a
// Collector applies it and links what refers to each other. Merge makes one of
// several sources; Update brings an estate on disk to where they are.
package directory

import (
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// A Directory is what one source holds about people and groups.
type Directory struct {
	Name    string   // of the source: where its groups are managed
	File    string   // where it was read, for places
	Domains []string // that are said to be its own
	// NeedsDomain is set where a group has no address, and would have one if a domain were known.
	NeedsDomain bool
	People      []Person
	Groups      []Group
	Remarks     []Remark
	Map         *Map // by which it was read, or nil
	Partial     bool // it is not all there: what is missing may just not have been read
	// AlsoApart is set where an entry has aliases in an attribute of their own.
	AlsoApart bool
	// AddressAt is the path of the attribute in which the groups have their address, of the
	// first that has one: with the extension before it, if it is of one.
	AddressAt string
	Limits    Limits // of what its source takes
	Coverage  *Coverage

	identify bool // groups note what they name, for IdentifiersOf
}

// Limits say how much a service takes at a time. Zero values are no limits.
type Limits struct {
	Single     bool // one operation in a request
	Operations int  // in a request
	Bytes      int  // of a request
}

// A Person is somebody as a source has them.
type Person struct {
	Line       int
	ID         string // such as a DN; "" if the source has none
	Address    string
	Also       []string
	Name       string
	Mailbox    string // a word of the estate, or "" where the source does not know
	Attributes []estate.Attribute
	// Hinted is set where an alias leads to Address, and nothing else is known: whether
	// there is such a person, another source has to say.
	Hinted bool

	key      string           // by which groups may refer, apart from ID
	identity estate.Attribute // the attribute that holds the key, if one does
	rule     int              // index into Map.People
	keys     []string         // of Address and Also, if they are worked out
	memberOf []references
}

// A Group is a group as a source has it. What the source says nothing of is nil.
type Group struct {
	Line     int
	ID       string
	Rule     int // index into Map.Groups
	Address  string
	Also     []string
	Settings []estatefile.Field // neither address, also, owners nor moderators
	Access   []estatefile.Field
	Owners   []string
	Mods     []string
	Members  []estatefile.Member

	held       map[string]bool // the identifiers that it names as they stand, in lower case
	owns       []string        // settings that it has not got where they are missing
	references []references
	pending    []pendingRule
	// targets say who of the same directory Members mean, each; nobody where only the
	// address is known. They may be missing.
	targets []who
}

// A Remark is something in a source that was not understood, was refused or is
// worth knowing.
type Remark struct {
	Source string // the file or service
	Line   int    // from 1; 0: none
	Text   string
	Harm   bool // something is lost by it
	// Drift is set where a source and an estate may differ by it, and a comparison of them
	// cannot tell: a value is none that the map knows, or somebody is in no source.
	Drift bool
}

// String returns a remark as one line.
func (r Remark) String() string {
	if r.Line > 0 {
		return r.Source + ":" + strconv.Itoa(r.Line) + ": " + r.Text
	}
	return r.Source + ": " + r.Text
}

// mostRemarks is how many remarks of one source are kept.
const mostRemarks = 1000

// Remark notes something about a line.
func (d *Directory) Remark(line int, harm bool, text string) {
	switch {
	case len(d.Remarks) < mostRemarks:
		d.Remarks = append(d.Remarks, Remark{Source: d.File, Line: line, Text: text, Harm: harm})
	case len(d.Remarks) == mostRemarks:
		d.Remarks = append(d.Remarks, Remark{Source: d.File, Text: "there is more like this", Harm: harm})
	}
}

// RemarkUnknown notes a value that the map does not know.
func (d *Directory) RemarkUnknown(line int, text string) {
	d.Remark(line, true, text)
	d.Remarks[len(d.Remarks)-1].Drift = true
}

// An Entry is one record of a source: an LDAP entry, a row of a table, a SCIM
// resource, a card. Names of attributes compare without case.
type Entry struct {
	ID         string
	Line       int
	Attributes []Attribute
	Schema     string // the extension that the attributes to be added are of (RFC 7643, section 3.3), or ""
	// Records is the path of the list in a JSON document that the record stands in, "" for
	// the document itself. Nested are lists of records within the record, by their path.
	Records string
	Nested  map[string][]*Entry
}

// An Attribute is a name and its values. An attribute may be there several
// times.
type Attribute struct {
	Name   string
	Values []string
	Schema string // the extension that it is of, or ""
}

// Add adds a value.
func (e *Entry) Add(name, value string) {
	if n := len(e.Attributes); n > 0 && e.Attributes[n-1].Name == name && e.Attributes[n-1].Schema == e.Schema {
		e.Attributes[n-1].Values = append(e.Attributes[n-1].Values, value)
		return
	}
	// The room of an earlier entry is used again.
	if n := len(e.Attributes); n < cap(e.Attributes) {
		e.Attributes = e.Attributes[:n+1]
		a := &e.Attributes[n]
		a.Name, a.Schema, a.Values = name, e.Schema, append(a.Values[:0], value)
		return
	}
	e.Attributes = append(e.Attributes, Attribute{name, []string{value}, e.Schema})
}

// Reset makes an entry empty, keeping its room.
func (e *Entry) Reset() { e.ID, e.Line, e.Schema, e.Attributes = "", 0, "", e.Attributes[:0] }

// each calls visit with the values of an attribute. Options (RFC 4512, section
// 2.5) do not count.
func (e *Entry) each(name string, visit func(string)) {
	for i := range e.Attributes {
		if a := &e.Attributes[i]; a.is(name) {
			for _, value := range a.Values {
				visit(value)
			}
		}
	}
}

// values returns the values of an attribute.
func (e *Entry) values(name string) []string {
	var list []string
	for i := range e.Attributes {
		if a := &e.Attributes[i]; a.is(name) {
			list = append(list, a.Values...)
		}
	}
	return list
}

// is reports whether an attribute has a name, options or not.
func (a *Attribute) is(name string) bool {
	return len(a.Name) >= len(name) && strings.EqualFold(a.Name[:len(name)], name) &&
		(len(a.Name) == len(name) || a.Name[len(name)] == ';')
}

// pathOf returns the path of the first of some attributes that holds an address.
func (e *Entry) pathOf(names Names, held string) string {
	for _, name := range names {
		for i := range e.Attributes {
			a := &e.Attributes[i]
			if !a.is(name) || !slices.ContainsFunc(a.Values, func(s string) bool { return strings.EqualFold(s, held) }) {
				continue
			}
			if a.Schema != "" {
				return a.Schema + ":" + a.Name
			}
			return a.Name
		}
	}
	return ""
}

// First returns the first value of the first of some attributes that has one, without
// blanks around it, or "".
func (e *Entry) First(names Names) string {
	for _, name := range names {
		for _, value := range e.values(name) {
			if value = strings.TrimSpace(value); value != "" {
				return value
			}
		}
	}
	return ""
}

// has reports whether an entry has an attribute.
func (e *Entry) has(name string) bool {
	return slices.ContainsFunc(e.Attributes, func(a Attribute) bool { return a.is(name) })
}
