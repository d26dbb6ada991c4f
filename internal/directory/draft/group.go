package draft

import (
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
)

// group drafts a part for groups. member is the column with members where each row is a
// membership, or nil.
func (p *part) group(id, member *Column) {
	p.line(2, "address: %s", quote(id.Name))
	if c := p.take(func(c *Column) bool {
		return c.called("alias", "also") && (c.isAddress() ||
			c.isAddresses())
	}); c != nil {
		p.line(2, "also: %s", quote(c.Name))
	}
	if member != nil {
		p.take(func(c *Column) bool { return c == member })
	}
	inRow := []*Column{}
	if member != nil { // what a row says of the membership rather than of the group
		inRow = slices.DeleteFunc(slices.Clone(p.left), func(c *Column) bool {
			return !c.called("role", "delivery", "joined", "since", "paused", "member", "subscription") &&
				!(c.isWords() && c.called("status", "state"))
		})
		p.left = slices.DeleteFunc(p.left, func(c *Column) bool { return slices.Contains(inRow, c) })
	}
	p.names("title")
	if c := p.take(func(c *Column) bool {
		return c.called("description", "about", "purpose", "notes") &&
			!c.isWords()
	}); c != nil {
		p.line(2, "about: %s", quote(c.Name))
	}
	p.roles()
	p.gate()
	p.sendAs()
	p.settings()
	switch {
	case member != nil:
		p.line(2, "members:")
		p.member("", member, inRow)
	default:
		p.inner()
	}
	p.rest(func(name string) bool {
		_, err := estate.ParseAttribute(name + ": x")
		return err == nil
	})
}

// sendAs drafts who may write as the group, or on its behalf.
func (p *part) sendAs() {
	begun := false
	for {
		c := p.take(func(c *Column) bool {
			return (c.isAddress() || c.isAddresses()) && c.called("send", "speak", "delegate", "behalf") && !c.called("sender")
		})
		if c == nil {
			return
		}
		if !begun {
			p.line(2, "send-as:")
			begun = true
		}
		right := "as"
		if c.called("behalf", "delegate") {
			right = "for"
		}
		p.line(3, "- {when: %s, say: %s} # guessed: %s", quote("("+column(c.Name)+"=*)"), quote(right+" {"+c.Name+"}"),
			c.summary())
	}
}

// roles drafts the columns that list people.
func (p *part) roles() {
	isList := func(words ...string) func(*Column) bool {
		return func(c *Column) bool { return (c.isAddress() || c.isAddresses()) && c.called(words...) }
	}
	for _, role := range []struct {
		key   string
		words []string
	}{
		{"owners", []string{"owner", "keeper"}},
		{"moderators", []string{"moderator", "manager", "approver", "admin"}},
		{"members", []string{"member", "subscriber", "recipient", "user", "reader"}},
	} {
		if c := p.take(isList(role.words...)); c != nil {
			p.line(2, "%s: [{from: %s, by: address}] # %s", role.key, quote(c.Name), c.summary())
		}
	}
}

// gate drafts who may post.
func (p *part) gate() {
	isList := func(c *Column) bool { return c.isAddress() || c.isAddresses() }
	blocked := p.take(func(c *Column) bool {
		return isList(c) && c.called("block", "den", "reject", "banned", "refuse") && !c.called("post may")
	})
	held := p.take(func(c *Column) bool { return c.isWords() && c.called("moderation", "moderated", "approval") })
	listed := p.take(func(c *Column) bool {
		return isList(c) && c.called("listed", "poster", "allow", "accept", "sender", "permitted", "post") && !c.called("as")
	})
	may := p.take(func(c *Column) bool {
		return c.isWords() && c.called("post", "send", "sender", "write") && !c.called("as")
	})
	if blocked == nil && held == nil && listed == nil && may == nil {
		return
	}
	p.line(2, "gate: # the first rule that is true decides")
	if blocked != nil {
		p.line(3, "- {when: %s, say: %s} # %s", quote("("+column(blocked.Name)+"=*)"), quote("refuse {"+blocked.Name+"}"),
			blocked.summary())
	}
	if held != nil {
		p.fromWords(held, func(word string) string {
			switch {
			case has(word, "none", "no", "false", "off", "never", "0", "n", "unmoderated"):
				return ""
			case has(word, "out", "external", "non", "guest"):
				return "hold outside"
			case has(word, "new"):
				return "hold newcomers(30d)"
			}
			return "hold anyone"
		})
	}
	asked := may != nil && slices.ContainsFunc(may.words(), func(word string) bool {
		return posters(word, listed) == admits(listed)
	})
	if listed != nil && !asked { // anyone who is listed may in any case
		p.line(3, "- {when: %s, say: %s} # guessed: %s", quote("("+column(listed.Name)+"=*)"),
			quote(admits(listed)), listed.summary())
	}
	if may != nil {
		p.fromWords(may, func(word string) string { return posters(word, listed) })
	}
}

// admits is the rule that admits those that a column lists, "" without one.
func admits(listed *Column) string {
	if listed == nil {
		return ""
	}
	return "admit {" + listed.Name + "}"
}

// posters guesses what a word says about who may post.
func posters(word string, listed *Column) string {
	switch {
	case has(word, "none", "nobody", "disabled", "closed", "no"):
		return "refuse anyone"
	case has(word, "list", "specific", "selected", "restrict", "custom") && listed != nil:
		return admits(listed)
	case has(word, "owner", "manager", "moderator", "admin"):
		return "admit owners or moderators"
	case has(word, "member", "subscriber"):
		return "admit members"
	case has(word, "public", "external", "outside", "world", "web", "internet"):
		return "admit anyone"
	case has(word, "staff", "inside", "internal", "domain", "org", "company", "employee", "tenant", "users", "colleagues"):
		return "admit inside"
	case has(word, "every", "any", "all", "open", "yes", "true"):
		return "admit anyone"
	}
	return "admit owners or moderators"
}

// fromWords drafts a rule for each word of a column; guess returns "" if there is none.
func (p *part) fromWords(c *Column, guess func(string) string) {
	var parts []string
	skips := false
	for _, w := range c.words() {
		rule := guess(w)
		if rule == "" {
			skips = true
			continue
		}
		parts = append(parts, quote(w)+": "+quote(rule))
	}
	if len(parts) == 0 {
		return
	}
	otherwise := ""
	if skips {
		otherwise = ", otherwise: skip"
	}
	p.line(3, "- {from: %s, as: {%s}%s} # guessed: %s", quote(c.Name), strings.Join(parts, ", "), otherwise, c.summary())
}

// yes reports whether a word means yes.
func yes(word string) bool {
	return has(word, "yes", "true", "y", "1", "on", "allow", "enabled", "permit")
}

// settings drafts settings of groups that are words.
func (p *part) settings() {
	var lines []string
	set := func(name string, c *Column, guess func(string) string) {
		if c == nil {
			return
		}
		var parts []string
		for _, w := range c.words() {
			parts = append(parts, quote(w)+": "+quote(guess(w)))
		}
		lines = append(lines, fmt.Sprintf("%s: {from: %s, as: {%s}} # guessed: %s", name, quote(c.Name), strings.Join(parts,
			", "), c.summary()))
	}
	words := func(names ...string) *Column {
		return p.take(func(c *Column) bool { return c.isWords() && c.called(names...) })
	}
	set("kind", words("type", "kind"), func(w string) string {
		switch {
		case has(w, "discuss", "forum", "conversation", "archive", "unified"):
			return "forum"
		case has(w, "shared", "mailbox", "inbox", "collaborative"):
			return "mailbox"
		case has(w, "security", "role", "access"):
			return "roster"
		}
		return "list"
	})
	set("outside-members", words("external", "outside", "guest"), func(w string) string {
		if yes(w) {
			return "allowed"
		}
		return "refused"
	})
	set("welcome", words("welcome"), func(w string) string { return fmt.Sprint(yes(w)) })
	set("replies-to", words("reply", "replies"), func(w string) string {
		if has(w, "group", "list", "all") {
			return "group"
		}
		return "author"
	})
	if c := p.take(func(c *Column) bool { return c.called("footer", "signature") && !c.isAddress() }); c != nil {
		lines = append(lines, fmt.Sprintf("footer: {from: %s}", quote(c.Name)))
	}
	if c := p.take(func(c *Column) bool { return c.called("prefix", "tag") }); c != nil {
		lines = append(lines, fmt.Sprintf("subject-tag: {from: %s}", quote(c.Name)))
	}
	if len(lines) > 0 {
		p.line(2, "set:")
		for _, line := range lines {
			p.line(3, "%s", line)
		}
	}
}

// inner drafts members that stand in lists of objects within a record.
func (p *part) inner() {
	begun := false
	for _, inner := range p.l.Inner {
		id := inner.addressOfMember()
		if id == nil {
			p.line(2, "# %s: %d objects without addresses", inner.Path, inner.Records)
			continue
		}
		if !begun {
			p.line(2, "members:")
			begun = true
		}
		p.member(inner.Path, id, slices.DeleteFunc(slices.Clone(inner.Columns), func(c *Column) bool { return c == id }))
	}
}

// addressOfMember returns the column that says who a member is: addresses may come again.
func (l *List) addressOfMember() *Column {
	i := slices.IndexFunc(l.Columns, func(c *Column) bool { return c.isAddress() })
	if i < 0 {
		return nil
	}
	return l.Columns[i]
}

// member drafts who is in a group, with what else is said of it.
func (p *part) member(each string, id *Column, columns []*Column) {
	var parts []string
	if each != "" {
		parts = append(parts, "each: "+quote(each))
	}
	parts = append(parts, "address: "+quote(id.Name))
	taken := map[string]bool{}
	role := ""
	switch {
	case has(each, "owner"):
		role = "owner"
	case has(each, "moderator", "manager", "approver"):
		role = "moderator"
	}
	if taken["role"] = role != ""; taken["role"] {
		parts = append(parts, "role: "+role)
	}
	add := func(name string, c *Column, guess func(string) string) {
		if taken[name] {
			return
		}
		taken[name] = true
		var words []string
		for _, w := range c.words() {
			words = append(words, quote(w)+": "+guess(w))
		}
		parts = append(parts, fmt.Sprintf("%s: {from: %s, as: {%s}}", name, quote(c.Name), strings.Join(words, ", ")))
	}
	var left []string
	for _, c := range columns {
		layout, isDay := c.isDay()
		switch {
		case c.isWords() && c.called("role"):
			add("role", c, func(w string) string {
				switch {
				case has(w, "owner"):
					return "[owner, member]"
				case has(w, "manager", "moderator", "admin"):
					return "[moderator, member]"
				}
				return "member"
			})
		case c.isWords() && c.called("delivery", "subscription", "frequency"):
			add("copy", c, copyOf)
		case isDay && c.called("joined", "since", "added", "created", "member"):
			if layout == "YYYY-MM-DD" {
				parts = append(parts, fmt.Sprintf("since: {from: %s}", quote(c.Name)))
			} else {
				parts = append(parts, fmt.Sprintf("since: {from: %s, format: %s}", quote(c.Name), layout))
			}
		case c.isWords() && c.called("status", "state", "paused", "suspended", "active"):
			add("paused", c, func(w string) string { return fmt.Sprint(isClosed(c, w)) })
		default:
			left = append(left, c.Name)
		}
	}
	p.line(3, "- {%s} # guessed", strings.Join(parts, ", "))
	if len(left) > 0 {
		p.line(3, "# not taken: %s", strings.Join(left, ", "))
	}
}

// copyOf guesses which copy a word means.
func copyOf(word string) string {
	switch {
	case has(word, "none", "no", "off", "disabled", "web"):
		return "none"
	case has(word, "dai", "digest", "week", "abridged", "summary"):
		return "digest"
	case has(word, "repl", "mention"):
		return "replies"
	}
	return "every"
}
