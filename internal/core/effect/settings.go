package effect

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// A SettingChange is a setting that says something else, and changes none of the
// answers that a report tells otherwise.
type SettingChange struct {
	Name     string
	Old, New []string // what holds, as written; nil for nothing. Of members, those that only one has
}

// A PersonChange is what is said otherwise of a person.
type PersonChange struct {
	Person   Pair
	Settings []SettingChange
}

// settingChanges collects settings that differ.
type settingChanges []SettingChange

func (l *settingChanges) note(name string, was, is []string) {
	if !slices.Equal(was, is) || (was == nil) != (is == nil) {
		*l = append(*l, SettingChange{name, was, is})
	}
}

func one(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

// estateSettings returns what the estates say of themselves otherwise.
func (c *comparison) estateSettings() []SettingChange {
	var list settingChanges
	was, is := c.a.Settings(), c.b.Settings()
	list.note("name", one(was.Name), one(is.Name))
	list.note("domains", domainTexts(was), domainTexts(is))
	list.note("subaddress", one(was.Subaddress), one(is.Subaddress))
	list.note("nested-gates", nestedGatesText(was), nestedGatesText(is))
	list.note("code-sender", one(was.CodeSender.String()), one(is.CodeSender.String()))
	list.note("edge", edgeTexts(was), edgeTexts(is))
	list.note("accept", acceptanceTexts(was.Accepted), acceptanceTexts(is.Accepted))
	return list
}

func edgeTexts(s *estate.Settings) []string {
	var texts []string
	for _, rule := range s.Edge {
		texts = append(texts, rule.Text)
	}
	return texts
}

func domainTexts(s *estate.Settings) []string {
	var texts []string
	for _, d := range s.Domains {
		text := d.Name
		if d.SameAs != "" {
			text += " same-as " + d.SameAs
		}
		texts = append(texts, text)
	}
	return texts
}

func nestedGatesText(s *estate.Settings) []string {
	if s.OpenNestedGates {
		return []string{"open"}
	}
	return nil
}

// persons returns what is said otherwise of the people in both estates.
func (c *comparison) persons() []PersonChange {
	var changes []PersonChange
	for _, id := range c.b.PeopleByAddress() {
		old := c.toOld[id]
		if old == estate.None {
			continue
		}
		was, is := c.a.Person(old), c.b.Person(id)
		var list settingChanges
		list.note("name", one(was.Name), one(is.Name))
		list.note("also", addressTexts(was.Also), addressTexts(is.Also))
		list.note("mailbox", one(was.Mailbox.String()), one(is.Mailbox.String()))
		list.note("attributes", attributeTexts(c.a, old), attributeTexts(c.b, id))
		if len(list) > 0 {
			changes = append(changes, PersonChange{Pair{old, id}, list})
		}
	}
	return changes
}

func addressTexts(list []address.Address) []string {
	var texts []string
	for _, a := range list {
		texts = append(texts, a.String())
	}
	return texts
}

func attributeTexts(e *estate.Estate, id estate.ID) []string {
	var texts []string
	for _, f := range e.Attributes(id) {
		texts = append(texts, f.Name+": "+f.Value)
	}
	return texts
}

// groupSettings notes the settings of a group that differ, but for those whose
// difference shows in what else changes.
func (c *comparison) groupSettings(change *GroupChange) {
	old, id := change.Group.Old, change.Group.New
	before, later := c.a.Group(old), c.b.Group(id)
	var list settingChanges
	for setting := range estate.GroupSettings() {
		was, is := setting.Holds(c.a, before), setting.Holds(c.b, later)
		switch setting.Form {
		case estate.FormAddress:
			if !address.Same(was[0], is[0]) {
				continue // it is renamed
			}
		case estate.FormParties:
			was = c.partyTexts(before, setting.Name)
		}
		if !change.shows(setting.Name) || setting.Name == "gate" && !slices.Equal(silent(before), silent(later)) {
			list.note(setting.Name, was, is)
		}
	}
	list.note("accept", acceptances(before), acceptances(later))
	if members := c.members(change); members != nil {
		list = append(list, *members)
	}
	change.Settings = list
}

// silent returns the texts of a gate that reach no sender.
func silent(g *estate.Group) (texts []string) {
	for _, rule := range g.Gate {
		if rule.Because != "" && (rule.Verdict == estate.Admit || rule.Verdict == estate.Drop) {
			texts = append(texts, rule.Because)
		}
	}
	return texts
}

// shows reports whether a difference in a setting shows in what else changes.
func (change *GroupChange) shows(setting string) bool {
	posts, receives := len(change.Posts) > 0, len(change.Receives) > 0
	if action, ok := strings.CutPrefix(setting, "access."); ok {
		return change.says(action)
	}
	switch setting {
	case "gate", "notify-sender":
		return posts
	case "kind":
		return posts || receives
	case "copy", "outside-copy", "invitations", "echo":
		return receives
	case "send-as", "send-as-proof":
		return len(change.SendsAs) > 0
	case "owners", "moderators":
		return change.says("approves")
	case "replies-as":
		return in(change.Sees, "from-of-replies")
	case "replies-to":
		return in(change.Sees, "reply-to")
	case "subject-tag", "footer", "auto-answer":
		return in(change.Sees, setting)
	case "joiners":
		return in(change.Joining, "copy")
	case "welcome":
		return in(change.Joining, "welcome")
	}
	return false
}

// says reports whether others may do something.
func (change *GroupChange) says(what string) bool {
	return slices.ContainsFunc(change.May, func(m MayChange) bool { return m.What == what })
}

func in(list []SettingChange, name string) bool {
	return slices.ContainsFunc(list, func(s SettingChange) bool { return s.Name == name })
}

// partyTexts returns the owners or moderators of a group of the old estate by the
// addresses that they have in the new one.
func (c *comparison) partyTexts(g *estate.Group, setting string) []string {
	listed := g.Owners
	if setting == "moderators" {
		listed = g.Moderators
	}
	var texts []string
	for _, one := range listed {
		texts = append(texts, c.nameLater(one.ID))
	}
	return texts
}

// nameLater returns the address that somebody of the old estate has in the new one,
// or had.
func (c *comparison) nameLater(id estate.ID) string {
	if !id.IsNobody() && c.toNew[id] != estate.None {
		return c.b.Address(c.toNew[id]).String()
	}
	return c.a.Address(id).String()
}

func acceptances(g *estate.Group) []string { return acceptanceTexts(g.Accepted) }

func acceptanceTexts(list []estate.Acceptance) []string {
	var texts []string
	for _, a := range list {
		texts = append(texts, a.String())
	}
	return texts
}

// members returns the memberships that only one of the groups has and that give
// nobody another outcome, or nil.
func (c *comparison) members(change *GroupChange) *SettingChange {
	any := len(change.Receives) > 0
	was, is := map[string]int{}, map[string]int{}
	before, later := c.unlike(c.a.Entries(change.Group.Old), c.b.Entries(change.Group.New))
	if len(before)+len(later) == 0 && (any || len(c.a.Rules(change.Group.Old))+len(c.b.Rules(change.Group.New)) == 0) {
		return nil
	}
	moved := map[string]bool{} // whose outcome is another one
	for _, o := range change.Receives {
		for _, somebody := range o.People {
			moved[c.b.Key(somebody.Address)] = true
		}
	}
	for _, e := range before {
		name := c.nameLater(e.Member)
		if moved[c.keyLater(e.Member)] || any && (e.Member.IsNobody() || c.a.IsGroup(e.Member)) {
			continue
		}
		was[memberText(name, e)]++
	}
	for _, e := range later {
		if moved[c.b.Key(c.b.Address(e.Member))] || any && (c.b.IsGroup(e.Member) || e.Member.IsNobody()) {
			continue
		}
		is[memberText(c.b.Address(e.Member).String(), e)]++
	}
	if !any {
		for _, rule := range c.a.Rules(change.Group.Old) {
			was[ruleText(rule)]++
		}
		for _, rule := range c.b.Rules(change.Group.New) {
			is[ruleText(rule)]++
		}
	}
	m := SettingChange{Name: "members", Old: onlyIn(was, is), New: onlyIn(is, was)}
	if len(m.Old)+len(m.New) == 0 {
		return nil
	}
	return &m
}

// unlike returns two lists without how they begin and end alike.
func (c *comparison) unlike(before, later []estate.Entry) (a, b []estate.Entry) {
	same := func(x, y estate.Entry) bool {
		if x.Membership() != y.Membership() || x.Member.IsNobody() != y.Member.IsNobody() {
			return false
		}
		if x.Member.IsNobody() {
			return c.a.Address(x.Member).Key() == c.b.Address(y.Member).Key()
		}
		return c.toNew[x.Member] == y.Member
	}
	for len(before) > 0 && len(later) > 0 && same(before[0], later[0]) {
		before, later = before[1:], later[1:]
	}
	for len(before) > 0 && len(later) > 0 && same(before[len(before)-1], later[len(later)-1]) {
		before, later = before[:len(before)-1], later[:len(later)-1]
	}
	return before, later
}

// keyLater returns what stands for somebody of the old estate in both.
func (c *comparison) keyLater(id estate.ID) string {
	if id.IsNobody() {
		return c.b.Key(c.a.Address(id))
	}
	return c.keyOf(c.a, id, true)
}

// onlyIn returns the texts of which one count has more than another, sorted.
func onlyIn(list, other map[string]int) []string {
	var texts []string
	for text, n := range list {
		for range n - other[text] {
			texts = append(texts, text)
		}
	}
	slices.Sort(texts)
	return texts
}

func memberText(name string, e estate.Entry) string {
	return name + optionText(e.Membership())
}

func ruleText(r estate.MemberRule) string {
	name := "everyone"
	if r.Filter != nil {
		name = "where " + r.Filter.String()
	}
	return name + optionText(r.Membership)
}

// optionText returns what a membership says, in parentheses, or "".
func optionText(m estate.Membership) string {
	parts := m.Says()
	if parts == nil {
		return ""
	}
	return " (" + strings.Join(parts, ", ") + ")"
}
