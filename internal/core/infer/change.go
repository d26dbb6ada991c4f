package infer

import (
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Change is a change to an estate in one setting.
type Change struct {
	Group   estate.ID // that it is about, or estate.None
	Person  estate.ID // that it is about, or estate.None
	Setting string    // the setting that changes, such as gate, members or mailbox
	// Value is what it says then, as it is written in an estate: of a gate the
	// rule that comes or changes.
	Value string
	// Says goes on from "as if ".
	Says string

	edits       []estate.Edit
	weight      int             // the less, the likelier
	lostAddress address.Address // leads nowhere
	lostDomain  string          // likewise, all in it
	everywhere  bool            // matters to every trial
}

// clashes reports whether two changes are of the same setting, so that the second
// does not find what it changes as it was.
func (c *Change) clashes(other *Change) bool {
	return c.Group == other.Group && c.Setting == other.Setting &&
		(c.Setting != "members" || c.Person == other.Person || c.edits[0].Rules != nil || other.edits[0].Rules != nil)
}

func (c *Change) key() string { return c.Says }

// matters reports whether the change can matter to a trial.
func (c *Change) matters(touched map[estate.ID]bool, t *Trial) bool {
	if c.everywhere || c.lostAddress.IsValid() || c.lostDomain != "" {
		return true
	}
	if c.Group == estate.None {
		_, seen := t.Seen.People[c.Person]
		return seen
	}
	return touched[c.Group]
}

// gone reports whether an address leads nowhere by the change.
func (c *Change) gone(e *estate.Estate, to address.Address) bool {
	return c.lostAddress.IsValid() && strings.EqualFold(c.lostAddress.String(), to.String()) ||
		c.lostDomain != "" && c.lostDomain == to.Domain()
}

// parseRule returns a rule of a gate.
func parseRule(verdict estate.Verdict, selectorText string) (estate.GateRule, bool) {
	x, err := selector.Parse(selectorText, selector.ForMessages)
	if err != nil {
		return estate.GateRule{}, false
	}
	return estate.GateRule{Verdict: verdict, Selector: x, Text: verdict.String() + " " + selectorText}, true
}

// candidates returns changes that may explain a miss.
func (x *search) candidates(miss Miss) []Change {
	t := &x.trials[miss.Trial]
	e := x.r.Estate()
	to, ok := e.Find(t.To)
	if !ok || !e.IsGroup(to) {
		if t.By.IsValid() && miss.Person == estate.None {
			return x.voiceChanges(t)
		}
		return nil
	}
	if miss.Person == estate.None {
		return x.verdictChanges(t, to)
	}
	from := x.r.Sender(t.From)
	d := x.r.Deliver(to, &from, t.Message)
	var list []Change
	for _, way := range d.Ways {
		list = append(list, x.membershipChanges(way.Group, to, miss.Person)...)
		list = append(list, x.settingChanges(way.Group, miss.Person)...)
		for _, change := range x.gateChanges(t, way.Group) {
			if way.Group != to {
				change.weight += 4 // somebody would have been told, more often than not
			}
			list = append(list, change)
		}
		if way.Group != to {
			list = append(list, x.nestingChanges(d.Before(way), way.Group)...)
		}
	}
	for _, child := range e.Children(to) {
		list = append(list, x.nestingChanges(to, child.Group)...)
	}
	for state, word := range estate.MailboxWords {
		if estate.MailboxState(state) != e.Person(miss.Person).Mailbox {
			list = append(
				list,
				Change{Group: estate.None, Person: miss.Person, Setting: "mailbox", Value: word, weight: 11 + state,
					Says:  "the mailbox of " + x.name(miss.Person) + " were " + word,
					edits: []estate.Edit{{Person: miss.Person, SetMailbox: true, Mailbox: estate.MailboxState(state)}}},
			)
		}
	}
	word := "open"
	if e.Settings().OpenNestedGates {
		word = "enforce"
	}
	return append(
		list,
		Change{
			Group:      estate.None,
			Person:     estate.None,
			Setting:    "nested-gates",
			Value:      word,
			weight:     17,
			everywhere: true,
			Says:       "nested-gates were " + word,
			edits:      []estate.Edit{{NestedGates: true}},
		},
	)
}

func (x *search) name(id estate.ID) string { return x.r.Estate().Address(id).String() }

// verdictChanges may explain another verdict of the group that a message is for.
func (x *search) verdictChanges(t *Trial, group estate.ID) []Change {
	e := x.r.Estate()
	list := x.gateChanges(t, group)
	if t.By.IsValid() {
		list = append(list, x.voiceChanges(t)...)
	}
	from := x.r.Sender(t.From)
	g := e.Group(group)
	if e.IsPerson(from.ID) {
		list = append(list, x.membershipChanges(group, group, from.ID)...)
		list = append(list, x.roleChanges(group, from.ID)...)
		for _, child := range e.Children(group) {
			list = append(list, x.membershipChanges(child.Group, group, from.ID)...)
			list = append(list, x.nestingChanges(group, child.Group)...)
		}
		visit := func(a *selector.Atom) {
			if a.Kind != selector.In {
				return
			}
			if id, ok := e.Find(a.Address); ok && e.IsGroup(id) {
				list = append(list, x.membershipChanges(id, id, from.ID)...)
			}
		}
		for _, rule := range g.Gate {
			selector.Atoms(rule.Selector, visit)
		}
	}
	if g.Kind != estate.Roster {
		list = append(list, x.kindChange(group, estate.Roster, 20))
	}
	if !strings.EqualFold(t.To.String(), g.Address.String()) {
		if t.To.Domain() != g.Address.Domain() {
			list = append(
				list,
				Change{
					Group:      group,
					Person:     estate.None,
					Setting:    "domains",
					Value:      t.To.Domain(),
					weight:     8,
					lostDomain: t.To.Domain(),
					Says:       "the domain " + t.To.Domain() + " led nowhere",
				},
			)
		}
		list = append(
			list,
			Change{
				Group:       group,
				Person:      estate.None,
				Setting:     "also",
				Value:       t.To.String(),
				weight:      7,
				lostAddress: t.To,
				Says:        "the address " + t.To.String() + " did not lead to " + x.name(group),
			},
		)
	}
	list = append(
		list,
		Change{
			Group:       group,
			Person:      estate.None,
			Setting:     "address",
			Value:       g.Address.String(),
			weight:      19,
			lostAddress: g.Address,
			Says:        x.name(group) + " were not there",
		},
	)
	return list
}

// gateChanges may explain another verdict of a gate.
func (x *search) gateChanges(t *Trial, group estate.ID) []Change {
	e := x.r.Estate()
	g := e.Group(group)
	if g.Kind == estate.Roster {
		return nil
	}
	from := x.r.Sender(t.From)
	decision := x.r.Judge(group, from, t.Message)
	var list []Change
	add := func(weight int, value, says string, change func([]estate.GateRule) []estate.GateRule) {
		list = append(
			list,
			Change{Group: group, Person: estate.None, Setting: "gate", Value: value, weight: weight, Says: says,
				edits: []estate.Edit{
					{Group: group, Change: func(g *estate.Group) { g.Gate = change(slices.Clone(g.Gate)) }},
				}},
		)
	}
	of := "of the gate of " + x.name(group)
	for i, rule := range g.Gate {
		number := "rule " + strconv.Itoa(i+1) + " " + of
		near := 0
		if i+1 != decision.Rule {
			near = 2
		}
		add(
			9+near,
			"",
			number+" (\""+rule.Text+"\") were not there",
			func(gate []estate.GateRule) []estate.GateRule { return slices.Delete(gate, i, i+1) },
		)
		for v := range estate.Verdict(len(estate.VerdictWords)) {
			if v == rule.Verdict {
				continue
			}
			text := v.String() + " " + rule.Selector.String()
			add(8+near+int(v)/3, text, number+" said \""+text+"\"", func(gate []estate.GateRule) []estate.GateRule {
				gate[i].Verdict, gate[i].Text = v, text
				return gate
			})
		}
	}
	for v := range estate.Verdict(len(estate.VerdictWords)) {
		for i, who := range x.senderSelectors(t) {
			rule, ok := parseRule(v, who)
			if !ok {
				continue
			}
			add(
				10+i,
				rule.Text,
				"the gate of "+x.name(group)+" began with \""+rule.Text+"\"",
				func(gate []estate.GateRule) []estate.GateRule { return slices.Insert(gate, 0, rule) },
			)
			if at := decision.Rule - 1; at > 0 {
				add(
					10+i,
					rule.Text,
					"the gate of "+x.name(group)+" had \""+rule.Text+"\" before rule "+strconv.Itoa(at+1),
					func(gate []estate.GateRule) []estate.GateRule { return slices.Insert(gate, at, rule) },
				)
			}
			if decision.Rule == 0 && v != estate.Refuse {
				add(
					10+i,
					rule.Text,
					"the gate of "+x.name(group)+" ended with \""+rule.Text+"\"",
					func(gate []estate.GateRule) []estate.GateRule { return append(gate, rule) },
				)
			}
		}
	}
	for i, who := range []string{"inside", "members", "anyone", "members or owners", "owners or moderators", "nobody"} {
		if rule, ok := parseRule(estate.Admit, who); ok && !(len(g.Gate) == 1 && g.Gate[0].Text == rule.Text) {
			add(
				10+i,
				rule.Text,
				"the gate of "+x.name(group)+" were just \""+rule.Text+"\"",
				func([]estate.GateRule) []estate.GateRule { return []estate.GateRule{rule} },
			)
		}
	}
	return list
}

// senderSelectors returns selectors that are true for the message of a trial, the
// likeliest for a rule first.
func (x *search) senderSelectors(t *Trial) []string {
	from := x.r.Sender(t.From)
	var list []string
	if t.Message.Unproven {
		list = append(list, "unproven")
	}
	if t.Message.Invitation {
		list = append(list, "invitation")
	}
	if t.Message.Automatic {
		list = append(list, "automatic")
	}
	if t.Message.Suspect {
		list = append(list, "suspect")
	}
	if from.Inside && !t.Message.Unproven {
		list = append(list, "inside")
	} else {
		list = append(list, "outside")
	}
	if from.ID == estate.None {
		list = append(list, "not known")
	} else {
		list = append(list, t.From.String())
	}
	return append(list, "anyone", "not members", "members", "@"+t.From.Domain())
}

// voiceChanges may explain another right to write in a group's name.
func (x *search) voiceChanges(t *Trial) []Change {
	e := x.r.Estate()
	group, ok := e.Find(t.From)
	if !ok || !e.IsGroup(group) {
		return nil
	}
	var list []Change
	add := func(weight int, value, says string, change func([]estate.VoiceRule) []estate.VoiceRule) {
		list = append(
			list,
			Change{Group: group, Person: estate.None, Setting: "voice", Value: value, weight: weight, Says: says,
				edits: []estate.Edit{
					{Group: group, Change: func(g *estate.Group) { g.Voice = change(slices.Clone(g.Voice)) }},
				}},
		)
	}
	for i, rule := range e.Group(group).Voice {
		add(8, "", "rule "+strconv.Itoa(i+1)+" of the voice of "+x.name(group)+" (\""+rule.Text+"\") were not there",
			func(voice []estate.VoiceRule) []estate.VoiceRule { return slices.Delete(voice, i, i+1) })
	}
	for i, who := range []string{t.By.String(), "members", "owners", "moderators", "inside"} {
		if s, err := selector.Parse(who, selector.ForPeople); err == nil {
			rule := estate.VoiceRule{Voice: estate.VoiceAs, Selector: s, Text: "as " + who}
			add(
				9+i,
				rule.Text,
				"the voice of "+x.name(group)+" had \""+rule.Text+"\"",
				func(voice []estate.VoiceRule) []estate.VoiceRule { return append(voice, rule) },
			)
		}
	}
	add(12, "[]", "nobody had a voice in "+x.name(group), func([]estate.VoiceRule) []estate.VoiceRule { return nil })
	return list
}

// roleChanges make somebody an owner or moderator, or take that from them.
func (x *search) roleChanges(group, person estate.ID) []Change {
	var list []Change
	for _, role := range []struct {
		setting, one string
		of           func(*estate.Group) *[]estate.Listed
	}{
		{"moderators", "a moderator", func(g *estate.Group) *[]estate.Listed { return &g.Moderators }},
		{"owners", "an owner", func(g *estate.Group) *[]estate.Listed { return &g.Owners }},
	} {
		change := Change{Group: group, Person: person, Setting: role.setting, Value: x.name(person)}
		is := func(l estate.Listed) bool { return l.ID == person }
		if slices.ContainsFunc(*role.of(x.r.Estate().Group(group)), is) {
			change.weight, change.Says = 13, x.name(person)+" were not "+role.one+" of "+x.name(group)
			change.edits = []estate.Edit{{Group: group, Change: func(g *estate.Group) {
				*role.of(g) = slices.DeleteFunc(slices.Clone(*role.of(g)), is)
			}}}
		} else {
			change.weight, change.Says = 15, x.name(person)+" were "+role.one+" of "+x.name(group)
			change.edits = []estate.Edit{{Group: group, Change: func(g *estate.Group) {
				*role.of(g) = append(slices.Clone(*role.of(g)), estate.Listed{ID: person})
			}}}
		}
		list = append(list, change)
	}
	return list
}

// membershipChanges change what somebody's membership in a group says, end it, or
// begin one in the group that a message is for.
func (x *search) membershipChanges(group, to, person estate.ID) []Change {
	e := x.r.Estate()
	entry, rule := x.r.Membership(group, person)
	var list []Change
	add := func(weight int, value, says string, edit estate.Edit) {
		edit.Group = group
		list = append(
			list,
			Change{
				Group:   group,
				Person:  person,
				Setting: "members",
				Value:   value,
				weight:  weight,
				Says:    says,
				edits:   []estate.Edit{edit},
			},
		)
	}
	who, in := x.name(person), x.name(group)
	switch {
	case entry != nil:
		change := func(change func(*estate.Membership)) func([]estate.Entry) []estate.Entry {
			return func(rows []estate.Entry) []estate.Entry {
				for i := range rows {
					if rows[i].Member == person {
						m := rows[i].Membership()
						change(&m)
						rows[i] = estate.NewEntry(person, m, rows[i].Place)
						break
					}
				}
				return rows
			}
		}
		for copy := estate.CopyEvery; copy <= estate.CopyNone; copy++ {
			if copy != entry.Copy() {
				add(
					copyWeights[copy],
					"copy: "+copy.String(),
					"the copy of "+who+" in "+in+" were "+copy.String(),
					estate.Edit{Rows: change(func(m *estate.Membership) { m.Copy = copy })},
				)
			}
		}
		paused, says := !entry.Paused(), "were paused"
		if !paused {
			says = "were not paused"
		}
		add(
			13,
			"paused: "+strconv.FormatBool(paused),
			"the membership of "+who+" in "+in+" "+says,
			estate.Edit{Rows: change(func(m *estate.Membership) { m.Paused = paused })},
		)
		for invitations := estate.InvitationsFollow; invitations <= estate.InvitationsNone; invitations++ {
			if invitations != entry.Invitations() {
				add(
					12,
					"invitations: "+estate.InvitationsWords[invitations],
					"the invitations of "+who+" in "+in+" were "+estate.InvitationsWords[invitations],
					estate.Edit{Rows: change(func(m *estate.Membership) { m.Invitations = invitations })},
				)
			}
		}
		add(
			14,
			"since: "+x.r.Today().String(),
			who+" were new in "+in,
			estate.Edit{Rows: change(func(m *estate.Membership) { m.Since = x.r.Today() })},
		)
		add(
			15,
			"since: ",
			who+" were no newcomer in "+in,
			estate.Edit{Rows: change(func(m *estate.Membership) { m.Since = 0 })},
		)
		add(11, "", who+" were no member of "+in, estate.Edit{Rows: func(rows []estate.Entry) []estate.Entry {
			return slices.DeleteFunc(rows, func(one estate.Entry) bool { return one.Member == person })
		}})
	case rule != nil:
		i := slices.IndexFunc(e.Rules(group), func(one estate.MemberRule) bool { return one.Place == rule.Place })
		text := "everyone"
		if rule.Filter != nil {
			text = "where: " + rule.Filter.String()
		}
		for copy := estate.CopyEvery; copy <= estate.CopyNone; copy++ {
			if copy != rule.Copy {
				add(
					12,
					"copy: "+copy.String(),
					"the members of "+in+" by \""+text+"\" had copy "+copy.String(),
					estate.Edit{Rules: func(rules []estate.MemberRule) []estate.MemberRule {
						rules[i].Copy = copy
						return rules
					}},
				)
			}
		}
		add(
			11,
			"",
			"\""+text+"\" did not stand among the members of "+in,
			estate.Edit{
				Rules: func(rules []estate.MemberRule) []estate.MemberRule { return slices.Delete(rules, i, i+1) },
			},
		)
		others := func(rows []estate.Entry) []estate.Entry {
			return append(rows, estate.NewEntry(person, estate.Membership{Copy: estate.CopyNone}, rule.Place))
		}
		if filter, err := selector.ParseFilter(without(rule.Filter, who)); err == nil {
			add(
				9,
				"",
				who+" were not among those in "+in+" by \""+text+"\"",
				estate.Edit{Rules: func(rules []estate.MemberRule) []estate.MemberRule {
					rules[i].Filter = filter
					return rules
				}},
			)
		}
		add(10, "copy: none", who+" had a copy none of their own in "+in, estate.Edit{Rows: others})
	case group == to:
		for copy := estate.CopyUnset; copy <= estate.CopyNone; copy++ {
			says := who + " were a member of " + in
			if copy != estate.CopyUnset {
				says += " with copy " + copy.String()
			}
			add(
				11+min(int(copy), 1),
				"{address: "+who+", copy: "+copy.String()+"}",
				says,
				estate.Edit{Rows: func(rows []estate.Entry) []estate.Entry {
					return append(rows, estate.NewEntry(person, estate.Membership{Copy: copy}, estate.Place{}))
				}},
			)
		}
	}
	return list
}

// without returns a filter that leaves somebody out.
func without(f selector.Filter, who string) string {
	text := "(!(address=" + strings.NewReplacer("*", `\2a`, "(", `\28`, ")", `\29`, `\`, `\5c`).Replace(who) + "))"
	if f == nil {
		return text
	}
	return "(&" + f.String() + text + ")"
}

// copyWeights are the weights of another copy: replies are rarely meant.
var copyWeights = map[estate.Copy]int{
	estate.CopyEvery:   10,
	estate.CopyDigest:  10,
	estate.CopyNone:    10,
	estate.CopyReplies: 16,
}

// settingChanges change what a group says about copies.
func (x *search) settingChanges(group, person estate.ID) []Change {
	e := x.r.Estate()
	g := e.Group(group)
	var list []Change
	add := func(weight int, setting, value string, change func(*estate.Group)) {
		list = append(list, Change{
			Group:   group,
			Person:  estate.None,
			Setting: setting,
			Value:   value,
			weight:  weight,
			Says:    setting + " of " + x.name(group) + " were " + value,
			edits:   []estate.Edit{{Group: group, Change: change}},
		})
	}
	for copy := estate.CopyEvery; copy <= estate.CopyNone; copy++ {
		if copy != g.Copy {
			add(13, "copy", copy.String(), func(g *estate.Group) { g.Copy = copy })
		}
		if copy != g.OutsideCopy && !e.Inside(person) {
			add(copyWeights[copy]-1, "outside-copy", copy.String(), func(g *estate.Group) { g.OutsideCopy = copy })
		}
	}
	for invitations := estate.InvitationsFollow; invitations <= estate.InvitationsNone; invitations++ {
		if invitations != g.Invitations {
			add(
				11,
				"invitations",
				estate.InvitationsWords[invitations],
				func(g *estate.Group) { g.Invitations = invitations },
			)
		}
	}
	add(8, "echo", strconv.FormatBool(g.NoEcho), func(g *estate.Group) { g.NoEcho = !g.NoEcho })
	for kind := estate.List; kind <= estate.Mailbox; kind++ {
		if kind != g.Kind {
			list = append(list, x.kindChange(group, kind, 14))
		}
	}
	return list
}

func (x *search) kindChange(group estate.ID, kind estate.Kind, weight int) Change {
	return Change{
		Group:   group,
		Person:  estate.None,
		Setting: "kind",
		Value:   kind.String(),
		weight:  weight,
		Says:    x.name(group) + " were a " + kind.String(),
		edits:   []estate.Edit{{Group: group, Change: func(g *estate.Group) { g.Kind = kind }}},
	}
}

// nestingChanges change whether mail passes from a group to one nested in it.
func (x *search) nestingChanges(outer, nested estate.ID) []Change {
	if outer == estate.None {
		return nil
	}
	passes := false
	for _, child := range x.r.Estate().Children(outer) {
		passes = passes || child.Group == nested && child.Passes
	}
	turn := func(copy estate.Copy) func([]estate.Entry) []estate.Entry {
		return func(rows []estate.Entry) []estate.Entry {
			for i := range rows {
				if rows[i].Member == nested {
					rows[i] = estate.NewEntry(nested, estate.Membership{Copy: copy}, rows[i].Place)
				}
			}
			return rows
		}
	}
	change := Change{
		Group:   outer,
		Person:  estate.None,
		Setting: "members",
		weight:  8,
		Value:   "{address: " + x.name(nested) + ", copy: none}",
		Says:    "the copy of " + x.name(nested) + " in " + x.name(outer) + " were none",
		edits:   []estate.Edit{{Group: outer, Rows: turn(estate.CopyNone)}},
	}
	if !passes {
		change.Value, change.Says = "{address: "+x.name(nested)+", copy: every}", "the copy of "+x.name(nested)+" in "+x.name(outer)+" were every"
		change.edits[0].Rows = turn(estate.CopyEvery)
		return []Change{change}
	}
	without := change
	without.Value, without.weight, without.Says = "", 9, x.name(nested)+" were not nested in "+x.name(outer)
	without.edits = []estate.Edit{{Group: outer, Rows: func(rows []estate.Entry) []estate.Entry {
		return slices.DeleteFunc(rows, func(one estate.Entry) bool { return one.Member == nested })
	}}}
	return []Change{change, without}
}

// Apply returns an estate with the change. Addresses lead where they did.
func (c *Change) Apply(e *estate.Estate) *estate.Estate { return e.With(c.edits...) }
