package present

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// What is said where no rule of a gate decides.
const (
	noRule      = "no rule of the gate lets you in" // to the sender
	noMatch     = "no rule matches"                 // to the administrator
	rosterTakes = "a roster accepts no mail"
)

// Decision is what a gate says, with the rule that decides.
type Decision struct {
	Verdict string `json:"verdict"`
	Rule    int    `json:"rule"`            // of the group's gate, from 1; 0: none
	Edge    int    `json:"edge,omitempty"`  // the rule of the edge that decides, from 1
	Text    string `json:"text"`            // what the sender hears
	Written string `json:"written"`         // the rule as written, or ""
	Place   string `json:"place,omitempty"` // where it stands, as file:line:column

	gate string // the place of the gate, or ""
}

// at returns the place of the rule that decides, or of the gate that has none for it.
func (d Decision) at() string {
	if d.Place == "" {
		return d.gate
	}
	return d.Place
}

func newDecision(e *estate.Estate, group estate.ID, d resolve.Decision) Decision {
	if d.Edge > 0 {
		return edgeDecision(e, d)
	}
	g := e.Group(group)
	decision := Decision{Verdict: d.Verdict.String(), Rule: d.Rule, Text: noRule}
	if place := g.Where("gate"); place != (estate.Place{}) {
		decision.gate = e.Settings().Position(place)
	}
	switch {
	case d.Rule > 0:
		rule := g.Gate[d.Rule-1]
		decision.Text, decision.Written = rule.Because, oneLine(rule.Text)
		decision.Place = e.Settings().Position(rule.Place)
	case g.Kind == estate.Roster:
		decision.Text = rosterTakes
	}
	return decision
}

// edgeDecision is a decision of the edge.
func edgeDecision(e *estate.Estate, d resolve.Decision) Decision {
	rule := e.Settings().Edge[d.Edge-1]
	return Decision{
		Verdict: d.Verdict.String(), Edge: d.Edge, Text: rule.Because, Written: oneLine(rule.Text),
		Place: e.Settings().Position(rule.Place),
	}
}

// by tells which rule decides, in words.
func (d Decision) by() string {
	switch {
	case d.Edge > 0:
		return "edge rule " + strconv.Itoa(d.Edge) + ": " + d.Written
	case d.Rule == 0 && d.Text == noRule:
		return noMatch
	case d.Rule == 0:
		return d.Text
	}
	if d.Place == "" {
		return "the default gate: " + d.Written
	}
	return "rule " + strconv.Itoa(d.Rule) + ": " + d.Written
}

// who says whose decision it is: the edge's or the gate's.
func (d Decision) who() string {
	if d.Edge > 0 {
		return "edge"
	}
	return "gate"
}

// byIn is by where a colon stands before it.
func (d Decision) byIn() string { return strings.Replace(d.by(), ": ", ", ", 1) }

// byShort is by without the word rule and what the sender hears.
func (d Decision) byShort() string {
	if d.Rule == 0 && d.Edge == 0 {
		return d.by()
	}
	written, _, _ := strings.Cut(d.Written, " because \"")
	if d.Edge > 0 {
		return "edge " + strconv.Itoa(d.Edge) + " " + written
	}
	return strconv.Itoa(d.Rule) + " " + written
}

// verdictStyle is that of a verdict or a path. Colour is for risk: a verdict is what the
// gate is meant to say, and only a path that does not lead on is a fault.
func verdictStyle(verdict string) Style {
	switch verdict {
	case "open":
		return Plain
	case "waiting":
		return Doubtful
	case "stopped":
		return Bad
	}
	return Strong
}

func outcomeStyle(outcome string) Style {
	switch outcome {
	case "inbox", "digest", "archive", "":
		return Plain
	case "waiting", "nothing":
		return Doubtful
	}
	return Bad
}

// oneLine returns a text that may have been written over several lines on one.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// Count returns a number with its noun, such as "1 group" or "2,500 groups".
func Count(n int, one, many string) string { return thousands(n) + " " + choose(n, one, many) }

// count returns a number with its noun, such as "1 group" or "2 groups".
func count(n int, one, many string) string { return strconv.Itoa(n) + " " + choose(n, one, many) }

// choose returns the word for one, or that for several.
func choose(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// groupName returns a group as people speak of it: its title and kind.
func groupName(g *estate.Group) string {
	if g.Title == "" {
		return "a " + g.Kind.String()
	}
	return g.Title + ", a " + g.Kind.String()
}

// namer finds words for people, groups and places of one estate.
type namer struct {
	r *resolve.Resolver
	e *estate.Estate
}

func newNamer(r *resolve.Resolver) namer { return namer{r, r.Estate()} }

func (n namer) address(id estate.ID) string { return n.e.Address(id).String() }

func (n namer) addresses(ids []estate.ID) []string {
	list := make([]string, len(ids))
	for i, id := range ids {
		list[i] = n.address(id)
	}
	return list
}

func (n namer) position(p estate.Place) string { return n.e.Settings().Position(p) }

// at returns " (file:line:column)", or "" for nowhere.
func (n namer) at(p estate.Place) string {
	if p == (estate.Place{}) {
		return ""
	}
	return " (" + n.position(p) + ")"
}

// cause is why a recipient has their outcome.
type cause struct {
	text  string // in words
	place string // of the rule or setting that decides, or ""
	names string // a group that text names, or ""
}

// why tells why a recipient has their outcome. own is the place of the entry
// that decides, if it is one.
func (n namer) why(d *resolve.Delivery, recipient resolve.Recipient) (c cause, own string) {
	reason := d.Reason(recipient)
	g := n.e.Group(reason.Group)
	switch {
	case reason.Nobody:
		return cause{text: "does not exist, but is listed"}, n.position(reason.Listed)
	case recipient.Outcome == resolve.Undeliverable:
		return cause{text: mailboxWords[reason.Mailbox]}, n.position(n.e.Person(recipient.ID).Place)
	case recipient.Outcome == resolve.Waiting || recipient.Outcome == resolve.Stopped:
		return n.hindrance(d, d.Path(recipient)), ""
	case reason.Shared:
		return cause{text: "can read it in the mailbox"}, ""
	}
	c, own = n.wish(g, reason)
	if recipient.Outcome == resolve.Archive {
		c.text = "can read it in the archive, " + c.text
	}
	return c, own
}

var mailboxWords = map[estate.MailboxState]string{
	estate.MailboxFull:   "mailbox full",
	estate.MailboxClosed: "mailbox closed",
	estate.MailboxNone:   "no mailbox",
}

// wish tells what a membership wants, and by which setting.
func (n namer) wish(g *estate.Group, reason resolve.Reason) (c cause, own string) {
	if reason.Rule {
		c.place = n.position(reason.Listed)
	} else {
		own = n.position(reason.Listed)
	}
	switch reason.Muting {
	case resolve.MutedPaused:
		return cause{text: "membership paused"}, own
	case resolve.MutedEcho:
		return cause{text: "their own message (echo is false)", place: n.position(g.Where("echo"))}, ""
	case resolve.MutedInvitations:
		c.text = "no invitations (" + deliveryWords[reason.Written] + ")"
		return c, own
	}
	c.text = deliveryWords[reason.Written]
	if reason.Invited {
		c.text = "every invitation"
	}
	matches := ""
	if reason.Rule {
		matches = ", " + ruleMatches(n.e.Rules(reason.Group), reason.Listed)
	}
	switch reason.Source {
	case resolve.FromMembership:
		c.text += " (own setting)" + matches
		return c, own
	case resolve.FromOutsideCopy:
		return cause{text: c.text + " (outside-copy)" + matches, place: n.position(g.Where("outside-copy"))}, ""
	case resolve.FromGroup:
		return cause{text: c.text + " (group default)" + matches, place: n.position(g.Where("copy"))}, ""
	}
	c.text += " (default)" + matches
	return c, ""
}

// deliveryWords are how members get mail, in words.
var deliveryWords = map[estate.Copy]string{
	estate.CopyEvery: "every message", estate.CopyDigest: "digest", estate.CopyReplies: "no copy but of replies",
	estate.CopyNone: "no copy",
}

// ruleMatches says by which of the rules among the members somebody is one: the rule at a
// place.
func ruleMatches(rules []estate.MemberRule, at estate.Place) string {
	for _, rule := range rules {
		if rule.Place == at && rule.Filter != nil {
			return "matches " + rule.Filter.String()
		}
	}
	return "as everyone inside"
}

// hindrance tells which gate makes a path wait or stop.
func (n namer) hindrance(d *resolve.Delivery, path resolve.Path) cause {
	group, decision, ok := d.Hindrance(path)
	if !ok {
		return cause{}
	}
	verb := "held by "
	if path.State == resolve.PathStopped {
		verb = "refused by "
		if decision.Verdict == estate.Drop {
			verb = "dropped by "
		}
	}
	said := newDecision(n.e, group, decision)
	return cause{text: verb + n.address(group) + ": " + said.byIn(), place: said.at(), names: n.address(group)}
}

// answer tells why an atom is true or false for a sender, in a few words.
func (n namer) answer(group estate.ID, a selector.Truth, s resolve.Sender, m resolve.Message) string {
	not := func(yes, no string) string {
		if a.True {
			return yes
		}
		return no
	}
	atom := a.Atom
	switch atom.Kind {
	case selector.Anyone:
		return "everyone"
	case selector.Nobody:
		return "nobody"
	case selector.Inside, selector.Outside:
		return n.insideness(s, m)
	case selector.Known:
		return not("the address is in the estate", "the address is not in the estate")
	case selector.Members:
		return not("a member"+n.lineage(group, s), "not a member")
	case selector.In:
		other, _ := n.e.Find(atom.Address)
		return not("a member of "+n.address(other)+n.lineage(other, s), "not a member of "+n.address(other))
	case selector.Owners:
		return not("an owner", "not an owner")
	case selector.Moderators:
		return not("a moderator", "not a moderator")
	case selector.Newcomers:
		return n.newcomer(group, s, a)
	case selector.Is:
		return not("that is the sender", "not "+atom.Address.String())
	case selector.At:
		return not("the address is at ", "the address is not at ") + atom.Domain
	case selector.Below:
		return not("the address is below ", "the address is not below ") + atom.Domain
	case selector.Where:
		return n.attributes(s, a)
	case selector.Unproven:
		return not("not authenticated", "authenticated")
	case selector.Suspect:
		return not("flagged as suspect", "not flagged as suspect")
	case selector.Automatic:
		return not("sent by a program", "not sent by a program")
	case selector.Invitation:
		return not("an invitation", "not an invitation")
	case selector.Larger:
		return "it has " + count(int(m.Size), "byte", "bytes")
	}
	return ""
}

func (n namer) insideness(s resolve.Sender, m resolve.Message) string {
	switch {
	case !s.Inside:
		return "outside"
	case m.Unproven:
		return "in a domain of the estate, but not authenticated"
	}
	return "inside and authenticated"
}

// lineage tells how a sender is a member of a group.
func (n namer) lineage(group estate.ID, s resolve.Sender) string {
	l, ok := n.r.Lineage(group, s.ID)
	if !ok {
		return ""
	}
	through := ""
	if len(l.Groups) > 1 {
		through = " through " + shorten(n.addresses(l.Groups[1:]))
	}
	return through + n.at(l.Place)
}

func (n namer) newcomer(group estate.ID, s resolve.Sender, a selector.Truth) string {
	entry, _ := n.r.Membership(group, s.ID)
	switch {
	case entry == nil:
		return "not listed as a member"
	case entry.Since() == 0:
		return "a member, without a date" + n.at(entry.Place)
	}
	return "a member since " + entry.Since().String() + n.at(entry.Place)
}

// attributes tells what a sender's attributes are, as far as a filter asks for them.
func (n namer) attributes(s resolve.Sender, a selector.Truth) string {
	if !n.e.IsPerson(s.ID) {
		return "not a person of the estate"
	}
	var parts []string
	seen := map[string]bool{}
	selector.Items(a.Atom.Filter, func(item *selector.Item) {
		if seen[item.Attribute] {
			return
		}
		seen[item.Attribute] = true
		values := n.e.Values(s.ID, item.Attribute)
		if len(values) == 0 {
			parts = append(parts, "no "+item.Attribute)
		} else {
			parts = append(parts, item.Attribute+" is "+strings.Join(values, ", "))
		}
	})
	return strings.Join(parts, ", ")
}
