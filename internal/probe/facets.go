package probe

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
)

// A Facet is one thing that a reader sees of a message, beside what was predicted.
type Facet struct {
	Name            string // From, Sender, Reply-To, subject tag, footer, auto-answer
	Predicted, Seen string
	AsPredicted     bool
	Reader          string        // in whose mailbox
	AsIf            change.Change // under which it would have been predicted, or nil
}

// facets compares what the reader of a copy sees with what is predicted. Where a copy came
// over nested groups, these may have added to it: then only what the group itself does is
// compared.
func (w *judge) facets(s *Sighting) []Facet {
	if len(s.From) == 0 && s.Subject == "" {
		return nil // there is nothing in its header
	}
	e := w.estate()
	to, ok := e.Find(w.c.To)
	if !ok || !e.IsGroup(to) || e.Group(to).Kind == estate.Roster {
		return w.sendAsFacets(s)
	}
	g := e.Group(to)
	list := w.sendAsFacets(s)
	if w.isNested(s, to) {
		return list // what the groups on the way have added is not the group's
	}
	replyTo := ""
	switch {
	case g.RepliesToAt.IsValid():
		replyTo = g.RepliesToAt.String()
	case g.RepliesTo == estate.PartyGroup:
		replyTo = g.Address.String()
	}
	list = append(list, w.replyTo(s, to, replyTo), w.tag(s, to, g.SubjectTag))
	if !w.c.Traits.Invitation && w.c.Kind != Attachment && w.c.Traits.Size == 0 {
		list = append(list, w.footer(s, to, g.Footer))
	}
	return list
}

func facet(name, predicted, seen string, s *Sighting) Facet {
	return Facet{Name: name, Predicted: predicted, Seen: seen, AsPredicted: predicted == seen, Reader: s.Account}
}

// sendAsFacets compares From, and of what was written in a group's name Sender.
func (w *judge) sendAsFacets(s *Sighting) []Facet {
	from := facet("From", w.c.From.String(), strings.Join(s.From, ", "), s)
	from.AsPredicted = len(s.From) == 1 && w.run.Plan.key(s.From[0]) == w.estate().Key(w.c.From)
	if !w.c.By.IsValid() {
		return []Facet{from}
	}
	sender := ""
	if w.run.Plan.draft(w.c).Sender {
		sender = w.c.By.String()
	}
	seen := strings.Join(s.Sender, ", ")
	one := facet("Sender", sender, seen, s)
	one.AsPredicted = w.run.Plan.key(sender) == w.run.Plan.key(seen)
	return []Facet{from, one}
}

// replyTo compares where an answer goes by default: nothing, or the author, is the same.
func (w *judge) replyTo(s *Sighting, to estate.ID, predicted string) Facet {
	var seen []string
	for _, text := range s.ReplyTo {
		if w.run.Plan.key(text) != w.estate().Key(w.c.From) {
			seen = append(seen, text)
		}
	}
	f := facet("Reply-To", predicted, strings.Join(seen, ", "), s)
	f.AsPredicted = w.run.Plan.key(f.Predicted) == w.run.Plan.key(f.Seen)
	if f.AsPredicted || len(seen) > 1 {
		return f
	}
	value := "author"
	switch {
	case len(seen) == 1 && w.run.Plan.key(seen[0]) == w.key(to):
		value = "group"
	case len(seen) == 1:
		value = seen[0]
	}
	f.AsIf = change.SetSetting{Group: to, Setting: "replies-to", Texts: []string{value}}
	return f
}

// tag compares what stands before the subject.
func (w *judge) tag(s *Sighting, to estate.ID, predicted string) Facet {
	sent := w.run.Plan.draft(w.c).Subject
	before, _, whole := strings.Cut(squeezed(s.Subject), squeezed(sent))
	seen := strings.TrimSpace(before)
	if !whole {
		seen = s.Subject
	}
	f := facet("subject tag", predicted, seen, s)
	if !f.AsPredicted && whole {
		f.AsIf = change.SetSetting{Group: to, Setting: "subject-tag", Texts: []string{seen}}
		if seen == "" {
			f.AsIf = change.SetSetting{Group: to, Setting: "subject-tag"}
		}
	}
	return f
}

// footer compares what stands under the text.
func (w *judge) footer(s *Sighting, to estate.ID, predicted string) Facet {
	sent, text := squeezed(w.run.Plan.draft(w.c).Text), squeezed(s.Text)
	before, after, whole := strings.Cut(text, sent)
	seen := strings.Trim(strings.TrimSpace(before+" "+after), "-_= ")
	if !whole {
		seen = text
	}
	f := facet("footer", squeezed(predicted), seen, s)
	if predicted != "" && strings.Contains(seen, squeezed(predicted)) {
		f.AsPredicted = true
	}
	if !f.AsPredicted {
		f.AsIf = change.SetSetting{Group: to, Setting: "footer"}
		if seen != "" {
			f.AsIf = change.SetSetting{Group: to, Setting: "footer", Texts: []string{seen}}
		}
	}
	return f
}

// isNested reports whether a copy came over another group than the one that it was sent to.
func (w *judge) isNested(s *Sighting, to estate.ID) bool {
	e := w.estate()
	id, ok := w.run.Plan.known(s.Account)
	if !ok || id == to || !e.IsGroup(to) {
		return false
	}
	from := w.run.Plan.resolver.Sender(w.c.From)
	d := w.run.Plan.deliver(to, &from, w.c.Traits)
	for _, recipient := range d.Recipients() {
		if recipient.ID == id {
			return len(d.Via(recipient)) > 1
		}
	}
	return true
}

// autoAnswer compares whether the author got the automatic answer of the group, where their
// mailbox was gone through.
func (w *judge) autoAnswer() []Facet {
	f := message.Of(w.run.Plan.resolver, message.Envelope{From: w.c.From, By: w.c.By, To: w.c.To, Message: w.c.Traits})
	predicted := f.AutoAnswered()
	seen := slices.ContainsFunc(w.e.answers, func(s *Sighting) bool { return w.run.Plan.key(s.Account) == w.senderKey() })
	if !predicted && !seen || !seen && !w.watched[w.senderKey()] || len(w.e.copies) == 0 && !seen {
		return nil
	}
	word := map[bool]string{true: "yes", false: "no"}
	one := Facet{Name: AutoAnswer, Predicted: word[predicted], Seen: word[seen], AsPredicted: predicted == seen,
		Reader: w.c.sender().String()}
	if predicted != seen && w.p.Group != estate.None {
		set := change.SetSetting{Group: w.p.Group, Setting: "auto-answer"}
		if seen {
			set.Texts = []string{squeezed(w.e.answers[0].Text)}
		}
		one.AsIf = set
	}
	return []Facet{one}
}
