package probe

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/store"
)

// planned is a case as the store keeps it: what the draft does not say, and what was
// predicted.
type planned struct {
	Traits   resolve.Message   `json:"message"`
	Verdict  string            `json:"verdict"`
	Rule     int               `json:"rule,omitempty"`
	Edge     int               `json:"edge,omitempty"`
	Group    string            `json:"group,omitempty"`    // that it is for
	Outcomes map[string]string `json:"outcomes,omitempty"` // of people, by address
}

const (
	attachmentSize = 40_000 // bytes of the file in a case with one
	mostPadding    = agent.MostAttachment
)

// draft returns what anyone who sends a case has to know.
func (p *RunPlan) draft(c *Case) agent.Draft {
	_, code, _ := strings.Cut(c.Tag, ".")
	d := agent.Draft{
		From: c.From.String(), To: c.To.String(), Subject: "Test of mail groups " + code[:min(len(code), 8)],
		Text:      "This is a test message of the mail groups. Nothing needs to be done; it may be deleted.\n",
		Automatic: c.Traits.Automatic, Invitation: c.Traits.Invitation, Attachment: int(c.Traits.Size),
		Plain: p.plain(c),
	}
	if c.By.IsValid() {
		d.By = c.By.String()
		group, _ := p.resolver.Estate().Find(c.From)
		sendAs, _ := p.resolver.Rights(group).SendAs(p.resolver.Sender(c.By))
		d.Sender = sendAs == estate.ForGroup
		if p.asksForCode(c) {
			d.Code = p.resolver.Estate().Settings().CodeSender.String()
		}
	}
	switch c.Kind {
	case Attachment:
		d.Attachment = max(d.Attachment, attachmentSize)
	case ReplyPerson, ReplyGroup:
		d.Subject, d.InReplyTo = "Re: "+d.Subject, c.Tag+".asked@"+c.To.Domain()
	case RollCall:
		d.ReplyTo, d.Notify = d.From, true
		d.Subject = "Please answer: does this reach you? [" + c.Tag + "]"
		d.Text = "We are checking who gets the mail of " + d.To + ".\n\nPlease answer this message, an empty " +
			"answer will do. Nothing else needs to be done.\n"
	}
	return d
}

// plain returns a mailbox that the sender of a message to a group may write to as well: their own,
// or another that the connections open; "" if there is none.
func (p *RunPlan) plain(c *Case) string {
	e := p.resolver.Estate()
	if to, ok := e.Find(c.To); !ok || !e.IsGroup(to) {
		return ""
	}
	takes := func(id estate.ID) bool {
		a := e.Address(id)
		if !e.Inside(id) || e.Person(id).Mailbox != estate.MailboxOpen {
			return false
		}
		_, opened := p.connections.Mailbox(a, true)
		return opened
	}
	people := e.PeopleByAddress()
	if own, ok := e.Find(c.sender()); ok && e.IsPerson(own) && takes(own) {
		people = []estate.ID{own}
	}
	i := slices.IndexFunc(people, takes)
	if i < 0 {
		return ""
	}
	t := c.Trial()
	t.To = e.Address(people[i])
	if infer.Predict(p.resolver, &t).Verdict != estate.Admit {
		return "" // the edge refuses them everywhere
	}
	return t.To.String()
}

// asksForCode reports whether a case is written in the name of a group that mails a code to
// anyone who has not proven yet that they may.
func (p *RunPlan) asksForCode(c *Case) bool {
	e := p.resolver.Estate()
	group, ok := e.Find(c.From)
	return c.By.IsValid() && ok && e.IsGroup(group) && e.Group(group).SendAsProof == estate.ProofMailedCode &&
		e.Settings().CodeSender.IsValid()
}

// row returns the plan as the store keeps it.
func (p *RunPlan) row(o Options, kind string, checked *Checked) (*store.PlannedRun, error) {
	limits := p.connections.Limits
	now := o.Store.Now()
	each := time.Duration(float64(time.Second) / limits.Pace)
	out := &store.PlannedRun{Body: o.Estate.Body, Each: each, Run: store.Run{
		Name: p.Run, Kind: kind, Estate: o.Estate.Digest, Path: o.Estate.Path, Day: p.resolver.Today().String(),
		Version: o.Version, Notes: p.Notes, Approve: o.Approve, Began: now, Until: now.Add(p.mayLast(len(p.Cases))),
		Terms: store.Terms{Patience: limits.Patience, LookEvery: limits.LookEvery, Settle: limits.Settle,
			Quiet: limits.Quiet},
	}}
	e := p.resolver.Estate()
	for _, d := range e.Settings().Domains {
		if name, err := address.ParseDomain(d.Name); err == nil {
			out.Terms.Domains = append(out.Terms.Domains, name)
		}
	}
	for i := range p.Cases {
		c, err := p.caseRow(i)
		if err != nil {
			return nil, err
		}
		out.Cases = append(out.Cases, c)
		out.Checks = append(out.Checks, p.checks(i)...)
		out.Expected = append(out.Expected, p.expected(i, o.Approve)...)
	}
	for _, a := range p.watched() {
		boxes, ok := p.connections.Mailbox(a, e.InsideDomain(a.Domain()))
		if !ok {
			continue
		}
		look := store.Look{Account: a.String(), Connection: boxes.Name}
		if marks := checked.marks[a.String()]; marks != nil {
			data, err := json.Marshal(marks)
			if err != nil {
				return nil, err
			}
			look.Marks = data
		}
		if err := checked.boxes[a.String()]; err != nil {
			look.Problem, look.Certain = err.Error(), mailbox.IsCertain(err)
		}
		out.Looks = append(out.Looks, look)
	}
	return out, nil
}

func (p *RunPlan) caseRow(i int) (store.Case, error) {
	c := &p.Cases[i]
	e := p.resolver.Estate()
	prediction := p.Predict(i)
	said := planned{Traits: c.Traits, Verdict: prediction.Verdict.String(), Rule: prediction.Rule, Edge: prediction.Edge,
		Outcomes: map[string]string{}}
	if prediction.Group != estate.None {
		said.Group = e.Address(prediction.Group).String()
	}
	for id, outcome := range prediction.Outcomes {
		said.Outcomes[e.Address(id).String()] = outcome.String()
	}
	out := store.Case{N: i, Kind: string(c.Kind), Group: e.Address(c.Group).String(), Connection: c.Connection, MessageID: c.ID,
		Tag: c.Tag}
	var err error
	d := p.draft(c)
	d.Retry = prediction.Verdict == estate.Admit || prediction.Verdict == estate.Hold
	if out.Draft, err = json.Marshal(d); err != nil {
		return out, err
	}
	out.Predicted, err = json.Marshal(said)
	return out, err
}

// checks returns what is predicted of a case, with why.
func (p *RunPlan) checks(i int) []store.Check {
	c := &p.Cases[i]
	e := p.resolver.Estate()
	prediction := p.Predict(i)
	list := []store.Check{{N: i, Predicted: prediction.Verdict.String(), Why: p.why(c, prediction)}}
	var d *resolve.Delivery
	if prediction.Group != estate.None && len(prediction.Outcomes) > 0 {
		from := p.resolver.Sender(c.From)
		d = p.deliver(prediction.Group, &from, c.Traits)
	}
	for _, id := range e.PeopleByAddress() {
		outcome, ok := prediction.Outcomes[id]
		if !ok {
			continue
		}
		check := store.Check{N: i, Who: e.Address(id).String(), Predicted: outcome.String()}
		if d != nil {
			if at := slices.IndexFunc(d.Recipients(), func(x resolve.Recipient) bool { return x.ID == id }); at >= 0 {
				var names []string
				for _, group := range d.Via(d.Recipients()[at]) {
					names = append(names, e.Address(group).String())
				}
				check.Why = "by " + strings.Join(names, " > ")
			}
		}
		list = append(list, check)
	}
	return list
}

// why returns the rule or setting that decides about a case.
func (p *RunPlan) why(c *Case, prediction infer.Prediction) string {
	e := p.resolver.Estate()
	f := message.Of(p.resolver, message.Envelope{From: c.From, By: c.By, To: c.To, Message: c.Traits})
	switch {
	case prediction.Edge > 0:
		return fmt.Sprintf("rule %d of the edge: %s", prediction.Edge, e.Settings().Edge[prediction.Edge-1].Text)
	case prediction.Rule > 0 && prediction.Group != estate.None:
		return fmt.Sprintf("rule %d of the gate: %s", prediction.Rule, e.Group(prediction.Group).Gate[prediction.Rule-1].Text)
	case f.Reason == message.NoSendAs:
		return "no rule of send-as lets them"
	case f.Reason == message.NoProof:
		return "the code cannot reach them"
	case f.Reason == message.ByGate:
		return "no rule of the gate lets them in"
	}
	return ""
}

// expected returns what is waited for of a case.
func (p *RunPlan) expected(i int, approve bool) []store.Expected {
	e := p.resolver.Estate()
	prediction := p.Predict(i)
	var list []store.Expected
	add := func(id estate.ID, sign string) {
		if e.IsGroup(id) || e.Person(id).Mailbox == estate.MailboxOpen {
			list = append(list, store.Expected{N: i, Account: e.Address(id).String(), Sign: sign})
		}
	}
	for id, outcome := range prediction.Outcomes {
		switch outcome {
		case resolve.Inbox:
			add(id, store.ExpectCopy)
		case resolve.Digest:
			add(id, store.ExpectDigest)
		}
	}
	for _, id := range p.asked(i) {
		add(id, store.ExpectApproval)
	}
	if c := &p.Cases[i]; p.asksForCode(c) && prediction.Verdict == estate.Admit {
		if by, ok := e.Find(c.By); ok {
			add(by, store.ExpectCode)
		}
	}
	if approve && prediction.Verdict == estate.Hold && prediction.Group != estate.None {
		for id, outcome := range p.released(i) {
			if outcome <= resolve.Digest {
				add(id, store.ExpectReleased)
			}
		}
	}
	return list
}

// released returns what people get of a held message once it is let in.
func (p *RunPlan) released(i int) map[estate.ID]resolve.Outcome {
	outcomes := map[estate.ID]resolve.Outcome{}
	from := p.resolver.Sender(p.Cases[i].From)
	for _, recipient := range p.deliver(p.Predict(i).Group, &from, p.Cases[i].Traits).Recipients() {
		if p.resolver.Estate().IsPerson(recipient.ID) {
			outcomes[recipient.ID] = recipient.Outcome
		}
	}
	return outcomes
}

// restore takes the cases of a run out of the store, and what was predicted of them.
func (p *RunPlan) restore(record *store.Record) error {
	e := p.resolver.Estate()
	for _, row := range record.Cases {
		var d agent.Draft
		var said planned
		if err := json.Unmarshal(row.Draft, &d); err != nil {
			return err
		}
		if err := json.Unmarshal(row.Predicted, &said); err != nil {
			return err
		}
		c := Case{Name: fmt.Sprint(row.N + 1), Kind: Kind(row.Kind), Traits: said.Traits, Connection: row.Connection, ID: row.MessageID,
			Tag: row.Tag}
		for _, field := range []struct {
			text string
			into *address.Address
		}{{d.From, &c.From}, {d.By, &c.By}, {d.To, &c.To}} {
			if field.text == "" {
				continue
			}
			var err error
			if *field.into, err = address.Parse(field.text); err != nil {
				return err
			}
		}
		var ok bool
		if c.Group, ok = p.groupCalled(row.Group); !ok {
			return fmt.Errorf("the run is about %s, which is no group of the estate any more", row.Group)
		}
		prediction := infer.Prediction{Rule: said.Rule, Edge: said.Edge, Group: estate.None,
			Outcomes: map[estate.ID]resolve.Outcome{}}
		prediction.Verdict, _ = estate.WordIndex[estate.Verdict](estate.VerdictWords(), said.Verdict)
		if said.Group != "" {
			prediction.Group, _ = p.groupCalled(said.Group)
		}
		for text, word := range said.Outcomes {
			a, err := address.Parse(text)
			if err != nil {
				return err
			}
			outcome, known := estate.WordIndex[resolve.Outcome](resolve.OutcomeWords(), word)
			if id, there := e.Find(a); there && known {
				prediction.Outcomes[id] = outcome
			}
		}
		p.Cases = append(p.Cases, c)
		p.predictions = append(p.predictions, prediction)
	}
	return nil
}

func (p *RunPlan) groupCalled(text string) (estate.ID, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, false
	}
	id, ok := p.resolver.Estate().Find(a)
	return id, ok && p.resolver.Estate().IsGroup(id)
}
