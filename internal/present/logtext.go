package present

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/trail"
)

// mostListed is how many messages are listed without --all.
const mostListed = 30

func (a *Log) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	a.writeWorst(p)
	switch {
	case a.whole:
		for i := range a.List {
			a.List[i].writeTimeline(p)
		}
	case a.InName != nil:
		a.writeMessages(p, "Sent in the name of "+a.InName.Name, a.InName.Sent)
		a.writeMessages(p, "Answers", a.InName.Answers)
	default:
		a.writeMessages(p, "", a.List)
	}
	if a.Estate != nil {
		a.Estate.writeText(p)
	}
	a.writeRead(p)
}

// answer is the first line: true by itself.
func (a *Log) answer() string {
	question := a.question
	if question != "" {
		question = " " + question
	}
	if a.Person != nil {
		question += " and their groups"
	}
	if a.InName != nil {
		n := a.InName
		if len(n.Sent)+len(n.Answers) == 0 {
			return "No message in the name of " + n.Name + " in " + countLines(a.Read.Lines)
		}
		return count(len(n.Sent), "message", "messages") + " in the name of " + n.Name + ", " + count(len(n.Answers),
			"answer", "answers") +
			" from people written to"
	}
	if a.Messages == 0 {
		return "No message" + question + " in " + countLines(a.Read.Lines)
	}
	text := thousands(a.Messages) + choose(a.Messages, " message", " messages") + question + a.span() + ": "
	if a.Person != nil {
		return a.answerOf(text)
	}
	if a.Recipients == 0 {
		return text + "no recipient is named"
	}
	if parts := outcomeCounts(a.Outcomes); len(parts) > 1 {
		return text + strings.Join(parts, ", ") + " of " + thousands(a.Recipients) + " recipients"
	}
	for word := range a.Outcomes {
		text += word
	}
	if a.Recipients > 1 {
		text += ", all " + thousands(a.Recipients) + " recipients"
	}
	return text
}

// answerOf is the first line where a person was asked about.
func (a *Log) answerOf(text string) string {
	parts := outcomeCounts(a.Person.Outcomes)
	if n := a.Person.None; n > 0 {
		parts = append(parts, thousands(n)+" without a delivery to them")
	}
	text += strings.Join(parts, ", ")
	if a.LeftOut > 0 {
		text += " of those that are listed"
	}
	return text
}

func countLines(n int) string { return thousands(n) + choose(n, " line", " lines") }

// span says when the messages were.
func (a *Log) span() string {
	began, err := time.Parse(time.RFC3339, a.Began)
	ended, err2 := time.Parse(time.RFC3339, a.Ended)
	switch {
	case err != nil || err2 != nil:
		return ""
	case began.Format(time.DateOnly) == ended.Format(time.DateOnly):
		if clock := began.Format("15:04"); clock == ended.Format("15:04") {
			return ", " + began.Format("2 Jan 2006 15:04")
		}
		return ", " + began.Format("2 Jan 2006 15:04") + " to " + ended.Format("15:04")
	}
	return ", " + began.Format("2 Jan 2006 15:04") + " to " + ended.Format("2 Jan 15:04")
}

// writeWorst says of the first message that reached nobody.
func (a *Log) writeWorst(p *Page) {
	if a.InName != nil || a.Person != nil || a.Messages <= 1 {
		return
	}
	none, first := 0, -1
	for i := range a.List {
		if m := &a.List[i]; m.reached() == 0 {
			if none++; first < 0 {
				first = i
			}
		}
	}
	if none == 0 {
		return
	}
	m := &a.List[first]
	text := thousands(none) + " of them reached nobody"
	if a.LeftOut > 0 {
		text = thousands(none) + " of those that are listed reached nobody"
	}
	became := m.became()
	p.Line(2, Span{became.Style, "! "}, Span{Plain, text + "; the first, from " + m.sender() + " to " + some(m.To) +
		": " + became.Text})
}

// some names the first of a list.
func some(list []string) string {
	switch len(list) {
	case 0:
		return "nobody"
	case 1:
		return list[0]
	}
	return list[0] + " and " + strconv.Itoa(len(list)-1) + " more"
}

// writeMessages lists messages: all of a short list, of a longer one those with trouble.
func (a *Log) writeMessages(p *Page, title string, list []LogMessage) {
	if len(list) == 0 {
		return
	}
	p.Gap()
	if title != "" {
		p.Title(title + " (" + thousands(len(list)) + ")")
	}
	shown := list
	if !p.options.All && len(list) > mostListed+2 {
		shown = nil
		for i := range list {
			m := &list[i]
			trouble := m.reached() < len(m.Recipients) || len(m.Recipients) == 0
			if a.Person != nil {
				trouble = m.forOne == nil || !trailGood(m.forOne.Outcome)
			}
			if trouble {
				shown = append(shown, *m)
			}
		}
		if len(shown) > mostListed {
			shown = shown[:mostListed]
		}
	}
	for i := range shown {
		p.Line(6, a.row(&shown[i])...)
	}
	rest := len(list) - len(shown)
	switch {
	case rest > 0 && a.LeftOut > 0:
		p.Line(2, Span{Faint, "  and " + thousands(rest+a.LeftOut) + " more (--all lists " + thousands(len(list)) +
			"; all with --format csv)"})
	case rest > 0:
		p.Line(2, Span{Faint, "  and " + thousands(rest) + " more (--all)"})
	case a.LeftOut > 0:
		p.Line(2, Span{Faint, "  and " + thousands(a.LeftOut) + " more (all with --format csv)"})
	}
}

// row is a message on one line.
func (a *Log) row(m *LogMessage) []Span {
	when := ""
	if !m.began.IsZero() {
		when = m.began.Format("2 Jan 15:04:05")
	}
	from := m.sender()
	if a.InName != nil && m.Login != "" && m.Login != m.From {
		from = m.Login + " as " + m.From
	} else if a.InName != nil && m.Login == "" && m.Client != "" {
		from += ", from " + m.Client
	}
	became := m.became()
	if a.Person != nil {
		became = m.becameFor()
	}
	return []Span{{Faint, "  " + when + "  "}, {Plain, from + " to "}, {Plain, some(m.To) + ": "}, became,
		{Faint, "  " + m.id()}}
}

// writeTimeline tells a message from its beginning to its end.
func (m *LogMessage) writeTimeline(p *Page) {
	p.Gap()
	p.Title(m.sender() + " to " + some(m.To))
	facts := []string{}
	if m.Message != "" {
		facts = append(facts, "Message-ID <"+m.Message+">")
	}
	if m.Login != "" {
		facts = append(facts, "sent by the login "+m.Login)
	}
	if m.Client != "" {
		facts = append(facts, "from "+m.Client)
	}
	if m.Size > 0 {
		facts = append(facts, thousands(int(m.Size))+" bytes")
	}
	if m.About != "" {
		facts = append(facts, "about the message "+m.About)
	}
	p.Line(4, Span{Plain, "  " + strings.Join(facts, ", ")})
	became := m.became()
	p.Line(4, Span{Plain, "  "}, Span{became.Style, became.Text})
	if len(m.Queues) > 0 {
		p.Line(4, Span{Faint, "  queues: " + strings.Join(m.Queues, ", ")})
	}
	p.Gap()
	p.Table(m.steps())
	if !m.Whole {
		p.Line(2, Span{Doubtful, "  ! "}, Span{Plain, "The logs have no beginning or no end of it: there may be more."})
	}
}

// steps are the lines about a message.
func (m *LogMessage) steps() (rows [][]Span) {
	layout, day := "15:04:05", ""
	for i := range m.Steps {
		if m.Steps[i].at.Nanosecond() != 0 {
			layout = "15:04:05.000"
		}
	}
	for i := range m.Steps {
		s := &m.Steps[i]
		when := s.at.Format(layout)
		if d := s.at.Format("2 Jan"); d != day && !s.at.IsZero() {
			when, day = d+" "+when, d
		}
		if s.at.IsZero() {
			when = ""
		}
		rows = append(rows, []Span{{Faint, when}, {logStyle(stepFate(s.Event)), s.Event}, {Plain, s.text()}})
	}
	return rows
}

// stepFate returns the outcome of an event that has the same meaning.
func stepFate(event string) string {
	if event == trail.Expired.String() {
		return trail.Failed.String()
	}
	return event
}

// text says what a step says.
func (s *LogStep) text() string {
	e := &s.event
	var parts []string
	add := func(before, text string) {
		if text != "" {
			parts = append(parts, before+text)
		}
	}
	add("", e.To)
	add("of ", e.Group)
	if e.Kind == trail.Arrived {
		add("from ", e.From)
		add("login ", e.Login)
		add("by ", e.Client)
		if e.Message != "" {
			add("", "<"+e.Message+">")
		}
	}
	add("in ", e.Folder)
	if e.Next != "none" {
		add("to ", e.Next)
	}
	text := strings.Join(parts, " ")
	if s.Detail != "" {
		if text != "" {
			text += ": "
		}
		text += s.Detail
	}
	if e.Child != "" {
		text += " " + e.Child
	}
	return text
}

// writeRead says what could not be read, and what is not whole.
func (a *Log) writeRead(p *Page) {
	notes := slices.Clone(a.notes)
	if a.Unbegun > 0 {
		notes = append(notes, count(a.Unbegun, "message began", "messages began")+" before these logs")
	}
	if a.Unended > 0 {
		notes = append(notes, count(a.Unended, "message has", "messages have")+" no end in these logs: more may come")
	}
	if n := a.Read.CutShort; n > 0 {
		notes = append(notes, count(n, "message was",
			"messages were")+" told before their end: too many were open at a time")
	}
	if n := a.Read.Unknown; n > 0 && a.Read.Samples == nil {
		notes = append(notes, countLines(n)+" of "+thousands(a.Read.Lines)+" not understood (--unknown shows them)")
	}
	if len(notes) > 0 {
		p.Gap()
	}
	for _, note := range notes {
		p.Line(2, Span{Doubtful, "! "}, Span{Plain, note})
	}
	if len(a.Read.Samples) > 0 {
		p.Gap()
		p.Title(countLines(a.Read.Unknown) + " not understood")
		for _, s := range a.Read.Samples {
			place := s.File
			if s.Line > 0 {
				place += ":" + strconv.Itoa(s.Line)
			}
			p.Line(4, Span{Faint, "  " + place + "  "}, Span{Plain, s.Text})
		}
		if rest := a.Read.Unknown - len(a.Read.Samples); rest > 0 {
			p.Line(2, Span{Faint, "  and " + thousands(rest) + " more, which were not kept"})
		}
	}
}
