package present

import (
	"reflect"
	"strconv"
	"strings"
)

// effects are the rows of what changes for whom in a group; what is the same change is
// one row.
func (p *Page) effects(c GroupChange) [][]Span {
	var rows [][]Span
	for _, part := range c.parts() {
		for i := 0; i < len(part.list); {
			first := part.list[i]
			var who []string
			for ; i < len(part.list) && part.list[i].isLike(first); i++ {
				for _, name := range part.list[i].People {
					if label, ok := strangerLabels[name]; ok {
						name = label
					}
					who = append(who, name)
				}
			}
			rows = append(rows, []Span{
				{Plain, part.row}, {Strong, first.arrow(part.row)}, {Plain, strconv.Itoa(len(who))},
				{Plain, p.some(who) + first.when(p)},
			})
		}
	}
	return rows
}

// isLike reports whether a change is like another, but for whom it is about.
func (c EffectCount) isLike(other EffectCount) bool {
	other.People = c.People
	return reflect.DeepEqual(c, other)
}

// when says of which message and sender a change is, and what is told, "" for a default
// message.
func (c EffectCount) when(p *Page) string {
	var parts []string
	if c.Message != "" {
		parts = append(parts, "if the message is "+c.Message)
	}
	switch {
	case c.Own:
		parts = append(parts, "of their own message")
	case c.Senders > 0:
		var from []string
		for _, name := range c.From {
			if label, ok := strangerLabels[name]; ok {
				name = label
			}
			from = append(from, name)
		}
		text := "from " + strings.Join(from, ", ")
		if more := c.Senders - len(from); more > 0 {
			text += " and " + strconv.Itoa(more) + " more"
		}
		parts = append(parts, text)
	}
	switch {
	case c.OldText == c.NewText:
	case c.Old == c.New:
		parts = append(parts, c.OldText+" -> "+c.NewText)
	case strings.HasSuffix(c.NewText, "\""): // a text that the sender gets
		parts = append(parts, "told: "+c.NewText)
	}
	if c.OldProof != c.NewProof {
		parts = append(parts, "proof "+c.OldProof+" -> "+c.NewProof)
	}
	if parts == nil {
		return ""
	}
	return "; " + strings.Join(parts, ", ")
}

// arrow says what one thing becomes.
func (c EffectCount) arrow(row string) string {
	if c.What != "" {
		if c.New == "" {
			return "no longer " + c.What
		}
		return c.What
	}
	none := map[string]string{"receiving": "no recipient", "send-as": "no right"}[row]
	word := func(text string) string {
		switch text {
		case "":
			return none
		case "nothing":
			return "no copy"
		}
		return text
	}
	if c.Old == c.New {
		return word(c.Old)
	}
	return word(c.Old) + " -> " + word(c.New)
}

// kind is what a row of a table is about.
func (c EffectCount) kind(name string) string {
	if c.What != "" {
		return name + " " + c.What
	}
	if when := strings.TrimPrefix(c.when(&Page{}), "; "); when != "" {
		return name + " (" + when + ")"
	}
	return name
}
