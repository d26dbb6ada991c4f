package present

import (
	"io"
	"reflect"
	"strconv"
	"strings"
)

// A changeRow is one change in a group, in words.
type changeRow struct {
	what, change string   // what of the group, and what becomes of it
	who          []string // the one it concerns; nil: nobody in particular
	n            int      // for how many, in all groups of a kind
	says         string   // what is the case instead, where it is about nobody
	when         string   // of which messages, or ""
}

// spans are the cells of a row. Where it is of several groups whose people differ, nobody is named.
func (r changeRow) spans(p *Page, several bool) []Span {
	switch {
	case r.who == nil:
		return []Span{{Plain, r.what}, {Strong, r.change}, {}, {Plain, r.says}}
	case several:
		return []Span{{Plain, r.what}, {Strong, r.change}, {Plain, strconv.Itoa(r.n)}, {Plain, "in all of them" + r.when}}
	}
	return []Span{{Plain, r.what}, {Strong, r.change}, {Plain, strconv.Itoa(r.n)}, {Plain, p.some(r.who) + r.when}}
}

// digest adds what a row says to a hash; with people also the people it names.
func (r changeRow) digest(to io.Writer, people bool) {
	parts := []string{r.what, r.change, r.says, r.when}
	if people {
		parts = append(parts, r.who...)
	}
	for _, part := range parts {
		_, _ = io.WriteString(to, part+"\x00")
	}
	_, _ = io.WriteString(to, "\x01")
}

// rows are what changes in a group; what is the same change is one row.
func (c ChangedGroup) rows(p *Page) []changeRow {
	var rows []changeRow
	for _, part := range c.parts() {
		for i := 0; i < len(part.list); {
			first := part.list[i]
			who := []string{}
			for ; i < len(part.list) && part.list[i].isLike(first); i++ {
				for _, name := range part.list[i].People {
					if label, ok := strangerLabels[name]; ok {
						name = label
					}
					who = append(who, name)
				}
			}
			rows = append(rows, changeRow{what: part.row, change: first.arrow(part.row), who: who, n: len(who),
				when: first.when()})
		}
	}
	named := func(what string, list []SettingChange) {
		for _, s := range list {
			rows = append(rows, changeRow{what: what, change: s.Name, says: p.values(s.Old) + " -> " + p.values(s.New)})
		}
	}
	named("readers see", c.Sees)
	named("new members", c.Joining)
	return append(rows, p.settingRows(c.Settings)...)
}

// isLike reports whether a change is like another, apart from the one it is about.
func (c EffectCount) isLike(other EffectCount) bool {
	other.People = c.People
	return reflect.DeepEqual(c, other)
}

// when says of which message and sender a change is, and what the sender hears, "" for a default
// message.
func (c EffectCount) when() string {
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
	if when := strings.TrimPrefix(c.when(), "; "); when != "" {
		return name + " (" + when + ")"
	}
	return name
}
