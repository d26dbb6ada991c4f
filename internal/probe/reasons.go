package probe

import (
	"regexp"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/send"
)

// A Reason is what a server said of what is not as predicted.
type Reason struct {
	Words string   // of the server
	Says  string   // what they come to, where that is no setting of the estate; or ""
	Cases []int    // messages that it is about
	Who   []string // members that it is about; nil: of the messages as a whole
}

// reasons gathers what servers said, the same once.
func (j *Judgement) reasons() (list []Reason) {
	add := func(words, says string, c int, who string) {
		i := slices.IndexFunc(list, func(r Reason) bool { return r.Words == words && r.Says == says && (r.Who == nil) == (who == "") })
		if i < 0 {
			i, list = len(list), append(list, Reason{Words: words, Says: says})
		}
		if r := &list[i]; !slices.Contains(r.Cases, c) {
			r.Cases = append(r.Cases, c)
		}
		if r := &list[i]; who != "" && !slices.Contains(r.Who, who) {
			r.Who = append(r.Who, who)
		}
	}
	evidence := j.Run.gather()
	for i := range j.Cases {
		c := &j.Cases[i]
		reply := j.Run.Replies[i]
		if c.Unlooked { // it is listed as not sent, with the reason
			continue
		}
		if !c.AsPredicted && !reply.Accepted() && reply.Code != 0 {
			add(reply.String(), j.Run.Plan.cause(c.Case, reply), i, "")
		} else if b := evidence[i].bounced[j.Run.Plan.key(c.Case.To.String())]; b != nil && !c.AsPredicted && c.Case.Kind == Alias {
			add(b.String(), "the address "+c.Case.To.String()+" is taken at first, and then bounces", i, "")
		}
	}
	for i := range j.Members {
		m := &j.Members[i]
		if m.AsPredicted || m.Unlooked {
			continue
		}
		e := &evidence[m.Case]
		key := j.Run.Plan.key(m.Address)
		if b := e.bounced[key]; b != nil {
			add(b.String(), bounceCause(b), m.Case, m.Address)
		} else if b := e.delayed[key]; b != nil {
			add(b.String(), "put off so far, it may yet come", m.Case, m.Address)
		}
	}
	return list
}

// ringWords are words with which servers report addresses that lead back to themselves.
var ringWords = []string{"alias expansion", "loop", "too many hops"}

// cause says what an answer to a message comes to, where that is no setting of the estate.
func (p *RunPlan) cause(c *Case, reply send.Reply) string {
	text := strings.ToLower(reply.Text)
	has := func(word string) bool { return strings.Contains(text, word) }
	switch {
	case reply.TooLarge():
		return "the server takes no message of this size"
	case reply.Status == "5.4.6", reply.Status == "4.4.6", slices.ContainsFunc(ringWords, has):
		return "the server finds that the address leads back to itself"
	case reply.Status == "5.2.4":
		return "the server refuses all of " + c.To.String() + ", as it cannot lay it out" + p.deadMembers(c, ": perhaps")
	case reply.IsForAll() && c.By.IsValid():
		return "said of a plain mailbox, too, so not by the group; it may be that the login of " + c.By.String() +
			" may not send as " + c.From.String()
	case reply.IsForAll():
		return "said to " + c.From.String() + " of a plain mailbox, too, so not by the group"
	case reply.Code >= 500 && reply.Stage == "from":
		return "the server does not take " + c.sender().String() + " as a sender of it"
	case reply.UnknownAddress() && p.isAlias(c):
		return "" // that it is none of the group's is a setting
	case reply.UnknownAddress():
		return "the server does not know " + c.To.String() + ": it is not there, or not yet" +
			p.deadMembers(c, "; or it refuses the group")
	case strings.HasPrefix(reply.Status, "5.4."):
		return "the server finds no way to deliver"
	case strings.HasPrefix(reply.Status, "5.3."), strings.HasPrefix(reply.Status, "4.3."):
		return "the mail system has a fault of its own"
	}
	return ""
}

// isAlias reports whether a message is for a further address of a group.
func (p *RunPlan) isAlias(c *Case) bool {
	e := p.resolver.Estate()
	to, ok := e.Find(c.To)
	return ok && e.IsGroup(to) && e.Address(to).Key() != c.To.Key()
}

// deadMembers words that a group may be refused for members whose mailbox does not work, by the estate;
// "" if there is none.
func (p *RunPlan) deadMembers(c *Case, before string) string {
	r := p.resolver
	to, ok := r.Estate().Find(c.To)
	if !ok || !r.Estate().IsGroup(to) {
		return ""
	}
	var list []string
	from := r.Sender(c.From)
	const most = 3
	for _, recipient := range r.Deliver(resolve.Query{Group: to, Sender: &from, Message: c.Traits}).Recipients() {
		if recipient.Outcome == resolve.Undeliverable && len(list) < most {
			list = append(list, r.Estate().Address(recipient.ID).String())
		}
	}
	if len(list) == 0 {
		return ""
	}
	return before + " for a member to whom it cannot deliver (" + strings.Join(list, ", ") + ")"
}

// A meaning is the status (RFC 3463, section 3) that words of a server come to.
type meaning struct {
	status string
	words  []string
}

// meanings are words with which mail systems report a failure without a status of its own.
var meanings = []meaning{
	{"5.2.2", []string{"mailbox is full", "mailbox full", "quota", "over limit"}},
	{"5.2.1", []string{"account is disabled", "account disabled", "account is suspended", "mailbox disabled", "inactive"}},
	{"5.4.4", []string{"mx record", "host not found", "domain name not found", "name not found", "no route", "no mail host",
		"unrouteable mail domain", "couldn't find any host", "domain does not accept mail"}},
	{"5.4.6", ringWords},
	{"5.7.1", []string{"policy", "spam", "blocked", "blacklist", "access denied", "not authorized"}},
	{"5.1.1", []string{"unrouteable address", "user unknown", "unknown user", "no such user", "no such address", "no such recipient",
		"invalid recipient", "no mailbox here", "doesn't have account", "recipient not found", "does not exist"}},
}

// inWords is a status in the words of a server.
var inWords = regexp.MustCompile(`\b[45]\.\d{1,3}\.\d{1,3}\b`)

// means returns the status that a bounce comes to: the one that it gives, unless that says nothing
// (RFC 3463, section 3.1), and else what its words say; or "".
func (b *bounce) means() string {
	if b.status != "" && !strings.HasSuffix(b.status, ".0.0") {
		return b.status
	}
	if found := inWords.FindString(b.diagnostic); found != "" && !strings.HasSuffix(found, ".0.0") {
		return found
	}
	text := strings.ToLower(b.diagnostic)
	for _, m := range meanings {
		if slices.ContainsFunc(m.words, func(word string) bool { return strings.Contains(text, word) }) {
			return m.status
		}
	}
	return b.status
}

// bounceCause says what a bounce comes to, where that is no setting of the estate.
func bounceCause(b *bounce) string {
	status := b.means()
	switch {
	case status == "5.4.6", status == "4.4.6":
		return "the server finds that the address leads back to itself"
	case strings.HasPrefix(status, "5.4."), strings.HasPrefix(status, "4.4."):
		return "there is no way to deliver to them"
	case strings.HasPrefix(status, "5.7."):
		return "refused by a policy of the server that has the mailbox"
	case strings.HasPrefix(status, "5.3."):
		return "the mail system has a fault of its own"
	case strings.HasPrefix(status, "5.6."):
		return "the server that has the mailbox does not take such a message"
	}
	return ""
}

// isMailboxes reports whether a bounce speaks of the mailbox itself, by its status (RFC 3463,
// section 3): a setting of the estate may say so.
func (b *bounce) isMailboxes() bool { return bounceCause(b) == "" }

// Settles reports whether a reason says why something differs, so that no setting needs to.
func (r *Reason) Settles() bool { return r.Says != "" }

// settled reports whether what a server said of a message leaves nothing to guess.
func (j *Judgement) settled(c *CaseResult) bool {
	reply := j.Run.Replies[c.number]
	return c.Seen == estate.Refuse.String() && !c.AsPredicted && reply.Code != 0 && !reply.Accepted() &&
		j.Run.Plan.cause(c.Case, reply) != ""
}
