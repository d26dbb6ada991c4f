package probe

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// A View is what the reader of a copy sees.
type View struct {
	From           []string `json:"from"`
	Sender         []string `json:"sender,omitempty"`
	ReplyTo        []string `json:"replyTo,omitempty"`
	Subject        string   `json:"subject"`
	ListID         string   `json:"listId,omitempty"`
	Unsubscribe    string   `json:"listUnsubscribe,omitempty"`
	Authentication []string `json:"authentication,omitempty"`
	// Answer is where an answer goes, and AnswerAll where one to all does.
	Answer    []string `json:"answer"`
	AnswerAll []string `json:"answerAll"`
	// Shows are inside addresses that stand in the header, apart from the group's, the
	// sender's and the reader's own.
	Shows []string `json:"shows,omitempty"`
}

// named returns the addresses of groups that a message names in its header or
// text, of those that a case can come to.
func (p *RunPlan) named(d *agent.Details) []string {
	text := strings.ToLower(d.Subject + "\n" + d.Text)
	var groups []string
	for _, name := range p.groupNames() {
		if strings.Contains(text, name) || slices.Contains(d.Shown, name) {
			groups = append(groups, name)
		}
	}
	return groups
}

// groupNames returns the addresses of the groups that the cases can come to, lower
// case.
func (p *RunPlan) groupNames() []string {
	if p.names != nil {
		return p.names
	}
	e := p.resolver.Estate()
	add := func(id estate.ID) {
		if name := strings.ToLower(e.Address(id).String()); !slices.Contains(p.names, name) {
			p.names = append(p.names, name)
		}
	}
	for i := range p.Cases {
		add(p.Cases[i].Group)
		for it := p.resolver.Members(p.Cases[i].Group).Iterator(); it.HasNext(); {
			id := estate.ID(it.Next())
			if !e.IsGroup(id) {
				break // groups come first
			}
			add(id)
		}
	}
	return p.names
}

// key returns what a mailbox is known by, however its address is written: the key of
// the address in the estate.
func (p *RunPlan) key(text string) string {
	a, err := address.Parse(text)
	if err != nil {
		return strings.ToLower(text)
	}
	return p.resolver.Estate().Key(a)
}

// view returns what the reader of a copy sees.
func (p *RunPlan) view(c *Case, d *agent.Details, reader string) *View {
	v := &View{From: d.From, Sender: d.Sender, ReplyTo: d.ReplyTo, Subject: d.Subject,
		ListID: d.ListID, Unsubscribe: d.Unsubscribe, Authentication: d.Authentication}
	v.Answer = v.From
	if len(v.ReplyTo) > 0 {
		v.Answer = v.ReplyTo
	}
	v.AnswerAll = []string{}
	for _, text := range slices.Concat(d.To, d.Cc) {
		if !slices.Contains(v.Answer, text) && p.key(text) != p.key(reader) {
			v.AnswerAll = append(v.AnswerAll, text)
		}
	}
	e := p.resolver.Estate()
	for _, shown := range d.Shown {
		a, err := address.Parse(shown)
		if err != nil {
			continue
		}
		id, ok := e.Find(a)
		if ok && e.IsPerson(id) && e.Inside(id) && e.Key(a) != e.Key(c.From) && e.Key(a) != p.key(reader) {
			v.Shows = append(v.Shows, shown)
		}
	}
	return v
}
