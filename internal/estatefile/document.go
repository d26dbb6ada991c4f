package estatefile

import (
	"bytes"
	"errors"
	"io"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
)

// document reads the nodes of one YAML file. Its methods note what is wrong and
// return false; the caller continues.
type document struct {
	*loader
	file   uint16
	budget int // nodes that may still be visited: aliases can multiply them
}

// parse returns the root of the only document in data, or nil.
func (d *document) parse(data []byte) *yaml.Node {
	decoder := yaml.NewDecoder(bytes.NewReader(data))
	var n yaml.Node
	err := decoder.Decode(&n)
	if errors.Is(err, io.EOF) {
		d.fail(
			estate.Place{File: d.file, Line: 1, Column: 1},
			`the file is empty, expected an estate that begins with "yorvet: 1"`,
			"",
		)
		return nil
	}
	if err != nil {
		d.failYAML(err)
		return nil
	}
	var second yaml.Node
	if err := decoder.Decode(&second); err == nil {
		d.fail(d.place(&second), "a second YAML document begins here, expected only one", "")
	} else if !errors.Is(err, io.EOF) {
		d.failYAML(err)
	}
	return n.Content[0]
}

func (d *document) failYAML(err error) {
	place := estate.Place{File: d.file, Line: 1, Column: 1}
	text := strings.TrimPrefix(err.Error(), "yaml: ")
	var bad *yaml.LoadError
	if errors.As(err, &bad) {
		text = bad.Message
		if bad.Mark.Line > 0 {
			place.Line, place.Column = uint32(bad.Mark.Line), capColumn(max(bad.Mark.Column, 1))
		}
	}
	d.fail(place, "this is no YAML: "+text, "")
}

// place returns where a node begins.
func (d *document) place(n *yaml.Node) estate.Place {
	return estate.Place{File: d.file, Line: uint32(max(n.Line, 1)), Column: capColumn(max(n.Column, 1))}
}

// resolve returns what an alias stands for.
func (d *document) resolve(n *yaml.Node) *yaml.Node {
	for n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	return n
}

// spend takes from the budget of nodes, and reports whether any is left.
func (d *document) spend(n *yaml.Node) bool {
	if d.budget < 0 {
		return false
	}
	if d.budget -= len(n.Content); d.budget < 0 {
		d.fail(d.place(n), "aliases make this file too large", "")
		return false
	}
	return true
}

// The scalars of the YAML 1.2 core schema (YAML 1.2.2, section 10.3.2) that are
// no text.
var (
	numberForm = regexp.MustCompile(
		`^([-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+|[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?|` +
			`[-+]?\.(inf|Inf|INF)|\.(nan|NaN|NAN))$`,
	)
	boolForm = regexp.MustCompile(`^(true|True|TRUE|false|False|FALSE)$`)
	nullForm = regexp.MustCompile(`^(null|Null|NULL|~|)$`)
)

// what tells what a node is, in words.
func (d *document) what(n *yaml.Node) string {
	switch n.Kind {
	case yaml.SequenceNode:
		return "a list"
	case yaml.MappingNode:
		return "a mapping"
	}
	quoted := n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0
	tagged := n.Style&yaml.TaggedStyle != 0
	switch {
	case tagged && n.ShortTag() != "!!str":
		return "a value tagged " + quote(n.Tag)
	case quoted || tagged:
		return "text"
	case nullForm.MatchString(n.Value):
		return "nothing"
	case boolForm.MatchString(n.Value):
		return "true or false"
	case numberForm.MatchString(n.Value):
		return "a number"
	}
	return "text"
}

// wrong notes that a node is not what was expected.
func (d *document) wrong(n *yaml.Node, expected string) {
	text := "expected " + expected + ", not " + d.what(n)
	switch {
	case n.Kind == yaml.ScalarNode && d.what(n) != "nothing":
		text += " (" + quote(n.Value) + ")"
	case n.Kind == yaml.MappingNode && len(n.Content) > 0 && strings.Contains(expected, "text"):
		text += "; a text with a colon and a space in it has to stand in quotes"
	}
	d.fail(d.place(n), text, "")
}

// A field reads the value of one key of a mapping.
type field func(key, value *yaml.Node)

// mapping reads a mapping with known keys. what names the thing for messages;
// names are the keys, in the order in which to list them.
func (d *document) mapping(n *yaml.Node, what string, names []string, fields map[string]field) bool {
	if n.Kind != yaml.MappingNode {
		d.wrong(n, "a mapping for "+what)
		return false
	}
	if !d.spend(n) {
		return false
	}
	seen := map[string]*yaml.Node{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := d.resolve(n.Content[i]), d.resolve(n.Content[i+1])
		if key.Kind != yaml.ScalarNode {
			d.wrong(key, "a key")
			continue
		}
		if earlier := seen[key.Value]; earlier != nil {
			d.failTwice(key, earlier)
			continue
		}
		seen[key.Value] = key
		read, ok := fields[key.Value]
		if now, old := estate.Former(key.Value); !ok && old && slices.Contains(names, now) {
			d.fail(d.place(key), quote(key.Value)+" is "+quote(now)+" now", "")
			continue
		}
		if !ok {
			kind := "key"
			if what == "a group" {
				kind = "setting"
			}
			text, near := "unknown "+kind+" "+quote(key.Value)+" in "+what, nearest.Word(key.Value, names)
			if near == "" {
				text += ", expected one of " + strings.Join(names, ", ")
			}
			d.fail(d.place(key), text, near)
			continue
		}
		read(key, value)
	}
	return true
}

func (d *document) failTwice(key, earlier *yaml.Node) {
	e := d.newError(d.place(key), "the key "+quote(key.Value)+" stands here for the second time", "")
	e.See = d.position(d.place(earlier))
	d.errs.add(e)
}

// list reads a list, calling read with each item.
func (d *document) list(n *yaml.Node, expected string, read func(*yaml.Node)) bool {
	if n.Kind != yaml.SequenceNode {
		d.wrong(n, expected)
		return false
	}
	if !d.spend(n) {
		return false
	}
	for _, item := range n.Content {
		read(d.resolve(item))
	}
	return true
}

// text reads a text.
func (d *document) text(n *yaml.Node) (string, bool) {
	if n.Kind != yaml.ScalarNode || d.what(n) != "text" {
		expected := "text"
		if n.Kind == yaml.ScalarNode && n.Value != "" && n.Style == 0 {
			expected = "text (in quotes, if it is meant so)"
		}
		d.wrong(n, expected)
		return "", false
	}
	return n.Value, true
}
