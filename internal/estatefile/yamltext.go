package estatefile

import (
	"bytes"
	"errors"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
)

// splice is a piece of a text that is replaced: the bytes from up to to.
type splice struct {
	from, to int
	text     string
}

// applySplices returns a text with pieces replaced. Of several at one spot the
// first comes first.
func applySplices(data []byte, splices []splice) ([]byte, error) {
	slices.SortStableFunc(splices, func(a, b splice) int {
		if a.from != b.from {
			return a.from - b.from
		}
		return a.to - b.to // what is put in stands before what is taken out
	})
	var b bytes.Buffer
	at := 0
	for _, s := range splices {
		if s.from < at {
			return nil, errors.New("two changes of the same spot")
		}
		b.Write(data[at:s.from])
		b.WriteString(s.text)
		at = s.to
	}
	b.Write(data[at:])
	return b.Bytes(), nil
}

// yamlText is a YAML file of which pieces are to be replaced. It knows where
// each node begins and ends, so that all else stays as it is, to the byte.
type yamlText struct {
	name    string
	data    []byte
	root    *yaml.Node // the mapping at the top
	parents map[*yaml.Node]*yaml.Node
	nodes   map[spot]*yaml.Node // scalars and mappings, the innermost that begin there
	starts  []int               // of lines
	newline string
	splices []splice
	err     error // the first that came up
}

// spot is a line and a column in characters, both from 1.
type spot struct{ line, column int }

func newYAMLText(name string, data []byte) (*yamlText, error) {
	t := &yamlText{
		name:    name,
		data:    data,
		parents: map[*yaml.Node]*yaml.Node{},
		nodes:   map[spot]*yaml.Node{},
		newline: "\n",
	}
	content := bytes.TrimPrefix(data, []byte("\ufeff"))
	if at := oddBreak(content); at >= 0 {
		return nil, &Errors{
			List: []*Error{
				{
					File:   name,
					Line:   1 + bytes.Count(content[:at], []byte("\n")),
					Column: 1,
					Text:   "a line of this file ends with a character that is no line feed; change it by hand, or correct that first",
				},
			},
		}
	}
	var n yaml.Node
	if err := yaml.Load(content, &n); err != nil {
		return nil, err
	}
	if len(n.Content) == 0 || n.Content[0].Kind != yaml.MappingNode {
		return nil, errors.New(name + ": expected an estate")
	}
	t.root = n.Content[0]
	t.starts = append(t.starts, len(data)-len(content))
	for i, c := range content {
		if c == '\n' {
			t.starts = append(t.starts, len(data)-len(content)+i+1)
		}
	}
	if bytes.Contains(data, []byte("\r\n")) {
		t.newline = "\r\n"
	}
	t.index(t.root)
	return t, nil
}

// oddBreak returns the offset of a line break other than LF and CR LF (YAML 1.1,
// section 5.4), or -1.
func oddBreak(data []byte) int {
	for i, r := range string(data) {
		if r == '\u0085' || r == '\u2028' || r == '\u2029' || r == '\r' && (i+1 == len(data) || data[i+1] != '\n') {
			return i
		}
	}
	return -1
}

func (t *yamlText) index(n *yaml.Node) {
	if n.Kind == yaml.ScalarNode || n.Kind == yaml.MappingNode {
		t.nodes[spot{n.Line, n.Column}] = n
	}
	for _, child := range n.Content {
		t.parents[child] = n
		t.index(child)
	}
}

// fail notes that a change cannot be made.
func (t *yamlText) fail(n *yaml.Node, reason string) {
	if t.err == nil {
		t.err = &Errors{List: []*Error{{File: t.name, Line: n.Line, Column: n.Column, Text: reason}}}
	}
}

// at returns the node that begins at a place, or nil.
func (t *yamlText) at(p estate.Place) *yaml.Node { return t.nodes[spot{int(p.Line), int(p.Column)}] }

// around returns the element of a list that a place is in, and the list.
func (t *yamlText) around(p estate.Place) (element, list *yaml.Node) {
	element = t.at(p)
	for element != nil {
		list = t.parents[element]
		if list != nil && list.Kind == yaml.SequenceNode {
			return element, list
		}
		element = list
	}
	return nil, nil
}

// shared reports whether a node is used in several places, by an alias, and
// notes that it cannot be changed then.
func (t *yamlText) shared(n *yaml.Node) bool {
	for at := n; at != nil; at = t.parents[at] {
		if at.Kind == yaml.AliasNode || at.Anchor != "" {
			t.fail(n, "this is written with an anchor or alias, so that it stands in several places; change it by hand")
			return true
		}
	}
	return false
}

// start returns the offset at which a node begins.
func (t *yamlText) start(n *yaml.Node) int {
	from := t.starts[n.Line-1]
	return from + byteColumn(string(t.data[from:t.lineEnd(from)]), n.Column)
}

// lineStart returns the offset at which the line of an offset begins.
func (t *yamlText) lineStart(at int) int { return bytes.LastIndexByte(t.data[:at], '\n') + 1 }

// lineEnd returns the offset at which the line of an offset ends, before what
// ends it.
func (t *yamlText) lineEnd(at int) int {
	end := bytes.IndexByte(t.data[at:], '\n')
	if end < 0 {
		return len(t.data)
	}
	if end > 0 && t.data[at+end-1] == '\r' {
		end--
	}
	return at + end
}

// nextLine returns the offset of the line after that of an offset.
func (t *yamlText) nextLine(at int) int {
	end := bytes.IndexByte(t.data[at:], '\n')
	if end < 0 {
		return len(t.data)
	}
	return at + end + 1
}

func isFlow(n *yaml.Node) bool { return n.Style&yaml.FlowStyle != 0 }

// end returns the offset behind a node. outer is the indentation of what it
// stands in, which ends texts over several lines.
func (t *yamlText) end(n *yaml.Node) int {
	at := t.start(n)
	if n.Kind == yaml.AliasNode {
		return at + 1 + len(n.Value)
	}
	if n.Kind != yaml.ScalarNode {
		return t.endOfCollection(n, at)
	}
	at = t.skipProperties(at)
	rest := t.data[at:]
	switch {
	case n.Style&yaml.DoubleQuotedStyle != 0:
		for i := 1; i < len(rest); i++ {
			switch rest[i] {
			case '\\':
				i++
			case '"':
				return at + i + 1
			}
		}
	case n.Style&yaml.SingleQuotedStyle != 0:
		for i := 1; i < len(rest); i++ {
			if rest[i] == '\'' {
				if i+1 < len(rest) && rest[i+1] == '\'' {
					i++
					continue
				}
				return at + i + 1
			}
		}
	case n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		return t.endOfBlock(n, at)
	}
	return at + plainLength(string(rest), n.Value)
}

// skipProperties passes over an anchor and a tag (YAML 1.2.2, section 6.9).
func (t *yamlText) skipProperties(at int) int {
	for at < len(t.data) && (t.data[at] == '&' || t.data[at] == '!') {
		for at < len(t.data) && !isBlank(t.data[at]) {
			at++
		}
		for at < len(t.data) && isBlank(t.data[at]) {
			at++
		}
	}
	return at
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

// plainLength returns how many bytes of raw make up a plain scalar with that
// value: line ends and blanks of both are passed over together.
func plainLength(raw, value string) int {
	i, j := 0, 0
	for j < len(value) && i < len(raw) {
		if isBlank(value[j]) {
			for j < len(value) && isBlank(value[j]) {
				j++
			}
			for i < len(raw) && isBlank(raw[i]) {
				i++
			}
			continue
		}
		i++
		j++
	}
	return i
}

// endOfBlock returns the end of a literal or folded text: of the last line that
// is set in further than what the text stands in.
func (t *yamlText) endOfBlock(n *yaml.Node, at int) int {
	outer := 0
	if parent := t.parents[n]; parent != nil && parent.Kind == yaml.MappingNode {
		outer = parent.Column - 1
	}
	end := t.lineEnd(at)
	for next := t.nextLine(at); next < len(t.data); next = t.nextLine(next) {
		line := t.data[next:t.lineEnd(next)]
		indent := len(line) - len(bytes.TrimLeft(line, " "))
		if indent < len(line) {
			if indent <= outer {
				break
			}
			end = t.lineEnd(next)
		}
	}
	return end
}

func (t *yamlText) endOfCollection(n *yaml.Node, at int) int {
	if len(n.Content) > 0 {
		at = t.end(n.Content[len(n.Content)-1])
	} else {
		at = t.skipProperties(at) + 1
	}
	if !isFlow(n) {
		return at
	}
	for at < len(t.data) {
		switch c := t.data[at]; {
		case c == ']' || c == '}':
			return at + 1
		case c == '#' && (at == 0 || isBlank(t.data[at-1])):
			at = t.lineEnd(at)
		default:
			at++
		}
	}
	return at
}

// lookup returns the key and the value of a name in a mapping, or nil.
func lookup(mapping *yaml.Node, name string) (key, value *yaml.Node) {
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == name {
			return mapping.Content[i], mapping.Content[i+1]
		}
	}
	return nil, nil
}

// replace replaces a node, or what several stand on, by a text.
func (t *yamlText) replace(from, to int, text string) {
	t.splices = append(t.splices, splice{from, to, text})
}

// insertLine puts a whole line, or several, behind the line of an offset.
func (t *yamlText) insertLine(behind int, text string) {
	at := t.nextLine(behind)
	if at == len(t.data) && (at == 0 || t.data[at-1] != '\n') {
		t.replace(at, at, t.newline+text)
		return
	}
	t.replace(at, at, text+t.newline)
}

// deleteLines takes out the lines from that of one offset to that of another.
func (t *yamlText) deleteLines(from, to int) {
	t.replace(t.lineStart(from), t.nextLine(to), "")
}

// setKey sets a key of a mapping to a value. order lists the keys in the order
// in which they are usually written.
func (t *yamlText) setKey(mapping *yaml.Node, name string, v value, order []string) {
	if t.shared(mapping) {
		return
	}
	_, old := lookup(mapping, name)
	style := t.styleIn(mapping)
	if old != nil {
		if t.shared(old) {
			return
		}
		if v.isList() && old.Kind == yaml.SequenceNode && !isFlow(old) {
			t.replaceList(old, v.list, style)
			return
		}
		t.replace(t.start(old), t.end(old), v.inline(style))
		return
	}
	if isFlow(mapping) {
		t.appendFlow(mapping, style.key(name)+": "+v.inline(style))
		return
	}
	after := mapping.Content[0]
	place := slices.Index(order, name)
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if slices.Index(order, mapping.Content[i].Value) < place || place < 0 {
			after = mapping.Content[i+1]
		}
	}
	if after == mapping.Content[0] {
		after = mapping.Content[1]
	}
	indent := strings.Repeat(" ", mapping.Column-1)
	t.insertLine(t.lastOffset(after), v.lines(indent, name, style, t.newline))
}

// lastOffset returns an offset on the last line of a node.
func (t *yamlText) lastOffset(n *yaml.Node) int { return max(t.end(n)-1, t.start(n)) }

// dropKey takes a key out of a mapping.
func (t *yamlText) dropKey(mapping *yaml.Node, name string) {
	key, value := lookup(mapping, name)
	if key == nil || t.shared(mapping) {
		return
	}
	i := slices.Index(mapping.Content, key)
	first, last := i == 0, i+2 == len(mapping.Content)
	switch {
	case first && last:
		t.fail(key, "nothing would be left of this")
	case isFlow(mapping) && first, !isFlow(mapping) && first && !t.opensLine(key):
		t.replace(t.start(key), t.start(mapping.Content[2]), "")
	case isFlow(mapping):
		t.replace(t.end(mapping.Content[i-1]), t.end(value), "")
	default:
		t.deleteLines(t.start(key), t.lastOffset(value))
	}
}

// opensLine reports whether nothing but blanks stands before a node in its line.
func (t *yamlText) opensLine(n *yaml.Node) bool {
	at := t.start(n)
	return len(bytes.TrimSpace(t.data[t.lineStart(at):at])) == 0
}

// styleIn returns how values are written in a collection.
func (t *yamlText) styleIn(n *yaml.Node) textStyle {
	flow := false
	for at := n; at != nil; at = t.parents[at] {
		flow = flow || isFlow(at)
	}
	return textStyle{flow: flow, json: isFlow(t.root)}
}
