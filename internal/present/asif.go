package present

import (
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Says returns what a change of an estate makes true.
func Says(e *estate.Estate, c change.Change) string { return namer{e: e}.asIf(c).Says }

// asIf reports a change that would explain what was seen.
func (n namer) asIf(c change.Change) AsIf {
	about := c.About(n.e)
	a := AsIf{Setting: about.Setting}
	if about.Group != estate.None {
		a.Group = n.address(about.Group)
	}
	if about.Person != estate.None && !n.e.IsGroup(about.Person) {
		a.Person = n.address(about.Person)
	}
	switch c := c.(type) {
	case change.SetSetting:
		n.asIfSetting(&a, c)
	case change.SetList:
		n.asIfList(&a, c)
	case change.InsertRule, change.SetRule, change.RemoveRule:
		n.asIfRule(&a, c)
	case change.AddMember, change.SetMember, change.RemoveMember:
		n.asIfMember(&a, c)
	case change.SetMemberRule, change.RemoveMemberRule:
		n.asIfMemberRule(&a, c)
	case change.RemoveGroup:
		a.Value, a.Says = a.Group, a.Group+" does not exist"
		a.YAML = "# without the address " + a.Value + "\n"
	case change.SetPerson:
		a.Value, a.Says = c.Text, "the "+c.Field+" of "+a.Person+" is "+c.Text
		a.YAML = "people:\n  - {address: " + a.Person + ", " + c.Field + ": " + c.Text + "}\n"
	case change.AddGroup:
		a.Value, a.Says = c.Address.String(), c.Address.String()+" is a group"
	case change.RenameGroup:
		a.Value, a.Says = c.To.String(), a.Group+" is called "+c.To.String()
	case change.AddPerson:
		a.Value, a.Says = c.Address.String(), c.Address.String()+" exists"
	case change.SetAttribute:
		a.Value = strings.Join(c.Values, "; ")
		a.Says = "the " + c.Attribute + " of " + a.Person + " is " + orNone(a.Value)
	case change.SetPersonAlso:
		a.Value = strings.Join(addressTexts(c.Also), "; ")
		a.Says = "aliases of " + a.Person + ": " + orNone(a.Value)
	case change.RenamePerson:
		a.Value, a.Says = c.To.String(), a.Person+" is called "+c.To.String()
	case change.RemovePerson:
		a.Value, a.Says = a.Person, a.Person+" does not exist"
	case change.Accept:
		a.Value, a.Says = c.Acceptance.String(), "the hazard "+c.Acceptance.Hazard+" is accepted"
	case change.AddDomain:
		a.Value, a.Says = c.Name, "the domain "+c.Name+" is one of the estate"
	case change.RemoveDomain:
		a.Value, a.Says = c.Name, "the domain "+c.Name+" is not one of the estate"
		a.YAML = "# domains: without " + c.Name + "\n"
	case change.SetNestedGates:
		a.Value = estate.NestedGatesWord(c.Open)
		a.Says, a.YAML = "nested-gates is "+a.Value, "nested-gates: "+a.Value+"\n"
	}
	return a
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func addressTexts(list []address.Address) []string {
	texts := make([]string, len(list))
	for i, a := range list {
		texts[i] = a.String()
	}
	return texts
}

// groupYAML returns a part of a group as it would stand in the estate.
func groupYAML(address, text string) string {
	return "groups:\n  - address: " + address + "\n    " + text + "\n"
}

// rulesYAML is groupYAML of a list of rules.
func rulesYAML(address, setting string, texts []string) string {
	if len(texts) == 0 {
		return groupYAML(address, setting+": []")
	}
	text := setting + ":"
	for _, rule := range texts {
		text += "\n      - " + oneLine(rule)
	}
	return groupYAML(address, text)
}

func (n namer) asIfSetting(a *AsIf, c change.SetSetting) {
	switch {
	case c.Setting == "gate" && len(c.Texts) == 1:
		a.Value, a.Says = c.Texts[0], "the gate of "+a.Group+" is just \""+c.Texts[0]+"\""
		a.YAML = rulesYAML(a.Group, c.Setting, c.Texts)
		return
	case c.Setting == "send-as" && len(c.Texts) == 0:
		a.Value, a.Says, a.YAML = "[]", "nobody may send as "+a.Group, rulesYAML(a.Group, c.Setting, nil)
		return
	}
	a.Value = strings.Join(c.Texts, "; ")
	a.Says, a.YAML = c.Setting+" of "+a.Group+" is "+orNone(a.Value), groupYAML(a.Group, c.Setting+": "+a.Value)
	if c.Setting == "kind" {
		a.Says = a.Group + " is a " + a.Value
	}
}

func (n namer) asIfList(a *AsIf, c change.SetList) {
	a.Value = slices.Concat(c.Drop, c.Add)[0]
	if c.Setting == "also" && len(c.Add) > 0 {
		a.Says = "the address " + a.Value + " is an alias of " + a.Group
		a.YAML = groupYAML(a.Group, "also: ["+a.Value+"]")
		return
	}
	if c.Setting == "also" {
		a.Says = "the address " + a.Value + " is not an alias of " + a.Group
		a.YAML = "# without the address " + a.Value + "\n"
		return
	}
	role, verb := map[string]string{"owners": "an owner", "moderators": "a moderator"}[c.Setting], " is "
	if len(c.Drop) > 0 {
		verb = " is not "
	}
	a.Says = a.Value + verb + role + " of " + a.Group
	listed := n.e.Group(c.Group)
	var texts []string
	for _, one := range map[string][]estate.Listed{"owners": listed.Owners, "moderators": listed.Moderators}[c.Setting] {
		if text := n.address(one.ID); !slices.Contains(c.Drop, text) {
			texts = append(texts, text)
		}
	}
	a.YAML = groupYAML(a.Group, c.Setting+": ["+strings.Join(append(texts, c.Add...), ", ")+"]")
}

// asIfRule reports a rule of a gate or of send-as that comes, goes or says something else.
func (n namer) asIfRule(a *AsIf, c change.Change) {
	setting, _ := estate.GroupSetting(a.Setting)
	about := c.About(n.e)
	texts := slices.Clone(setting.Holds(n.e, n.e.Group(about.Group)))
	of := "the " + a.Setting + " of " + a.Group
	if a.Setting != "gate" {
		of = a.Setting + " of " + a.Group
	}
	number := func(at int) string { return "rule " + strconv.Itoa(at+1) + " of " + of }
	switch c := c.(type) {
	case change.RemoveRule:
		a.Says = number(c.At) + " (\"" + texts[c.At] + "\") does not exist"
		texts = slices.Delete(texts, c.At, c.At+1)
	case change.SetRule:
		a.Value, a.Says = c.Text, number(c.At)+" says \""+c.Text+"\""
		texts[c.At] = c.Text
	case change.InsertRule:
		a.Value = c.Text
		switch {
		case a.Setting == "send-as":
			a.Says = of + " has \"" + c.Text + "\""
		case c.At == 0:
			a.Says = of + " begins with \"" + c.Text + "\""
		case c.At == len(texts):
			a.Says = of + " ends with \"" + c.Text + "\""
		default:
			a.Says = of + " has \"" + c.Text + "\" before rule " + strconv.Itoa(c.At+1)
		}
		texts = slices.Insert(texts, c.At, c.Text)
	}
	a.YAML = rulesYAML(a.Group, a.Setting, texts)
}

// asIfMember reports a membership that comes, goes or says something else.
func (n namer) asIfMember(a *AsIf, c change.Change) {
	about := c.About(n.e)
	who, nested := "", n.e.IsGroup(about.Person)
	if about.Person != estate.None {
		who = n.address(about.Person)
	}
	switch c := c.(type) {
	case change.RemoveMember:
		a.Says = who + " is not a member of " + a.Group
		a.YAML = groupYAML(a.Group, "members: # without "+who)
		if nested {
			a.Says, a.YAML = who+" is not nested in "+a.Group, groupYAML(a.Group, "members: # without it")
		}
		return
	case change.SetMember:
		a.Value, a.Says = n.asIfMembership(who, a.Group, n.e.Entries(c.Group)[c.Entry].Membership(), c.Membership)
		if nested {
			a.Value = "{address: " + who + ", " + a.Value + "}"
		}
	case change.AddMember:
		if c.Member.IsRule() {
			a.Value = ruleWords(c.Member.Filter)
			a.Says, a.YAML = "\""+a.Value+"\" is among the members of "+a.Group, groupYAML(a.Group,
				"members:\n      - "+a.Value)
			return
		}
		who = c.Member.Address.String()
		a.Says = who + " is a member of " + a.Group
		if c.Member.Copy != estate.CopyUnset {
			a.Says += " with copy " + c.Member.Copy.String()
		}
		a.Value = "{address: " + who + ", copy: " + c.Member.Copy.String() + "}"
		if n.picked(c.Group, about.Person) {
			a.Value, a.Says = "copy: none", who+" has copy none of their own in "+a.Group
		}
	}
	item := a.Value
	if !strings.HasPrefix(item, "{") {
		item = "{address: " + who + ", " + strings.TrimSuffix(item, ": ") + "}"
	}
	a.YAML = groupYAML(a.Group, "members:\n      - "+item)
}

// asIfMembership says what is new in a membership.
func (n namer) asIfMembership(who, group string, was, now estate.Membership) (value, says string) {
	of := " of " + who + " in " + group + " is "
	switch {
	case now.Copy != was.Copy:
		return "copy: " + now.Copy.String(), "the copy" + of + now.Copy.String()
	case now.Invitations != was.Invitations:
		return "invitations: " + now.Invitations.String(), "invitations" + of + now.Invitations.String()
	case now.Paused && !was.Paused:
		return "paused: true", "the membership of " + who + " in " + group + " is paused"
	case was.Paused && !now.Paused:
		return "paused: false", "the membership of " + who + " in " + group + " is not paused"
	case now.Since == 0:
		return "since: ", who + " is not a newcomer in " + group
	}
	return "since: " + now.Since.String(), who + " is new in " + group
}

// picked reports whether a rule among the members of a group picks somebody.
func (n namer) picked(group, person estate.ID) bool {
	return n.e.IsPerson(person) && n.e.Inside(person) && slices.ContainsFunc(n.e.Rules(group),
		func(rule estate.MemberRule) bool {
			return rule.Filter == nil || n.e.Matches(person, rule.Filter)
		})
}

// asIfMemberRule reports a rule among the members that goes or says something else.
func (n namer) asIfMemberRule(a *AsIf, c change.Change) {
	switch c := c.(type) {
	case change.RemoveMemberRule:
		a.Says = "\"" + ruleWords(n.e.Rules(c.Group)[c.Rule].Filter) + "\" is not among the members of " + a.Group
		a.YAML = groupYAML(a.Group, "members: # without "+ruleWords(n.e.Rules(c.Group)[c.Rule].Filter))
	case change.SetMemberRule:
		was := n.e.Rules(c.Group)[c.Rule]
		text := ruleWords(was.Filter)
		if c.Copy != was.Copy {
			a.Value = "copy: " + c.Copy.String()
			a.Says = "the members of " + a.Group + " by \"" + text + "\" have " + strings.Replace(a.Value, ":", "", 1)
			item := text
			if was.Filter == nil {
				item += ": true"
			}
			a.YAML = groupYAML(a.Group, "members:\n      - "+item+"\n        "+a.Value)
			return
		}
		a.Person = leftOut(c.Filter)
		a.Says = a.Person + " is not among those in " + a.Group + " by \"" + text + "\""
		a.YAML = groupYAML(a.Group, "members: # without "+a.Person)
	}
}

// ruleWords returns a rule among the members of a group as it is written.
func ruleWords(f selector.Filter) string {
	if f == nil {
		return "everyone"
	}
	return "where: " + f.String()
}

// leftOut returns the address that the last part of a filter leaves out, or "".
func leftOut(f selector.Filter) string {
	if all, ok := f.(selector.FilterAnd); ok {
		f = all[len(all)-1]
	}
	if not, ok := f.(selector.FilterNot); ok {
		if item, ok := not.X.(*selector.Item); ok && item.Attribute == "address" {
			return item.Value
		}
	}
	return ""
}
