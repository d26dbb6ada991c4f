package estatefile

import (
	"bytes"
	"slices"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v4"
)

// replaceList makes a list in block style hold other texts. Items that stay at
// the beginning and the end are not touched, nor are comments.
func (t *yamlText) replaceList(list *yaml.Node, texts []string, style textStyle) {
	old := list.Content
	head, tail := 0, 0
	for head < len(old) && head < len(texts) && old[head].Value == texts[head] {
		head++
	}
	for tail < len(old)-head && tail < len(texts)-head && old[len(old)-1-tail].Value == texts[len(texts)-1-tail] {
		tail++
	}
	indent := strings.Repeat(" ", list.Column-1)
	var lines []string
	for _, text := range texts[head : len(texts)-tail] {
		lines = append(lines, indent+"- "+style.scalar(text))
	}
	if len(texts) == 0 {
		t.writeEmpty(list)
	}
	if len(lines) > 0 {
		text := strings.Join(lines, t.newline)
		if head > 0 {
			t.insertLine(t.lastOffset(old[head-1]), text)
		} else {
			at := t.lineStart(t.start(old[0]))
			t.replace(at, at, text+t.newline)
		}
	}
	for _, item := range old[head : len(old)-tail] {
		t.deleteLines(t.start(item), t.lastOffset(item))
	}
}

// appendFlow puts an item at the end of a collection in flow style.
func (t *yamlText) appendFlow(n *yaml.Node, text string) {
	if len(n.Content) == 0 {
		at := t.skipProperties(t.start(n)) + 1
		t.replace(at, at, text)
		return
	}
	at := t.end(n.Content[len(n.Content)-1])
	t.replace(at, at, ", "+text)
}

// listChange says what happens to a list.
type listChange struct {
	drop    map[*yaml.Node]bool
	replace map[*yaml.Node]value
	add     []value
}

// changeList changes the items of the list at a key of a mapping. A list of which
// nothing is left goes, key and all.
func (t *yamlText) changeList(mapping *yaml.Node, name string, c listChange, order []string) {
	_, list := lookup(mapping, name)
	if list == nil {
		if len(c.add) > 0 {
			t.setKey(mapping, name, value{items: c.add}, order)
		}
		return
	}
	if t.shared(list) {
		return
	}
	if len(list.Content) > 0 && len(c.drop) == len(list.Content) && len(c.add) == 0 {
		t.dropKey(mapping, name)
		return
	}
	t.changeItems(list, c)
}

// changeItems changes the items of a list.
func (t *yamlText) changeItems(list *yaml.Node, c listChange) {
	style := t.styleIn(list)
	if len(list.Content) > 0 && len(c.drop) == len(list.Content) || isFlow(list) && len(list.Content) == 0 {
		t.refillList(list, c.add)
		return
	}
	for item, v := range c.replace {
		if !t.shared(item) {
			t.replace(t.start(item), t.end(item), v.inline(style))
		}
	}
	if isFlow(list) {
		t.dropFlow(list, c.drop)
		if len(c.add) > 0 {
			var added []string
			for _, v := range c.add {
				added = append(added, v.inline(style))
			}
			t.appendFlow(list, strings.Join(added, ", "))
		}
		return
	}
	for _, item := range list.Content {
		if c.drop[item] {
			t.deleteLines(t.start(item), t.lastOffset(item))
		}
	}
	if len(c.add) == 0 {
		return
	}
	last := list.Content[len(list.Content)-1]
	gap := ""
	if n := len(list.Content); n > 1 && c.add[0].isBlock() && t.blankBefore(last) {
		gap = t.newline
	}
	var b strings.Builder
	for i, v := range c.add {
		if i > 0 {
			b.WriteString(t.newline)
		}
		b.WriteString(gap + v.item(strings.Repeat(" ", list.Column-1), style, t.newline))
	}
	t.insertLine(t.lastOffset(last), b.String())
}

// refillList replaces all that a list holds.
func (t *yamlText) refillList(list *yaml.Node, add []value) {
	style := t.styleIn(list)
	style.flow = true
	var items []string
	for _, v := range add {
		items = append(items, v.inline(style))
	}
	if isFlow(list) {
		text := "[" + strings.Join(items, ", ") + "]"
		if at, indent, ok := t.roomBelow(list); ok && len(add) > 0 && add[0].isBlock() {
			text = ""
			for _, v := range add {
				text += t.newline + v.item(indent, t.styleIn(t.parents[list]), t.newline)
			}
			t.replace(at, t.end(list), text)
			return
		}
		t.replace(t.start(list), t.end(list), text)
		return
	}
	if len(add) == 0 {
		t.writeEmpty(list)
	}
	at := t.lineStart(t.start(list.Content[0]))
	for _, v := range add {
		t.replace(at, at, v.item(strings.Repeat(" ", list.Column-1), t.styleIn(list), t.newline)+t.newline)
	}
	for _, item := range list.Content {
		t.deleteLines(t.start(item), t.lastOffset(item))
	}
}

// roomBelow returns where items in block style may take the place of an empty list in flow style:
// behind the key of a mapping in block style, where nothing else stands in the line.
func (t *yamlText) roomBelow(list *yaml.Node) (at int, indent string, ok bool) {
	mapping := t.parents[list]
	if mapping == nil || len(list.Content) > 0 || mapping.Kind != yaml.MappingNode || isFlow(mapping) || isFlow(t.root) {
		return 0, "", false
	}
	end := t.end(list)
	line := bytes.IndexByte(t.data[end:], '\n')
	if line < 0 {
		line = len(t.data) - end
	}
	at = t.start(list)
	for at > 0 && t.data[at-1] == ' ' {
		at--
	}
	return at, strings.Repeat(" ", mapping.Column+1), len(bytes.TrimSpace(t.data[end:end+line])) == 0
}

// writeEmpty writes an empty list beside the key of one in block style.
func (t *yamlText) writeEmpty(list *yaml.Node) {
	siblings := t.parents[list].Content
	at := t.end(siblings[slices.Index(siblings, list)-1])
	at += bytes.IndexByte(t.data[at:], ':') + 1
	t.replace(at, at, " []")
}

// dropFlow takes items out of a list in flow style, of which some stay.
func (t *yamlText) dropFlow(list *yaml.Node, drop map[*yaml.Node]bool) {
	kept := -1 // the last that stays
	for i, item := range list.Content {
		switch {
		case !drop[item]:
			if kept < 0 && i > 0 {
				t.replace(t.start(list.Content[0]), t.start(item), "")
			}
			kept = i
		case kept >= 0:
			t.replace(t.end(list.Content[i-1]), t.end(item), "")
		}
	}
}

// blankBefore reports whether an empty line, perhaps before comments, stands
// above an item of a list in block style.
func (t *yamlText) blankBefore(item *yaml.Node) bool {
	at := t.lineStart(t.start(item))
	for at > 0 {
		at = t.lineStart(at - 1)
		line := bytes.TrimFunc(t.data[at:t.lineEnd(at)], unicode.IsSpace)
		if len(line) == 0 {
			return true
		}
		if line[0] != '#' {
			return false
		}
	}
	return false
}
