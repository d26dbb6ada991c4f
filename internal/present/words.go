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
	noRule      = "no rule of the gate lets you in"
	rosterTakes = "a roster takes no mail"
)

// Decision is what a gate says, with the rule that decides.
type Decision struct {
	Verdict string `json:"verdict"`
	Rule    int    `json:"rule"`            // from 1; 0: none
	Text    string `json:"text"`            // what the sender is told
	Written string `json:"written"`         // the rule as written, or ""
	Place   string `json:"place,omitempty"` // where it stands, as file:line:column
}

func newDecision(e *estate.Estate, group estate.ID, d resolve.Decision) Decision {
	g := e.Group(group)
	decision := Decision{Verdict: d.Verdict.String(), Rule: d.Rule, Text: noRule}
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

// by tells which rule decides, in words.
func (d Decision) by() string {
	if d.Rule == 0 {
		return d.Text
	}
	return "rule " + strconv.Itoa(d.Rule) + ": " + d.Written
}

// verdictStyle is that of a verdict or a way. Colour is for risk: a verdict is what the
// gate is meant to say, and only a way that does not lead on is a fault.
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
	case "inbox", "digest", "archive":
		return Good
	case "waiting", "nothing":
		return Doubtful
	}
	return Bad
}

// oneLine returns a text that may have been written over several lines on one.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// count returns a number with its noun, such as "1 group" or "2 groups".
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
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

// folder returns the folder, with its slash, that all files of the estate are
// in.
func (n namer) folder() string {
	files := n.e.Settings().Files
	folder := files[0][:strings.LastIndexByte(files[0], '/')+1]
	for _, file := range files[1:] {
		for !strings.HasPrefix(file, folder) {
			folder = folder[:strings.LastIndexByte(folder[:len(folder)-1], '/')+1]
		}
	}
	return folder
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
	reason := n.r.Reason(d, recipient)
	g := n.e.Group(reason.Group)
	switch {
	case reason.Nobody:
		return cause{text: "there is no such address, though it is listed"}, n.position(reason.Listed)
	case recipient.Outcome == resolve.Undeliverable:
		return cause{text: mailboxWords[reason.Mailbox]}, n.position(n.e.Person(recipient.ID).Place)
	case recipient.Outcome == resolve.Waiting || recipient.Outcome == resolve.Stopped:
		return n.hindrance(d, d.Way(recipient)), ""
	case reason.Shared:
		return cause{text: "reads it in the shared mailbox"}, ""
	}
	c, own = n.wish(g, reason)
	if recipient.Outcome == resolve.Archive {
		c.text = "can read it in the forum: " + c.text
	}
	return c, own
}

var mailboxWords = map[estate.MailboxState]string{
	estate.MailboxFull:   "the mailbox is full",
	estate.MailboxClosed: "the mailbox is closed",
	estate.MailboxNone:   "there is no mailbox",
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
		return cause{text: "the membership is paused"}, own
	case resolve.MutedEcho:
		return cause{text: "it is their own message, and echo is false", place: n.position(g.Where("echo"))}, ""
	case resolve.MutedInvitations:
		c.text = "no invitations, with copy " + reason.Written.String()
		return c, own
	}
	c.text = "copy " + reason.Written.String()
	if reason.Invited {
		c.text = "every invitation"
	}
	if reason.Rule {
		c.text = "picked by a rule, " + c.text
	}
	switch reason.Source {
	case resolve.FromMembership:
		c.text += " by the membership"
		return c, own
	case resolve.FromOutsideCopy:
		return cause{text: c.text + " by outside-copy", place: n.position(g.Where("outside-copy"))}, ""
	case resolve.FromGroup:
		return cause{text: c.text + " by the group", place: n.position(g.Where("copy"))}, ""
	}
	c.text += " by default"
	return c, ""
}

// hindrance tells which gate makes a way wait or stop.
func (n namer) hindrance(d *resolve.Delivery, way resolve.Way) cause {
	group, decision, ok := d.Hindrance(way)
	if !ok {
		return cause{}
	}
	verb := " holds it: "
	if way.State == resolve.WayStopped {
		verb = " does not let it in: "
	}
	said := newDecision(n.e, group, decision)
	return cause{text: n.address(group) + verb + said.by(), place: said.Place, names: n.address(group)}
}

// answer tells why an atom is true or false for a sender, in a few words.
func (n namer) answer(group estate.ID, a selector.Answer, s resolve.Sender, m resolve.Message) string {
	not := func(yes, no string) string {
		if a.True {
			return yes
		}
		return no
	}
	atom := a.Atom
	switch atom.Kind {
	case selector.Anyone:
		return "that is everyone"
	case selector.Nobody:
		return "that is no one"
	case selector.Inside, selector.Outside:
		return n.insideness(s, m)
	case selector.Known:
		return not("the address is known here", "nobody here has the address")
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
		return not("nothing proves who sent it", "it is proven who sent it")
	case selector.Suspect:
		return not("it was flagged as suspect", "it was not flagged")
	case selector.Automatic:
		return not("a program sent it", "no program sent it")
	case selector.Invitation:
		return not("it is an invitation", "it is no invitation")
	case selector.Larger:
		return "it has " + count(int(m.Size), "byte", "bytes")
	}
	return ""
}

func (n namer) insideness(s resolve.Sender, m resolve.Message) string {
	switch {
	case !s.Inside:
		return "the address is outside"
	case m.Unproven:
		return "the address is inside, but nothing proves it"
	}
	return "the address is inside"
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

func (n namer) newcomer(group estate.ID, s resolve.Sender, a selector.Answer) string {
	entry, _ := n.r.Membership(group, s.ID)
	switch {
	case entry == nil:
		return "no direct membership names them"
	case entry.Since() == 0:
		return "the membership does not say since when" + n.at(entry.Place)
	}
	return "a member since " + entry.Since().String() + n.at(entry.Place)
}

// attributes tells what a sender's attributes are, as far as a filter asks for them.
func (n namer) attributes(s resolve.Sender, a selector.Answer) string {
	if !n.e.IsPerson(s.ID) {
		return "the sender is no person of the estate"
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
